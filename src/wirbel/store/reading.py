"""Reading what is stored: records of a window, and one trace."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from django.db import connection, transaction
from django.db.models import Max, Min, Q, QuerySet

from wirbel.core import arrow
from wirbel.core import cells as cell_model
from wirbel.core.signals import logs as log_model
from wirbel.core.signals import points as point_model
from wirbel.core.signals import spans
from wirbel.core.signals.changes import Change
from wirbel.store import blocks, bloom
from wirbel.store.models import Block, ChangeRecord, Segment, Stream

MAX_CHANGES = 2_000  # of one window; the earliest of more are left out


MAX_FRESH = 2_000  # segments not yet packed that a question reads


@contextmanager
def snapshot() -> Iterator[None]:
    """All reads inside see one state of the store: what a worker moves meanwhile is neither missed nor seen twice."""
    outermost = not connection.in_atomic_block
    with transaction.atomic():
        if outermost:
            with connection.cursor() as cursor:
                cursor.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ")
        yield


def blocks_in(stream: str, start: int, end: int, environment: str | None = None, services: Sequence[str] | None = None, step: int = 0) -> QuerySet[Block]:
    """Blocks that may hold records of the window; with ``step``, summaries of so many seconds and what is too fresh for one."""
    found = Block.objects.filter(stream=stream, time_to__gte=start, time_from__lt=end)
    found = found.filter(Q(step=step) | Q(step=0, level=0)) if step else found.filter(step=0)
    if environment is not None:
        found = found.filter(environment__in=(environment, ""))
    if services is not None:
        found = found.filter(Q(services__overlap=list(services)) | Q(services=[]))
    return found


def _fresh(stream: str, start: int, end: int) -> list[pa.Table]:
    """What is durable but not yet packed."""
    found = Segment.objects.filter(stream=stream, time_to__gte=start, time_from__lt=end).order_by("id")[:MAX_FRESH]
    return [blocks.from_ipc(segment.data) for segment in found]


def _environment_filter(table: pa.Table, environment: str | None) -> pa.Table:
    if environment is None or pc.all(pc.equal(table["environment"], environment)).as_py():
        return table
    return table.filter(pc.equal(table["environment"], environment))


def _within(table: pa.Table, column: str, start: int, end: int) -> pa.Table:
    """Rows with start ≤ column < end; most blocks lie inside whole."""
    held = pc.min_max(table[column]).as_py()
    if not table.num_rows or (held["min"] >= start and held["max"] < end):
        return table
    return table.filter(pc.and_(pc.greater_equal(table[column], start), pc.less(table[column], end)))


def _of_services(table: pa.Table, services: Sequence[str] | None) -> pa.Table:
    return table if services is None else table.filter(pc.is_in(table["service"], value_set=pa.array(list(services), pa.string())))


def cells(
    start: int, end: int, environment: str | None = None, services: Sequence[str] | None = None, columns: Sequence[str] | None = None, step: int = 0
) -> pa.Table:
    """Cells whose minute lies in [start, end) ns. Cells of one key may come in several rows; they add.

    With ``step`` (600 or 3600), cells of stretches of so many seconds, which begin in the window.
    """
    wanted = None if columns is None else list(dict.fromkeys([*columns, "minute", "environment", "service"]))
    parts = blocks.read(blocks_in(Stream.CELLS, start, end, environment, services, step), wanted)
    if parts:
        return pa.concat_tables([_within(_of_services(_environment_filter(part, environment), services), "minute", start, end) for part in parts])
    empty = cell_model.CELL_SCHEMA.empty_table()
    return empty if wanted is None else empty.select(wanted)


def window_spans(start: int, end: int, environment: str | None = None, columns: Sequence[str] | None = None, service: str | None = None) -> pa.Table:
    """Whole traces' spans of the blocks that touch [start, end) ns; rows outside the window may come too.

    With ``service``, only blocks that hold spans of it. What is not packed yet is read as well.
    """
    if columns is not None:
        columns = list(dict.fromkeys([*columns, *blocks.IDENTITY]))
    with snapshot():
        fresh = _fresh(Stream.SPANS, start, end)
        packed = blocks.read(blocks_in(Stream.SPANS, start, end, environment, None if service is None else [service]), columns)
    if columns is not None:
        fresh = [table.select([c for c in table.column_names if c in columns]) for table in fresh]
    table = spans.concat(packed + fresh)
    if fresh:  # the packer removes what is there twice; here it may still be
        table = spans.deduplicate(table)
    return _environment_filter(table, environment)


def logs(start: int, end: int, environment: str | None = None, services: Sequence[str] | None = None, columns: Sequence[str] | None = None) -> pa.Table:
    """Log records with a time in [start, end) ns, in order of time."""
    if columns is not None:
        columns = list(dict.fromkeys([*columns, "time", "environment", "service"]))
    with snapshot():
        fresh = _fresh(Stream.LOGS, start, end)
        packed = blocks.read(blocks_in(Stream.LOGS, start, end, environment, services), columns)
    if columns is not None:
        fresh = [table.select([c for c in table.column_names if c in columns]) for table in fresh]
    parts = [_within(_of_services(_environment_filter(part, environment), services), "time", start, end) for part in packed + fresh]
    table = arrow.concat(parts, log_model.LOG_SCHEMA)
    return table.sort_by([("time", "ascending")])


def points(start: int, end: int, environment: str | None = None, services: Sequence[str] | None = None, metric: str | None = None, step: int = 0) -> pa.Table:
    """Samples with a time in [start, end) ns, series by series in order of time, each once.

    With ``step`` (600 or 3600), summaries of stretches of so many seconds: see core.signals.points.summarise.
    """
    with snapshot():
        fresh = _fresh(Stream.POINTS, start, end)
        packed = blocks.read(blocks_in(Stream.POINTS, start, end, environment, services, step))
    parts = [_within(_of_services(_environment_filter(part, environment), services), "time", start, end) for part in packed + fresh]
    if metric is not None:
        parts = [part.filter(pc.equal(part["metric"], metric)) for part in parts]
    return point_model.merge_summaries(parts, step * 10**9) if step else point_model.combine(parts)


@dataclass(frozen=True)
class Detail:
    """What an answer about a window rests on: records in full, a weighted sample of them, or summaries only."""

    thinned_until: int | None  # ns: before it, ordinary records are a sample
    nothing_before: int | None  # ns: no records are kept from before it


def detail(stream: str, start: int, end: int, environment: str | None = None) -> Detail:
    held = Block.objects.filter(stream=stream, step=0)
    held = held if environment is None else held.filter(environment__in=(environment, ""))
    inside = held.filter(time_to__gte=start, time_from__lt=end)
    first = held.aggregate(first=Min("time_from"))["first"]
    thinned = inside.filter(thinned=True).aggregate(last=Max("time_to"))["last"]
    return Detail(min(thinned, end) if thinned else None, first if first is not None and first > start else None)


def trace(trace_id: bytes) -> pa.Table:
    """All stored spans of one trace, empty if there are none."""
    words = np.frombuffer(trace_id, np.uint64).reshape(1, 2)
    target = pa.scalar(trace_id, pa.binary(16))
    with snapshot():
        parts = [blocks.from_ipc(s.data) for s in Segment.objects.filter(stream=Stream.SPANS).order_by("-id")[:MAX_FRESH]]
        held = Block.objects.filter(stream=Stream.SPANS).values_list("id", "trace_filter").iterator()
        candidates = [block for block, known in held if bloom.may_contain(bytes(known), words)[0]]
        parts += blocks.read(Block.objects.filter(id__in=candidates))
    return spans.combine([part.filter(pc.equal(part["trace_id"], target)) for part in parts])


def changes(start: int, end: int, environment: str | None = None, service: str | None = None) -> list[Change]:
    """Changes that touch [start, end) ns, in order of time."""
    found = ChangeRecord.objects.filter(at__lt=end).exclude(until__isnull=False, until__lt=start).exclude(until__isnull=True, at__lt=start)
    if environment is not None:
        found = found.filter(Q(environment=environment) | Q(environment__isnull=True))
    if service is not None:
        found = found.filter(service=service)
    return [as_change(record) for record in reversed(found.order_by("-at")[:MAX_CHANGES])]


def as_change(record: ChangeRecord) -> Change:
    return Change(
        id=record.identity,
        kind=record.kind,
        at=record.at,
        until=record.until,
        service=record.service,
        version=record.version,
        environment=record.environment,
        entity=record.entity,
        actor=record.actor,
        summary=record.summary,
        before=record.before,
        after=record.after,
        link=record.link,
    )


def store_changes(given: list[Change]) -> list[str]:
    """Stores changes durably; one that is stored already stays as it is. Returns all ids."""
    ChangeRecord.objects.bulk_create(
        [
            ChangeRecord(
                identity=c.id,
                kind=c.kind,
                at=c.at,
                until=c.until,
                service=c.service,
                version=c.version,
                environment=c.environment,
                entity=dict(c.entity),
                actor=c.actor,
                summary=c.summary,
                before=c.before,
                after=c.after,
                link=c.link,
            )
            for c in given
        ],
        ignore_conflicts=True,
    )
    return [c.id for c in given]


def time_range() -> tuple[int, int] | None:
    """Earliest start and latest end of all stored spans, ns; None if there are none."""
    found = Block.objects.filter(stream=Stream.SPANS, step=0).aggregate(low=Min("time_from"), high=Max("time_to"))
    return None if found["low"] is None else (found["low"], found["high"])
