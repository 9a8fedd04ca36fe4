"""How long what is kept: in full, then as a weighted sample, then as summaries, then not at all."""

from __future__ import annotations

from dataclasses import dataclass

from django.db import transaction

from wirbel.store import blocks
from wirbel.store.models import Block, Retention, Stream
from wirbel.store.packer import lock_to_write
from wirbel.store.streams import HOUR_NS, LAYOUTS

SHARE = 0.1  # of ordinary records that a thinned block keeps
AT_ONCE = 50  # blocks dropped in one transaction


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
        table = thin(table, SHARE)
        if stream == Stream.SPANS:
            table = blocks.with_parent_rows(table)
        made = blocks.make(stream, table, max(level, 1), thinned=True)
        lock_to_write()
        Block.objects.bulk_create(made, batch_size=1)
        locked.delete()


def drop_once(now_ns: int) -> bool:
    """Drops some blocks that are kept no longer; False if there are none."""
    for stream, environment in _held():
        rule = kept(stream, environment)
        records = now_ns - (rule.full_hours + rule.thinned_hours) * HOUR_NS
        summaries = now_ns - rule.summary_days * 24 * HOUR_NS
        of_stream = Block.objects.filter(stream=stream, environment=environment)
        # Fresh blocks of a stream with summaries wait until they have some: the worker merges them soon.
        due = of_stream.filter(step=0, time_to__lt=records)
        if LAYOUTS[stream].summarise:
            due = due.filter(level__gt=0)
        for query in (due, of_stream.filter(step__gt=0, time_to__lt=summaries)):
            ids = list(query.order_by("id").values_list("id", flat=True)[:AT_ONCE])
            if ids:
                Block.objects.filter(id__in=ids).delete()
                return True
    return False
