"""What is durable but in no block yet.

A question reads the newest of it, up to so many bytes: where packing is behind, a question must neither take the memory of
the process nor leave something out without saying so.
"""

from __future__ import annotations

import logging
from dataclasses import dataclass

import pyarrow as pa
from django.db import connection
from django.db.models import QuerySet

from wirbel.store import blocks, query_limits
from wirbel.store.models import Segment
from wirbel.store.streams import LAYOUTS

log = logging.getLogger(__name__)
MOST_BYTES = 64 * 2**20  # of segments, as they are stored, that one question reads of a stream


@dataclass(frozen=True)
class Fresh:
    """``table`` is None where there is nothing; ``left_out`` counts the records that were not read, because they are not among the newest."""

    table: pa.Table | None
    left_out: int = 0


def read(stream: str, start: int = 0, end: int = 2**63 - 1) -> Fresh:
    """What may hold records of [start, end) ns, combined. Raises QuestionStopped and QuestionTooLarge.

    A segment that was set aside because it cannot be packed is read too, if it can be: it must not take the others with it.
    """
    found = Segment.objects.filter(stream=stream, time_to__gte=start, time_from__lt=end)
    chosen, total, left_out = _newest(found)
    combine = LAYOUTS[stream].combine
    sound: list[pa.Table] = []
    doubtful: list[bytes] = []
    done = 0
    for rows, error, data in blocks.in_binary(found.filter(id__in=chosen).order_by("id").values_list("rows", "error", "data")):
        query_limits.check(done, total)
        done += rows
        if error:
            doubtful.append(data)
        else:
            sound.append(blocks.from_ipc(data))
    for data in doubtful:
        try:
            table = blocks.from_ipc(data)
            combine([*sound, table])
        except Exception:
            log.warning("a segment that was set aside cannot be read either")
        else:
            sound.append(table)
    return Fresh(combine(sound) if sound else None, left_out)


def _newest(found: QuerySet[Segment]) -> tuple[list[int], int, int]:
    """Ids of the newest segments, the number of their records, and that of all others' records."""
    chosen: list[int] = []
    size = total = left_out = 0
    for segment, held, rows in found.order_by("-id").values_list("id", "size", "rows").iterator():
        size += held
        if size <= MOST_BYTES or not chosen:
            chosen.append(segment)
            total += rows
        else:
            left_out += rows
    return chosen, total, left_out


def left_out() -> int:
    """Records of all times and streams that no question reads yet."""
    with connection.cursor() as cursor:
        cursor.execute(
            "SELECT coalesce(sum(rows), 0) FROM (SELECT rows, size, sum(size) OVER (PARTITION BY stream ORDER BY id DESC) AS whole FROM store_segment) AS waiting"
            " WHERE whole > %s AND whole > size",
            [MOST_BYTES],
        )
        return int(cursor.fetchone()[0])
