"""How long what is kept: in full, then as a weighted sample, then as summaries, then not at all."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pyarrow as pa
from django.db import transaction
from django.db.models import Min, Q, QuerySet

from wirbel.core import arrow
from wirbel.core.thinning import Keys, random_numbers, traces_kept_whole
from wirbel.core.topology.parents import trace_keys
from wirbel.store import blocks, bloom, partitions
from wirbel.store.models import Block, Retention, Stream
from wirbel.store.streams import HOUR_NS, LAYOUTS, PERIODS_NS

SHARE = 0.1  # of ordinary records that a thinned block keeps
AT_ONCE = 50  # blocks dropped in one transaction
LONG_NS = 72 * HOUR_NS  # records kept for longer may stay until their day is over


@dataclass(frozen=True)
class Kept:
    """Hours in full, hours as a sample after that (0: none), days as summaries."""

    full_hours: int
    thinned_hours: int
    summary_days: int


DEFAULTS: dict[str, Kept] = {
    Stream.SPANS: Kept(48, 14 * 24, 0),
    Stream.LOGS: Kept(48, 14 * 24, 0),
    Stream.POINTS: Kept(8 * 24, 0, 400),
    Stream.CELLS: Kept(15 * 24, 0, 400),
}


def kept(stream: str, environment: str) -> Kept:
    own = Retention.objects.filter(stream=stream, environment=environment).first()
    return Kept(own.full_hours, own.thinned_hours, own.summary_days) if own else DEFAULTS[stream]


@dataclass(frozen=True)
class Held:
    """Since when an environment's records of a stream are there, ns; None where there are none."""

    full: int | None = None
    sample: int | None = None
    summaries: int | None = None


def held() -> dict[tuple[str, str], Held]:
    """By environment and stream."""
    whole, thinned, summed = Q(step=0, thinned=False), Q(step=0, thinned=True), Q(step__gt=0)
    rows = Block.objects.order_by().values_list("environment", "stream")
    rows = rows.annotate(full=Min("time_from", filter=whole), sample=Min("time_from", filter=thinned), summaries=Min("time_from", filter=summed))
    return {(environment, stream): Held(*since) for environment, stream, *since in rows}


def thin_once(now_ns: int) -> bool:
    """Thins one block that is no longer kept in full; False if there is none."""
    for stream, environment in _held():
        rule = kept(stream, environment)
        if not rule.thinned_hours or LAYOUTS[stream].thin is None:
            continue
        due = Block.objects.filter(stream=stream, environment=environment, thinned=False, step=0, time_to__lt=now_ns - rule.full_hours * HOUR_NS)
        for block in due.order_by("hour").values_list("id", flat=True)[:1]:
            _thin(stream, block)
            return True
    return False


def _held() -> list[tuple[str, str]]:
    return list(Block.objects.order_by("stream", "environment").values_list("stream", "environment").distinct())


def _thin(stream: str, block_id: int) -> None:
    thin = LAYOUTS[stream].thin
    assert thin is not None
    with transaction.atomic():
        locked = Block.objects.select_for_update(skip_locked=True).filter(id=block_id)
        level = locked.values_list("level", flat=True).first()
        if level is None:
            return
        table = LAYOUTS[stream].combine(blocks.read(Block.objects.filter(id=block_id)))
        table = thin(table, SHARE, _kept_whole_elsewhere(stream, block_id, table))
        if stream == Stream.SPANS:
            table = blocks.with_parent_rows(table)
        made = blocks.make(stream, table, max(level, 1), thinned=True)
        partitions.lock_to_write()
        locked.delete()
        partitions.insert(made)


_NEEDED_TO_THIN = ["trace_id", "parent_id", "service", "operation", "start", "duration", "outcome", "weight"]


def _kept_whole_elsewhere(stream: str, block_id: int, table: pa.Table) -> Keys:
    """Keys of traces that other blocks of spans at the same time keep whole, among those of a table: a trace stays in one piece."""
    ids = arrow.ids(table["trace_id"], 16)
    ids = np.unique(ids[random_numbers(trace_keys(ids)) >= SHARE], axis=0)  # the others are in the sample anyhow
    if not len(ids):
        return np.zeros(0, np.uint64)
    own = Block.objects.filter(id=block_id).values("environment", "time_from", "time_to").get()
    near = Block.objects.filter(
        stream=Stream.SPANS, step=0, environment=own["environment"], time_to__gte=own["time_from"] - HOUR_NS, time_from__lte=own["time_to"] + HOUR_NS
    ).exclude(stream=stream, id=block_id)
    found = [np.zeros(0, np.uint64)]
    for other, thinned, known in near.values_list("id", "thinned", "trace_filter"):
        if not bloom.may_contain(bytes(known), ids).any():
            continue
        for part in blocks.read(Block.objects.filter(id=other), _NEEDED_TO_THIN):
            # What is left of a thinned block is the sample and what it keeps whole.
            found.append(trace_keys(arrow.ids(part["trace_id"], 16)) if thinned else traces_kept_whole(part, SHARE))
    return np.unique(np.concatenate(found))


def drop_once(now_ns: int) -> bool:
    """Drops what is kept no longer, some of it; False if there is nothing."""
    held = _held()
    return _drop_partition(held, now_ns) or _drop_blocks(held, now_ns)


def _limit(stream: str, environment: str, step: int, now_ns: int) -> int:
    """Time (ns) before which blocks are due."""
    rule = kept(stream, environment)
    hours = rule.summary_days * 24 if step else rule.full_hours + rule.thinned_hours
    return now_ns - hours * HOUR_NS


def _due(stream: str, environment: str, step: int, limit: int) -> QuerySet[Block]:
    due = Block.objects.filter(stream=stream, environment=environment, step=step, time_to__lt=limit)
    # Fresh blocks of a stream with summaries wait until they have some: the worker merges them soon.
    return due.filter(level__gt=0) if LAYOUTS[stream].summarise and not step else due


def _drop_partition(held: list[tuple[str, str]], now_ns: int) -> bool:
    """The usual way: a day goes when everything in it is due."""
    for partition in partitions.existing():
        limits = {environment: _limit(stream, environment, partition.step, now_ns) for stream, environment in held if stream == partition.stream}
        if any(partition.end > limit for limit in limits.values()):
            continue
        inside = Block.objects.filter(stream=partition.stream, step=partition.step, hour__gte=partition.start, hour__lt=partition.end)
        due = sum(
            inside.filter(id__in=_due(partition.stream, environment, partition.step, limit).values("id")).count() for environment, limit in limits.items()
        )
        if due == inside.count() and partitions.drop(partition):
            return True
    return False


def _drop_blocks(held: list[tuple[str, str]], now_ns: int) -> bool:
    """Block by block where an environment keeps a stream for a shorter time than another one, or only for so short that a day more is much."""
    for stream, environment in held:
        for step in PERIODS_NS:
            limit = _limit(stream, environment, step, now_ns)
            longest = min(_limit(stream, other, step, now_ns) for of, other in held if of == stream)
            if limit == longest and now_ns - limit > LONG_NS:
                continue
            ids = list(_due(stream, environment, step, limit).order_by("id").values_list("id", flat=True)[:AT_ONCE])
            if ids:
                Block.objects.filter(stream=stream, id__in=ids).delete()
                return True
    return False
