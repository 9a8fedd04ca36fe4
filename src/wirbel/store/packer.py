"""Segments to blocks, and small blocks to larger ones; each step is one transaction.

A crash at any point leaves either the segments or the blocks made from them, never both and
never neither. Several workers share the work: what one has locked, others skip.
"""

from __future__ import annotations

import logging
import time
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
from django.db import OperationalError, transaction
from django.db.models import Count, F, Max, Q, QuerySet

from wirbel.core import arrow, cells
from wirbel.core.topology.parents import Address, keys, resolve
from wirbel.store import blocks, bloom, catalogue, live, partitions
from wirbel.store.models import Block, PeerAddress, Segment, Stream
from wirbel.store.streams import DAY_NS, LAYOUTS

log = logging.getLogger(__name__)
MAX_SEGMENTS = 2_000  # in one pack
MAX_SEGMENT_BYTES = 32 * 2**20  # in one pack; this and the next bound the worker's memory
MAX_SEGMENT_ROWS = 400_000
FAN_IN = 8  # blocks of one period and level that are merged
SETTLED_NS = 2 * 3600 * 10**9  # after the start of an hour its fresh blocks are merged though they be few
DAY_LEVEL = 10  # of blocks that hold what is left of a day
DAYS_OLD_NS = 48 * 3600 * 10**9  # from then on days are put together
ADDRESS_NS = 3600 * 10**9  # without an answer from it, after which an address names nobody
SENT = (Stream.SPANS, Stream.LOGS, Stream.POINTS)


def pack(stream: str = Stream.SPANS) -> int:
    """Packs the oldest segments of a stream into blocks; returns the number of rows stored, or 0 if none waited."""
    try:
        return _pack(stream)
    except OperationalError:  # the database went away: the same again later
        raise
    except Exception:
        log.exception("packing %s failed; trying one segment at a time", stream)
        return _pack_one_by_one(stream)


def _pack(stream: str, most: int = MAX_SEGMENTS, only: int | None = None) -> int:
    with transaction.atomic():
        segments = _take_segments(stream, most, only)
        if segments:
            table = LAYOUTS[stream].combine([blocks.from_ipc(data) for _, _, data in segments])
            write(stream, table)
            catalogue.note_arrivals(stream, table)
            catalogue.note_late(stream, table, time.time_ns())
            Segment.objects.filter(id__in=[segment for segment, _, _ in segments]).delete()
            live.announce(stream)
    return sum(rows for _, rows, _ in segments)


def _pack_one_by_one(stream: str) -> int:
    """So that what cannot be packed keeps nothing else from it; it is set aside with its reason, not thrown away."""
    total = 0
    for segment in Segment.objects.filter(stream=stream, error="").order_by("id").values_list("id", flat=True)[:MAX_SEGMENTS]:
        try:
            total += _pack(stream, only=segment)
        except OperationalError:
            raise
        except Exception as error:
            log.exception("segment %s is set aside", segment)
            Segment.objects.filter(id=segment).update(error=f"{type(error).__name__}: {error}"[:500])
    return total


def pack_all() -> int:
    total = 0
    for stream in SENT:
        while count := pack(stream):
            total += count
    return total


def _take_segments(stream: str, most: int, only: int | None) -> list[tuple[int, int, bytes]]:
    """Ids, numbers of rows and bytes of segments that no other worker has."""
    taken: list[int] = []
    size = rows = 0
    query = Segment.objects.filter(stream=stream, error="").select_for_update(skip_locked=True).order_by("id")
    if only is not None:
        query = query.filter(id=only)
    for segment_id, bytes_held, rows_held in query.values_list("id", "size", "rows")[:most]:
        size, rows = size + bytes_held, rows + rows_held
        if taken and (size > MAX_SEGMENT_BYTES or rows > MAX_SEGMENT_ROWS):
            break
        taken.append(segment_id)
    return list(blocks.in_binary(Segment.objects.filter(id__in=taken).order_by("id").values_list("id", "rows", "data"))) if taken else []


@dataclass(frozen=True)
class _Made:
    """What a table becomes; made before the lock is taken, because that is most of the work."""

    table: pa.Table
    blocks: list[Block]
    learned: dict[Address, str]
    newest: int = 0  # start of the latest span, ns


def write(stream: str, table: pa.Table, level: int = 0) -> None:
    """Stores a combined table as blocks, with what is derived from it. Call inside a transaction."""
    if stream != Stream.SPANS:
        made = _Made(table, _blocks_of(stream, table, level), {})
        partitions.lock_to_write()
    else:
        newest = Block.objects.aggregate(newest=Max("id"))["newest"] or 0
        made = _make_spans(_not_stored(table, 0), level)
        partitions.lock_to_write()
        # Another worker may have stored the same spans meanwhile, from another request.
        again = _not_stored(made.table, newest)
        if again.num_rows < made.table.num_rows:
            made = _make_spans(again, level)
    PeerAddress.objects.bulk_create(
        [
            PeerAddress(environment=environment, address=address, service=service, last_seen=made.newest)
            for (environment, address), service in sorted(made.learned.items())
        ],
        update_conflicts=True,
        unique_fields=["environment", "address"],
        update_fields=["service", "last_seen"],
    )
    partitions.insert(made.blocks)
    catalogue.remember(stream, made.table)


def write_summaries(stream: str, table: pa.Table, step: int, thinned: bool = False) -> None:
    """Stores summaries of ``step`` seconds (0: a sample of the records) of which the details were never here. Call inside a transaction."""
    if stream == Stream.SPANS:
        table = blocks.with_parent_rows(table)
    made = blocks.make(stream, table, DAY_LEVEL, step, thinned, None if step else DAY_NS)
    partitions.insert(made)
    catalogue.remember(stream, table)


def _make_spans(table: pa.Table, level: int) -> _Made:
    if not table.num_rows:
        return _Made(table, [], {})
    table = blocks.with_parent_rows(table)
    offset = table["parent_row"]
    parent = np.where(offset.is_valid().to_numpy(), offset.fill_null(0).to_numpy() + np.arange(table.num_rows), -1)
    start = arrow.numbers(table["start"])
    table, learned = resolve(table, parent, _known_addresses(table, int(start.min()), int(start.max())))
    derived = cells.derive(table)
    return _Made(table, _blocks_of(Stream.SPANS, table, level) + _blocks_of(Stream.CELLS, derived, level), learned, int(start.max()))


def _known_addresses(table: pa.Table, first: int, last: int) -> dict[Address, str]:
    """Who was seen to answer at the addresses that are called in a table, near in time to it."""
    called = [name for name in table["peer"].unique().to_pylist() if name]
    near = PeerAddress.objects.filter(address__in=called, last_seen__gte=first - ADDRESS_NS, last_seen__lte=last + ADDRESS_NS)
    return {(environment, address): service for environment, address, service in near.values_list("environment", "address", "service")}


def _blocks_of(stream: str, table: pa.Table, level: int) -> list[Block]:
    """Summaries are made when rows leave level 0, which each does once: at its first merge, or here."""
    return blocks.with_summaries(stream, table, level) if level else blocks.make(stream, table, level)


def _not_stored(table: pa.Table, newer_than: int) -> pa.Table:
    """The spans that no block with a larger id holds.

    A span sent again in another request would else be counted twice in the cells. Few blocks
    are opened: those of the same time whose filter knows one of the traces.
    """
    if not table.num_rows:
        return table
    layout = LAYOUTS[Stream.SPANS]
    near = Block.objects.filter(
        stream=Stream.SPANS, id__gt=newer_than, time_from__lte=int(layout.begins(table).max()), time_to__gte=int(layout.begins(table).min())
    )
    trace, span = arrow.ids(table["trace_id"], 16), arrow.ids(table["span_id"], 8)
    first = np.r_[True, (trace[1:] != trace[:-1]).any(axis=1)]
    distinct = trace[first]
    candidates = [block for block, held in near.values_list("id", "trace_filter") if bloom.may_contain(bytes(held), distinct).any()]
    stored = np.zeros(len(span), np.bool_)
    own = keys(trace, span)
    for part in blocks.read(Block.objects.filter(id__in=candidates), ["trace_id", "span_id"]):
        stored |= np.isin(own, keys(arrow.ids(part["trace_id"], 16), arrow.ids(part["span_id"], 8)))
    return table.filter(pa.array(~stored)) if stored.any() else table


def merge_once(now_ns: int | None = None) -> bool:
    """Merges the blocks of one hour (of a summary: one longer period) that are many and small, or still fresh though it is long over;
    or the small blocks of a day that is kept only as a sample, or of cells and points that are days old.

    False if there is nothing to merge.
    """
    now = time.time_ns() if now_ns is None else now_ns
    small = Block.objects.filter(rows__lt=blocks.MAX_ROWS // 2)
    crowded = (
        (small | Block.objects.filter(level=0))
        .filter(level__lt=DAY_LEVEL)
        .values("stream", "environment", "step", "hour", "level", "thinned")
        .annotate(count=Count("id"))
        .filter(Q(count__gte=FAN_IN) | Q(level=0, hour__lt=now - SETTLED_NS))
        .order_by("hour", "level")[:20]
    )
    if any(_merge_hour(**{key: value for key, value in group.items() if key != "count"}) for group in crowded):
        return True
    old = small.filter(step=0, level__gt=0, hour__lt=now - DAYS_OLD_NS).filter(Q(thinned=True) | Q(stream__in=(Stream.CELLS, Stream.POINTS)))
    days = old.values("stream", "environment", "thinned", day=F("hour") / DAY_NS).annotate(count=Count("id")).filter(count__gte=FAN_IN).order_by("day")[:20]
    return any(_merge_day(**{key: value for key, value in group.items() if key != "count"}) for group in days)


def _merge_hour(stream: str, environment: str, step: int, hour: int, level: int, thinned: bool) -> bool:
    group = Block.objects.filter(stream=stream, environment=environment, step=step, hour=hour, level=level, thinned=thinned)
    if level:  # large ones stay as they are; but each leaves level 0 once, with its summaries
        group = group.filter(rows__lt=blocks.MAX_ROWS // 2)

    def make(tables: list[pa.Table]) -> list[Block]:
        if step:
            merge_summaries = LAYOUTS[stream].merge_summaries
            assert merge_summaries is not None
            return blocks.make(stream, merge_summaries(tables, step * 10**9), level + 1, step)
        merged = _combined(stream, tables)
        if not level:
            merged = _not_summarised(stream, environment, merged)
        return blocks.make(stream, merged, level + 1, thinned=thinned) if level else blocks.with_summaries(stream, merged, level + 1)

    return _merge(group, make, least=2 if level else 1)


def _not_summarised(stream: str, environment: str, table: pa.Table) -> pa.Table:
    """The records of which no summary has been made: those that no block beyond level 0 holds. Few are opened: those of the same time."""
    layout = LAYOUTS[stream]
    if layout.not_in is None:
        return table
    near = Block.objects.filter(stream=stream, environment=environment, step=0, level__gt=0)
    near = near.filter(time_from__lte=int(layout.ends(table).max()), time_to__gte=int(layout.begins(table).min()))
    return layout.not_in(table, blocks.read(near, layout.identity))


def _merge_day(stream: str, environment: str, thinned: bool, day: int) -> bool:
    group = Block.objects.filter(stream=stream, environment=environment, step=0, thinned=thinned, level__gt=0, rows__lt=blocks.MAX_ROWS // 2)
    group = group.filter(hour__gte=day * DAY_NS, hour__lt=(day + 1) * DAY_NS)
    return _merge(group, lambda tables: blocks.make(stream, _combined(stream, tables), DAY_LEVEL, thinned=thinned, period=DAY_NS), least=2)


def _combined(stream: str, tables: list[pa.Table]) -> pa.Table:
    merged = LAYOUTS[stream].combine(tables)
    return blocks.with_parent_rows(merged) if stream == Stream.SPANS else merged


def _merge(group: QuerySet[Block], make: Callable[[list[pa.Table]], list[Block]], least: int) -> bool:
    """Puts blocks in place of as many of the group as make one of full size; False if there are fewer than ``least``."""
    with transaction.atomic():
        locked = list(group.select_for_update(skip_locked=True).order_by("hour", "id").values_list("id", "rows")[: FAN_IN * 4])
        chosen: list[int] = []
        rows = 0
        for block_id, count in locked:
            if rows + count > blocks.MAX_ROWS and chosen:
                break
            rows += count
            chosen.append(block_id)
        if len(chosen) < least:
            return False
        made = make(blocks.read(Block.objects.filter(id__in=chosen)))
        partitions.lock_to_write()
        group.filter(id__in=chosen).delete()
        partitions.insert(made)
    return True
