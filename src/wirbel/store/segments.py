"""Accepted rows, durable at once."""

from __future__ import annotations

import hashlib
import threading
import time

import pyarrow as pa
from django.db import IntegrityError, transaction
from django.db.models import Sum

from wirbel.core.signals import spans
from wirbel.store.blocks import to_ipc
from wirbel.store.models import Receipt, Segment, Stream

BACKLOG_LIMIT = 2**30  # bytes of segments that wait to be packed; more are refused
_BACKLOG_AGE_S = 2.0  # how long a measured backlog is trusted
_measured = (0.0, 0)
_lock = threading.Lock()


def digest_of(body: bytes) -> bytes:
    return hashlib.sha256(body).digest()


def append_spans(table: pa.Table, digest: bytes) -> bool:
    """Stores the spans of one request durably; False if the same body was stored before."""
    try:
        with transaction.atomic():
            Receipt.objects.create(digest=digest)
            if table.num_rows:
                start, duration = spans.numbers(table["start"]), spans.numbers(table["duration"])
                data = to_ipc(table)
                Segment.objects.create(
                    stream=Stream.SPANS, time_from=int(start.min()), time_to=int((start + duration).max()), rows=table.num_rows, size=len(data), data=data
                )
    except IntegrityError:
        return False
    return True


def backlog_bytes() -> int:
    """Bytes waiting to be packed, at most two seconds old."""
    global _measured
    with _lock:
        at, size = _measured
        if time.monotonic() - at > _BACKLOG_AGE_S:
            size = Segment.objects.aggregate(total=Sum("size"))["total"] or 0
            _measured = (time.monotonic(), size)
        return size
