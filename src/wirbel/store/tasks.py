"""Background work, run by Procrastinate on as many workers as there are."""

from __future__ import annotations

import time
from datetime import timedelta

from django.utils import timezone
from procrastinate.contrib.django import app

from wirbel.store import failures, packer, retention, segments
from wirbel.store.models import Arrival, Receipt

ARRIVALS_KEPT = timedelta(days=8)
RECEIPTS_KEPT = timedelta(days=30)  # a request re-sent later than this would be stored again


def _has_room() -> bool:
    """Intake stops before that, by as much as packing what it took may need."""
    free = segments.free_bytes()
    return free is None or free > segments.LEAST_FREE


@app.periodic(cron="* * * * * *")
@app.task(name="store.pack", queue="arrivals", queueing_lock="store.pack")
def pack(timestamp: int) -> None:
    """Every second: what has come in becomes blocks, unless the disk could not take them."""
    with failures.told("packing"):
        if _has_room():
            packer.pack_all()


@app.periodic(cron="* * * * * */10")
@app.task(name="store.merge", queueing_lock="store.merge")
def merge(timestamp: int) -> None:
    with failures.told("merging"):
        while _has_room() and packer.merge_once():
            pass


@app.periodic(cron="17 3 * * *")
@app.task(name="store.forget", queueing_lock="store.forget")
def forget(timestamp: int) -> None:
    """Every night: marks of bodies and arrivals that are of no use any more."""
    Receipt.objects.filter(received__lt=timezone.now() - RECEIPTS_KEPT).delete()
    Arrival.objects.filter(at__lt=timezone.now() - ARRIVALS_KEPT).delete()


@app.periodic(cron="*/5 * * * *")
@app.task(name="store.retain", queueing_lock="store.retain")
def retain(timestamp: int) -> None:
    """Every five minutes: what is no longer kept in full is thinned, what is no longer kept is dropped."""
    now = time.time_ns()
    with failures.told("retention"):
        while retention.drop_once(now) or retention.thin_once(now):
            pass
