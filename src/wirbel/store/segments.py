"""Accepted rows, durable at once."""

from __future__ import annotations

import hashlib
import threading
import time

import pyarrow as pa
from django.db import connection, transaction
from django.db.models import Sum

from wirbel.store.blocks import to_ipc
from wirbel.store.models import Segment
from wirbel.store.streams import LAYOUTS

BACKLOG_LIMIT = 2**30  # bytes of segments that wait to be packed; more are refused
_BACKLOG_AGE_S = 2.0  # how long a measured backlog is trusted
_measured = (0.0, 0)
_lock = threading.Lock()


def digest_of(body: bytes) -> bytes:
    return hashlib.sha256(body).digest()


def receive(digests: list[bytes]) -> set[bytes]:
    """Marks bodies as taken; returns those that were not taken before. Call inside the transaction that stores them.

    Waits for another transaction that is taking the same body, so that only one of the two stores it.
    """
    with connection.cursor() as cursor:
        cursor.execute(
            "INSERT INTO store_receipt (digest, received) SELECT d, now() FROM unnest(%s::bytea[]) AS d ON CONFLICT DO NOTHING RETURNING digest",
            [sorted(set(digests))],
        )
        return {bytes(row[0]) for row in cursor.fetchall()}


def append(stream: str, table: pa.Table) -> None:
    """Stores the checked rows of one or more requests."""
    if not table.num_rows:
        return
    layout = LAYOUTS[stream]
    data = to_ipc(table)
    Segment.objects.create(
        stream=stream, time_from=int(layout.begins(table).min()), time_to=int(layout.ends(table).max()), rows=table.num_rows, size=len(data), data=data
    )


def append_once(stream: str, table: pa.Table, digest: bytes) -> bool:
    """Stores the rows of one request durably; False if the same body was stored before."""
    with transaction.atomic():
        if not receive([digest]):
            return False
        append(stream, table)
    return True


def backlog_bytes() -> int:
    """Bytes waiting to be packed, at most two seconds old."""
    global _measured
    with _lock:
        at, size = _measured
        if time.monotonic() - at > _BACKLOG_AGE_S:
            size = Segment.objects.filter(error="").aggregate(total=Sum("size"))["total"] or 0
            _measured = (time.monotonic(), size)
        return size
