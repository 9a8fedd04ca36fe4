"""From a request's body to durable rows, several requests at a time.

Decoding costs nearly as much for one request as for ten, and so does a commit. So whoever comes
while another request is being stored waits, and the next one in line stores all that wait.
"""

from __future__ import annotations

import threading
import time
from dataclasses import dataclass, field

import numpy as np
import pyarrow as pa
from django.db import DatabaseError, DataError, OperationalError, connection, transaction

from wirbel.core.signals import otlp
from wirbel.intake import forward, rules
from wirbel.intake.models import Taken
from wirbel.store import segments
from wirbel.store.streams import STREAM_OF

MAX_TOGETHER = 64  # requests
MAX_BYTES_TOGETHER = 24 * 2**20  # of bodies: bounds the memory of one commit
LARGE_BYTES, LARGE_RECORDS = 2**18, 5_000  # from which on a request waits in a line of its own, so that small ones need not wait for it


@dataclass
class Delivery:
    """One request on its way into the store, and what became of it."""

    signal: otlp.Signal
    body: bytes  # protobuf, or otlp.JsonText
    digest: bytes
    size: int  # bytes as sent
    token: int | None
    records: int = 0  # about
    refused: dict[str, int] = field(default_factory=dict)
    stored: int = 0
    repeated: bool = False
    error: Exception | None = None
    done: bool = False

    @property
    def is_large(self) -> bool:
        return len(self.body) > LARGE_BYTES or self.records > LARGE_RECORDS

    def refused_message(self) -> str:
        return "; ".join(f"{count} refused: {reason}" for reason, count in self.refused.items())


class Line:
    """Requests of one signal that wait to be stored together."""

    def __init__(self) -> None:
        self._waiting: list[Delivery] = []
        self._guard = threading.Lock()
        self._turn = threading.Lock()

    def deliver(self, delivery: Delivery) -> None:
        """Returns when the delivery is durable; raises what prevented it."""
        with self._guard:
            self._waiting.append(delivery)
        while not delivery.done:
            with self._turn:
                if not delivery.done:
                    store_together(self._next())
        if delivery.error:
            raise delivery.error

    def _next(self) -> list[Delivery]:
        with self._guard:
            size, count = 0, 0
            for delivery in self._waiting[:MAX_TOGETHER]:
                size += len(delivery.body)
                if count and size > MAX_BYTES_TOGETHER:
                    break
                count += 1
            taken, self._waiting = self._waiting[:count], self._waiting[count:]
        return taken


_lines = {(name, is_large): Line() for name in otlp.SIGNALS for is_large in (False, True)}


def deliver(delivery: Delivery) -> None:
    """Stores one request durably, with those that come at the same time.

    Raises MalformedTelemetry if its body cannot be read, and what the database raises.
    """
    _lines[delivery.signal.name, delivery.is_large].deliver(delivery)


def store_together(deliveries: list[Delivery], once_more: bool = True) -> None:
    """Stores requests of one signal in one transaction; each gets its own outcome, none raises.

    What cannot be stored together is stored one by one, so that a bad request fails by itself. A database that cannot be
    reached fails all of them: trying each would take as long as all together. Where a connection broke, another is tried.
    """
    try:
        readable = _readable(deliveries)
        if readable:
            _store(*readable)
    except Exception as error:
        waiting = [delivery for delivery in deliveries if delivery.error is None]
        if isinstance(error, OperationalError) and once_more and not connection.in_atomic_block:
            connection.close()
            store_together(waiting, once_more=False)
            return
        is_of_one = not isinstance(error, DatabaseError) or isinstance(error, DataError)
        if is_of_one and len(waiting) > 1:
            for delivery in waiting:
                store_together([delivery])
        else:
            for delivery in waiting:
                delivery.error = error
    finally:
        for delivery in deliveries:
            delivery.done = True


def _readable(deliveries: list[Delivery]) -> tuple[list[Delivery], otlp.Decoded] | None:
    """All deliveries decoded at once; if one cannot be read, that one is told and the rest go on."""
    decode = otlp.DECODERS[deliveries[0].signal.name]
    try:
        return deliveries, decode([delivery.body for delivery in deliveries], time.time_ns())
    except Exception:
        good = []
        for delivery in deliveries:
            try:
                decode([delivery.body], time.time_ns())
                good.append(delivery)
            except Exception as error:  # a defect of the decoder too costs one request
                delivery.error = error
        return (good, decode([delivery.body for delivery in good], time.time_ns())) if good else None


def _store(deliveries: list[Delivery], decoded: otlp.Decoded) -> None:
    signal = deliveries[0].signal.name
    wanted, hits = rules.apply(signal, decoded.table)
    with transaction.atomic():
        fresh = segments.receive([delivery.digest for delivery in deliveries])
        is_new = []
        for delivery in deliveries:
            is_new.append(delivery.digest in fresh)
            fresh.discard(delivery.digest)  # the same body twice at once is stored once
        keep = wanted & np.array(is_new)[decoded.body]
        segments.append(STREAM_OF[signal], decoded.table.filter(pa.array(keep)) if not keep.all() else decoded.table)
        rules.note(hits)
        forward.enqueue(signal, [delivery.body for delivery, new in zip(deliveries, is_new, strict=True) if new])
        stored = np.bincount(decoded.body[keep], minlength=len(deliveries))
        left_out = np.bincount(decoded.body[~wanted], minlength=len(deliveries))
        _note(signal, deliveries, decoded, stored.tolist(), left_out.tolist())
    for index, delivery in enumerate(deliveries):
        delivery.refused, delivery.stored, delivery.repeated = decoded.refused[index], int(stored[index]), not is_new[index]


def _note(signal: str, deliveries: list[Delivery], decoded: otlp.Decoded, stored: list[int], dropped: list[int]) -> None:
    by_token: dict[int | None, Taken] = {}
    for index, delivery in enumerate(deliveries):
        taken = by_token.setdefault(delivery.token, Taken(token_id=delivery.token, signal=signal, requests=0, rows=0, size=0, dropped=0, refused={}))
        taken.requests += 1
        taken.rows += stored[index]
        taken.size += delivery.size
        taken.dropped += dropped[index]
        for reason, count in decoded.refused[index].items():
            taken.refused[reason] = taken.refused.get(reason, 0) + count
    Taken.objects.bulk_create(list(by_token.values()))
