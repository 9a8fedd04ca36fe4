"""Segments to blocks, and small blocks to larger ones; each step is one transaction.

A crash at any point leaves either the segments or the blocks made from them, never both and
never neither. Several workers share the work: what one has locked, others skip.
"""

from __future__ import annotations

from django.db import connection, transaction
from django.db.models import Count, Sum

from wirbel.core import cells
from wirbel.core.signals import spans
from wirbel.core.topology.parents import parent_rows, resolve
from wirbel.store import blocks
from wirbel.store.models import Block, PeerAddress, Segment, Service, Stream

MAX_SEGMENTS = 2_000  # in one pack
MAX_SEGMENT_BYTES = 64 * 2**20  # in one pack: bounds the worker's memory
FAN_IN = 8  # blocks of one hour and level that are merged
LIVE_CHANNEL = "wirbel_live"


def pack() -> int:
    """Packs the oldest segments into blocks; returns the number of spans packed, 0 if there were none."""
    with transaction.atomic():
        segments = _take_segments()
        if not segments:
            return 0
        table = spans.deduplicate(spans.conform(spans.concat([blocks.from_ipc(s.data) for s in segments])))
        write_spans(table)
        Segment.objects.filter(id__in=[s.id for s in segments]).delete()
        announce("spans")
    return table.num_rows


def pack_all() -> int:
    total = 0
    while count := pack():
        total += count
    return total


def _take_segments() -> list[Segment]:
    taken, size = [], 0
    query = Segment.objects.filter(stream=Stream.SPANS).select_for_update(skip_locked=True).order_by("id")
    for segment_id, bytes_held in query.values_list("id", "size")[:MAX_SEGMENTS]:
        size += bytes_held
        if taken and size > MAX_SEGMENT_BYTES:
            break
        taken.append(segment_id)
    return list(Segment.objects.filter(id__in=taken).order_by("id")) if taken else []


def write_spans(table: spans.pa.Table, level: int = 0) -> None:
    """Stores a deduplicated table of spans as blocks, with its cells and catalogue. Call inside a transaction."""
    parent = parent_rows(table)
    table, learned = resolve(table, parent, dict(PeerAddress.objects.values_list("address", "service")))
    PeerAddress.objects.bulk_create(
        [PeerAddress(address=a, service=s) for a, s in sorted(learned.items())],
        update_conflicts=True,
        unique_fields=["address"],
        update_fields=["service"],
    )
    Block.objects.bulk_create(blocks.make_span_blocks(table, parent, level), batch_size=1)
    derived = cells.derive(table)
    Block.objects.bulk_create(blocks.make_cell_blocks(derived, level), batch_size=1)
    _remember_services(derived)


def _remember_services(derived: spans.pa.Table) -> None:
    seen = derived.group_by(["environment", "service"]).aggregate([("minute", "min"), ("minute", "max")]).to_pylist()
    known = {(s.environment, s.name): s for s in Service.objects.filter(name__in=[row["service"] for row in seen])}
    fresh = []
    for row in sorted(seen, key=lambda r: (r["environment"], r["service"])):
        service = known.get((row["environment"], row["service"]))
        if service is None:
            service = Service(environment=row["environment"], name=row["service"], first_seen=row["minute_min"], last_seen=row["minute_max"])
        elif service.first_seen <= row["minute_min"] and service.last_seen >= row["minute_max"]:
            continue
        service.first_seen = min(service.first_seen, row["minute_min"])
        service.last_seen = max(service.last_seen, row["minute_max"])
        fresh.append(service)
    if fresh:
        for service in fresh:
            service.pk = None
        Service.objects.bulk_create(fresh, update_conflicts=True, unique_fields=["environment", "name"], update_fields=["first_seen", "last_seen"])


def merge_once() -> bool:
    """Merges the blocks of one hour that are many and small; False if there is nothing to merge."""
    crowded = (
        Block.objects.filter(rows__lt=blocks.MAX_ROWS // 2)
        .values("stream", "hour", "level")
        .annotate(count=Count("id"), total=Sum("rows"))
        .filter(count__gte=FAN_IN)
        .order_by("hour", "level")[:20]
    )
    return any(_merge_group(group["stream"], group["hour"], group["level"]) for group in crowded)


def _merge_group(stream: str, hour: int, level: int) -> bool:
    with transaction.atomic():
        group = Block.objects.filter(stream=stream, hour=hour, level=level, rows__lt=blocks.MAX_ROWS // 2)
        locked = list(group.select_for_update(skip_locked=True).order_by("id").values_list("id", "rows")[: FAN_IN * 4])
        chosen, rows = [], 0
        for block_id, count in locked:
            if rows + count > blocks.MAX_ROWS and chosen:
                break
            rows += count
            chosen.append(block_id)
        if len(chosen) < 2:
            return False
        tables = blocks.read(Block.objects.filter(id__in=chosen))
        if stream == Stream.SPANS:
            whole = spans.deduplicate(spans.conform(spans.concat(tables)))
            merged = blocks.make_span_blocks(whole, parent_rows(whole), level + 1)
        else:
            merged = blocks.make_cell_blocks(cells.merge(tables), level + 1)
        Block.objects.filter(id__in=chosen).delete()
        Block.objects.bulk_create(merged, batch_size=1)
    return True


def announce(what: str) -> None:
    """Tells listening web servers that something new can be seen, when the transaction commits."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_notify(%s, %s)", [LIVE_CHANNEL, what])
