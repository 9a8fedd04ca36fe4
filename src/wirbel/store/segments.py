"""Accepted rows, durable at once."""

from __future__ import annotations

import hashlib
import os
import shutil
import threading
import time
from dataclasses import dataclass

import pyarrow as pa
from django.db import connection, transaction
from django.db.models import Sum

from wirbel.store import fresh, live
from wirbel.store.blocks import to_ipc
from wirbel.store.models import Receipt, Segment
from wirbel.store.streams import LAYOUTS

BACKLOG_LIMIT = 2**30  # bytes of segments that wait to be packed; more are refused
LEAST_FREE = int(os.environ.get("WIRBEL_LEAST_FREE_MB", "200")) * 2**20
"""Free bytes of the disk, below which nothing is taken: PostgreSQL ends when it cannot write its log."""
_ROOM_AGE_S = 2.0  # how long what was measured is trusted
_measured: tuple[float, Room | None] = (0.0, None)
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


def known(digests: list[bytes]) -> set[bytes]:
    """Those of the bodies that were taken before."""
    found = Receipt.objects.filter(digest__in=digests).values_list("digest", flat=True)
    return {bytes(digest) for digest in found}


def append(stream: str, table: pa.Table) -> None:
    """Stores the checked rows of one or more requests."""
    if not table.num_rows:
        return
    layout = LAYOUTS[stream]
    data = to_ipc(table)
    Segment.objects.create(
        stream=stream, time_from=int(layout.begins(table).min()), time_to=int(layout.ends(table).max()), rows=table.num_rows, size=len(data), data=data
    )
    live.announce_taken(stream)


def append_once(stream: str, table: pa.Table, digest: bytes) -> bool:
    """Stores the rows of one request durably; False if the same body was stored before."""
    with transaction.atomic():
        if not receive([digest]):
            return False
        append(stream, table)
    return True


@dataclass(frozen=True)
class Room:
    """Bytes that wait to be packed, records among them that no question reads yet, and bytes that the disk still takes (None: it is another machine's)."""

    backlog: int
    left_out: int
    free: int | None


def room() -> Room:
    """At most two seconds old."""
    global _measured
    with _lock:
        at, found = _measured
        if found is None or time.monotonic() - at > _ROOM_AGE_S:
            backlog = Segment.objects.filter(error="").aggregate(total=Sum("size"))["total"] or 0
            found = Room(backlog, fresh.left_out() if backlog > fresh.MOST_BYTES else 0, free_bytes())
            _measured = (time.monotonic(), found)
        return found


def free_bytes() -> int | None:
    """Of the disk that the database lies on, if it is a disk of this machine and we may know."""
    if connection.settings_dict["HOST"] not in ("127.0.0.1", "::1", "localhost"):
        return None
    with connection.cursor() as cursor:
        cursor.execute("SELECT setting FROM pg_settings WHERE name = 'data_directory'")
        found = cursor.fetchone()
    try:
        return shutil.disk_usage(found[0]).free if found else None
    except OSError:
        return None
