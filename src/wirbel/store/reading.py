"""Reading what is stored: records of a window, and one trace."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from dataclasses import dataclass
from typing import cast

import cachetools
import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from django.db.models import Max, Min, Q, QuerySet

from wirbel.core import arrow, words
from wirbel.core import cells as cell_model
from wirbel.core import served as served_model
from wirbel.core.signals import logs as log_model
from wirbel.core.signals import points as point_model
from wirbel.core.signals import spans
from wirbel.core.signals.changes import Change
from wirbel.core.topology import graph
from wirbel.core.topology.graph import EntityGraph, EntityId
from wirbel.store import blocks, bloom, fresh, query_limits
from wirbel.store.block_work import Window
from wirbel.store.catalogue import MOST_RELATIONS
from wirbel.store.models import Block, ChangeRecord, Relation, Stream
from wirbel.store.scan import Where, blocks_of, scan, snapshot
from wirbel.store.streams import HOUR_NS, SUMMARY_STEPS

FEW_SERVICES = 200  # whose part of a block is small enough to be kept for the next question
MAX_CHANGES = 2_000  # of one window; the earliest of more are left out


def _inside(table: pa.Table, column: str, window: Window | None, services: tuple[str, ...] | None) -> pa.Table:
    """Rows whose ``column`` (a time, ns) lies in the window, of some services."""
    if window is not None:
        table = table.filter(pc.and_(pc.greater_equal(table[column], window[0]), pc.less(table[column], window[1])))
    return table if services is None else table.filter(pa.array(arrow.place_in(table["service"], services) >= 0))


@dataclass(frozen=True)
class Rows:
    """Work of a scan: the rows themselves whose ``column`` (a time, ns) lies in the window, of some services."""

    column: str
    services: tuple[str, ...] | None = None
    words: tuple[str, ...] = ()
    metric: str | None = None

    def __call__(self, table: pa.Table, window: Window | None) -> pa.Table:
        table = _inside(table, self.column, window, self.services)
        if self.metric is not None:
            table = table.filter(pc.equal(table["metric"], self.metric))
        return table.take(pa.array(words.rows_with_all(table["body"], list(self.words)))) if self.words else table


def _of(services: Sequence[str] | None) -> tuple[str, ...] | None:
    return None if services is None else tuple(services)


def cells(
    start: int, end: int, environment: str | None = None, services: Sequence[str] | None = None, columns: Sequence[str] | None = None, step: int = 0
) -> pa.Table:
    """Cells whose minute lies in [start, end) ns. Cells of one key may come in several rows; they add.

    With ``step`` (600 or 3600), cells of stretches of so many seconds, which begin in the window.
    """
    wanted = None if columns is None else list(dict.fromkeys([*columns, "minute", "environment", "service"]))
    parts = scan(Where(Stream.CELLS, start, end, environment, _of(services), step), wanted, Rows("minute", _of(services)))
    if parts:
        return pa.concat_tables(parts)
    empty = cell_model.CELL_SCHEMA.empty_table()
    return empty if wanted is None else empty.select(wanted)


@dataclass(frozen=True)
class Served:
    """Work of a scan of what is kept in brief: rows whose minute lies in the window, of some services."""

    services: tuple[str, ...] | None = None
    together: bool = False  # as if they were one

    def __call__(self, table: pa.Table, window: Window | None) -> pa.Table:
        table = _inside(table, "minute", window, self.services)
        return served_model.together(table) if self.together else table


def served(
    start: int,
    end: int,
    environment: str | None = None,
    services: Sequence[str] | None = None,
    step: int = 0,
    together: bool = False,
    columns: Sequence[str] | None = None,
) -> pa.Table:
    """What services served in the minutes (with ``step``, stretches) that begin in [start, end) ns: see core.served. What has one key may come in several rows; they add.

    ``together``: what they all served, under no name. ``columns``: beside the key, of all.
    """
    few = services is not None and len(services) <= FEW_SERVICES
    wanted = None if columns is None else tuple(dict.fromkeys([*served_model.KEYS, *columns]))
    # A long list would take longer to compare with that of each block than it saves.
    where, work = Where(Stream.CELLS, start, end, environment, _of(services) if few else None, step), Served(_of(services), together)
    parts = scan(where, wanted, work, small=few or together, brief=True)
    return arrow.widest(parts).unify_dictionaries() if parts else served_model.SERVED_SCHEMA.empty_table()


def headlines(start: int, end: int, environment: str | None = None, services: Sequence[str] | None = None, step: int = 0) -> pa.Table:
    """The same as far as counts and the headline percentile need it: sketches, most of all that is to be read, only where rows have to be added."""
    brief = served(start, end, environment, services, step, columns=served_model.OF_HEADLINE)
    again = served_model.repeated(brief)
    if not again:
        return brief
    whole = served(start, end, environment, again, step, columns=(*served_model.OF_HEADLINE, *served_model.SKETCH))
    rest = brief.filter(pa.array(arrow.place_in(brief["service"], again) < 0))
    for name in served_model.SKETCH:
        rest = rest.append_column(name, pa.nulls(rest.num_rows, whole.schema.field(name).type))
    return arrow.widest([rest.select(whole.column_names), whole]).unify_dictionaries()


@dataclass(frozen=True)
class FindServing:
    """Work of a scan of what is kept in brief: who of some services, or of all, served anything, and whether anybody waited for it."""

    services: tuple[str, ...] | None = None

    def __call__(self, table: pa.Table, window: Window | None) -> pa.Table:
        mine = _inside(table, "minute", window, self.services)
        service, names = arrow.codes(mine["service"])
        answers = np.bincount(service, weights=arrow.numbers(mine["answers"]), minlength=len(names)) > 0
        return pa.table({"service": pa.array(names, pa.string()), "answers": answers})


def serving(start: int, end: int, environment: str | None = None, services: Sequence[str] | None = None, step: int = 0) -> dict[str, bool]:
    """Services, of all or of some, that served anything in the minutes or stretches that begin in [start, end) ns, and whether anybody waits for what they answer."""
    few = services is not None and len(services) <= FEW_SERVICES
    where = Where(Stream.CELLS, start, end, environment, _of(services) if few else None, step)
    parts = scan(where, ("minute", "service", "answers"), FindServing(_of(services)), small=True, brief=True)
    found = FindServing()(pa.concat_tables(parts), None) if parts else None
    return {} if found is None else dict(zip(found["service"].to_pylist(), found["answers"].to_pylist(), strict=True))


def whole_tables(table: pa.Table, window: Window | None) -> pa.Table:
    """Work of a scan: everything, in the window or not."""
    return table


def window_spans(start: int, end: int, environment: str | None = None, columns: Sequence[str] | None = None, service: str | None = None) -> pa.Table:
    """Whole traces' spans of the blocks that touch [start, end) ns; rows outside the window may come too.

    With ``service``, only blocks that hold spans of it. What is not packed yet is read as well.
    """
    if columns is not None:
        columns = [*columns, *blocks.IDENTITY]
    where = Where(Stream.SPANS, start, end, environment, None if service is None else (service,), fresh=True)
    parts = scan(where, columns, whole_tables)
    found = spans.concat(parts)
    # Until it is packed, a span that was sent twice is there twice.
    return spans.deduplicate(found) if parts.has_fresh else found


def logs(
    start: int,
    end: int,
    environment: str | None = None,
    services: Sequence[str] | None = None,
    columns: Sequence[str] | None = None,
    containing: str | None = None,
) -> pa.Table:
    """Log records with a time in [start, end) ns, in order of time; with ``containing``, those whose text has all its words. Raises InvalidQuestion for too many."""
    asked = tuple(words.asked_for(containing or ""))
    if columns is not None:
        columns = [*columns, "time", "service", *(["body"] if asked else [])]
    where = Where(Stream.LOGS, start, end, environment, _of(services), words=asked, fresh=True)
    parts = scan(where, columns, Rows("time", _of(services), asked))
    return arrow.concat(parts, log_model.LOG_SCHEMA).sort_by([("time", "ascending")])


def points(start: int, end: int, environment: str | None = None, services: Sequence[str] | None = None, metric: str | None = None, step: int = 0) -> pa.Table:
    """Samples with a time in [start, end) ns, series by series in order of time, each once.

    With ``step`` (600 or 3600), summaries of stretches of so many seconds: see core.signals.points.summarise.
    """
    where = Where(Stream.POINTS, start, end, environment, _of(services), step, fresh=True)
    parts = scan(where, None, Rows("time", _of(services), metric=metric))
    return point_model.merge_summaries(parts, step * 10**9) if step else point_model.combine(parts)


def finest_step(stream: str, start: int, environment: str | None = None) -> int:
    """The finest step (s; 0: as they were sent, or minutes) in which cells or samples are still kept from ``start`` on.

    What is older than the details are kept for is answered from summaries, rather than shown as if nothing had been there.
    """
    first = query_limits.once(("steps", stream, environment), lambda: _first_of_each_step(stream, environment))
    if 0 not in first or start >= first[0] - HOUR_NS:
        return 0
    return next((step for step in SUMMARY_STEPS if step in first and first[step] < first[0] - HOUR_NS), 0)


def _first_of_each_step(stream: str, environment: str | None) -> dict[int, int]:
    return dict(blocks_of(environment).filter(stream=stream).order_by().values_list("step").annotate(first=Min("time_from")))


@dataclass(frozen=True)
class Detail:
    """What an answer about a window rests on: records in full, a weighted sample of them, or summaries only."""

    thinned_until: int | None  # ns: before it, ordinary records are a sample
    nothing_before: int | None  # ns: no records are kept from before it


def detail(stream: str, start: int, end: int, environment: str | None = None) -> Detail:
    records = blocks_of(environment).filter(stream=stream, step=0)
    inside = records.filter(time_to__gte=start, time_from__lt=end)
    first = records.aggregate(first=Min("time_from"))["first"]
    thinned = inside.filter(thinned=True).aggregate(last=Max("time_to"))["last"]
    return Detail(min(thinned, end) if thinned else None, first if first is not None and first > start else None)


def trace(trace_id: bytes) -> pa.Table:
    """All stored spans of one trace, empty if there are none."""
    target = pa.scalar(trace_id, pa.binary(16))
    with snapshot():
        held = fresh.read(Stream.SPANS).table
        parts = blocks.traces_in(blocks_of_trace(trace_id), trace_id)
    return spans.combine([*parts, *([] if held is None else [held.filter(pc.equal(held["trace_id"], target))])])


def blocks_of_trace(trace_id: bytes) -> list[int]:
    """Ids of the blocks that may hold spans of a trace, at any time: a long or queued one may lie in distant ones."""
    words = np.frombuffer(trace_id, np.uint64).reshape(1, 2)
    held = Block.objects.filter(stream=Stream.SPANS, step=0, trace_filter__isnull=False)
    found = [*blocks.in_binary(held.annotate(segment=bloom.segment_of("trace_filter", words)).values_list("id", "segment"))]
    may = bloom.segments_may_contain([segment for _, segment in found], words)
    return [block for (block, _), known in zip(found, may, strict=True) if known]


def changes(start: int, end: int, environment: str | None = None, services: Sequence[str] | None = None) -> list[Change]:
    """Changes that touch [start, end) ns, in order of time; with ``services``, those of them and those of none: of hosts, databases or flags."""
    return [as_change(record) for record in reversed(changes_touching(start, end, environment, services).order_by("-at")[:MAX_CHANGES])]


def changes_touching(start: int, end: int, environment: str | None, services: Sequence[str] | None) -> QuerySet[ChangeRecord]:
    """The records of changes that touch [start, end) ns: see :func:`changes`."""
    found = ChangeRecord.objects.filter(at__lt=end).exclude(until__isnull=False, until__lt=start).exclude(until__isnull=True, at__lt=start)
    if environment is not None:
        found = found.filter(Q(environment=environment) | Q(environment__isnull=True))
    if services is not None:
        found = found.filter(Q(service__any_of=services) | Q(service__isnull=True))
    return found


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


def entity_graph(start: int, end: int, environment: str | None = None) -> EntityGraph:
    """What was seen to call, run on, be part of or use what at some time in [start, end) ns."""
    found = Relation.objects.filter(first_seen__lt=end, last_seen__gte=start)
    found = found if environment is None else found.filter(environment=environment)
    return EntityGraph(
        graph.Relation(
            r.environment, EntityId(r.subject_kind, r.subject), cast(graph.Verb, r.verb), EntityId(r.object_kind, r.object), r.first_seen, r.last_seen
        )
        for r in found[:MOST_RELATIONS]
    )


def called(start: int, end: int, environment: str | None = None, by: Sequence[str] | None = None) -> set[str]:
    """Services that a service, or one of some services, was seen to call at some time in [start, end) ns."""
    found = Relation.objects.filter(verb="calls", object_kind="service", subject_kind="service", first_seen__lt=end, last_seen__gte=start)
    found = found if environment is None else found.filter(environment=environment)
    found = found if by is None else found.filter(subject__in=by)
    return set(found.order_by().values_list("object", flat=True).distinct()[:MOST_RELATIONS])


def entry_points(start: int, end: int, environment: str | None = None, among: Sequence[str] | None = None, step: int = 0) -> list[str] | None:
    """Of all services, or of some, those that none of them was seen to call, where people come in. None where nothing is known of that yet."""
    serves, asked = serving(start, end, environment, among, step), called(start, end, environment, among)
    answering = {name for name, answers in serves.items() if answers}
    # People wait for answers; consumers and jobs count only where nothing answers anybody. All, if each is called.
    return sorted(answering - asked) or sorted(serves.keys() - asked) or sorted(serves) or None


def graph_of_hours(start: int, end: int, environment: str | None = None) -> EntityGraph:
    """The same of all whole hours that [start, end) ns touches, up to a minute old: of thousands of services it takes a second to read."""
    newest = Relation.objects.aggregate(newest=Max("id"))["newest"] or 0
    return _graph_of_hours(start // HOUR_NS, -(-end // HOUR_NS), environment, newest)


@cachetools.cached(cachetools.TTLCache(8, ttl=60), lock=threading.Lock())
def _graph_of_hours(first: int, last: int, environment: str | None, newest: int) -> EntityGraph:
    """``newest``: id of the newest relation."""
    return entity_graph(first * HOUR_NS, last * HOUR_NS, environment)


@dataclass(frozen=True)
class StoredChanges:
    """Ids of all changes given, and how many of them were not stored before."""

    ids: list[str]
    fresh: int


def store_changes(given: list[Change]) -> StoredChanges:
    """Stores changes durably; one that is stored already stays as it is."""
    ids = [c.id for c in given]
    before = ChangeRecord.objects.filter(identity__in=ids).count()
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
    return StoredChanges(ids, ChangeRecord.objects.filter(identity__in=ids).count() - before)


def time_range(environment: str | None = None, summaries: bool = False) -> tuple[int, int] | None:
    """Earliest and latest time of all stored records, ns; None if there are none. With ``summaries``, that of summaries where no record is left."""
    held = blocks_of(environment)
    for which in (held.filter(step=0), held.exclude(step=0)) if summaries else (held.filter(step=0),):
        found = which.aggregate(low=Min("time_from"), high=Max("time_to"))
        if found["low"] is not None:
            return found["low"], found["high"]
    return None
