"""Reading what is stored: cells and spans of a window, and one trace."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from django.db import transaction
from django.db.models import Max, Min, Q

from wirbel.core import cells as cell_model
from wirbel.core.signals import spans
from wirbel.core.signals.changes import Change
from wirbel.store import blocks, bloom
from wirbel.store.models import Block, ChangeRecord, Segment, Stream

MAX_CHANGES = 2_000  # of one window; the earliest of more are left out


def _overlapping(stream: str, start: int, end: int):  # type: ignore[no-untyped-def]
    return Block.objects.filter(stream=stream, time_to__gte=start, time_from__lt=end)


def _environment_filter(table: pa.Table, environment: str | None) -> pa.Table:
    return table if environment is None else table.filter(pc.equal(table["environment"], environment))


def cells(start: int, end: int, environment: str | None = None, services: Sequence[str] | None = None, columns: Sequence[str] | None = None) -> pa.Table:
    """Cells whose minute lies in [start, end) ns. Cells of one key may come in several rows; they add."""
    found = _overlapping(Stream.CELLS, start, end)
    if services is not None:
        found = found.filter(services__overlap=list(services))
    wanted = None if columns is None else list(dict.fromkeys([*columns, "minute", "environment", "service"]))
    kept = []
    for table in blocks.read(found, wanted):
        if services is not None:
            table = table.filter(pc.is_in(table["service"], value_set=pa.array(list(services), pa.string())))
        held = pc.min_max(table["minute"]).as_py()
        if table.num_rows and (held["min"] < start or held["max"] >= end):  # most blocks lie inside whole
            table = table.filter(pc.and_(pc.greater_equal(table["minute"], start), pc.less(table["minute"], end)))
        kept.append(_environment_filter(table, environment))
    if kept:
        return pa.concat_tables(kept)
    empty = cell_model.CELL_SCHEMA.empty_table()
    return empty if wanted is None else empty.select(wanted)


def window_spans(start: int, end: int, environment: str | None = None, columns: Sequence[str] | None = None, service: str | None = None) -> pa.Table:
    """Whole traces' spans of the blocks that touch [start, end) ns; rows outside the window may come too.

    With ``service``, only blocks that hold spans of it. Segments not yet packed are read as well:
    first, so that one packed meanwhile is seen twice rather than not at all.
    """
    fresh = [
        blocks.from_ipc(segment.data) for segment in Segment.objects.filter(stream=Stream.SPANS, time_to__gte=start, time_from__lt=end).order_by("id")[:500]
    ]
    if columns is not None:
        columns = list(dict.fromkeys([*columns, *blocks.IDENTITY]))
        fresh = [table.select([c for c in table.column_names if c in columns]) for table in fresh]
    found = _overlapping(Stream.SPANS, start, end)
    if service is not None:
        found = found.filter(services__contains=[service])
    with transaction.atomic():
        packed = blocks.read(found, columns)
    table = spans.concat(packed + fresh)
    if fresh and packed:
        table = spans.deduplicate(table)
    return _environment_filter(table, environment)


def trace(trace_id: bytes) -> pa.Table:
    """All stored spans of one trace, empty if there are none."""
    words = np.frombuffer(trace_id, np.uint64).reshape(1, 2)
    target = pa.scalar(trace_id, pa.binary(16))
    parts = [blocks.from_ipc(s.data) for s in Segment.objects.filter(stream=Stream.SPANS).order_by("-id")[:500]]
    candidates = [
        block for block, held in Block.objects.filter(stream=Stream.SPANS).values_list("id", "trace_filter").iterator() if bloom.may_contain(bytes(held), words)
    ]
    parts += blocks.read(Block.objects.filter(id__in=candidates))
    parts = [part.filter(pc.equal(part["trace_id"], target)) for part in parts]
    return spans.deduplicate(spans.conform(spans.concat(parts)))


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
    found = Block.objects.filter(stream=Stream.SPANS).aggregate(low=Min("time_from"), high=Max("time_to"))
    return None if found["low"] is None else (found["low"], found["high"])
