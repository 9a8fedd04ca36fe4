"""Background work of intake, run by Procrastinate."""

from __future__ import annotations

from datetime import timedelta

from django.db import connection, transaction
from django.utils import timezone
from procrastinate.contrib.django import app

from wirbel.intake import forward
from wirbel.intake.models import Minute, Taken

MINUTES_KEPT = timedelta(days=32)
MOST_AT_ONCE = 50_000
MOST_REASONS = 50  # of one minute, token and signal
ADDING_LOCK = 0x57_49_52_42  # of PostgreSQL, advisory: one adds up at a time
SETTLED = timedelta(minutes=2)  # quotas look at the last minute of Taken


@app.periodic(cron="* * * * *")
@app.task(name="intake.add_up", queueing_lock="intake.add_up")
def add_up(timestamp: int) -> None:
    """Every minute: what each commit took becomes one row a minute, token and signal."""
    while _add_up_some():
        pass
    Minute.objects.filter(at__lt=timezone.now() - MINUTES_KEPT).delete()


@app.periodic(cron="* * * * * */2")
@app.task(name="intake.send_on", queue="sending", queueing_lock="intake.send_on")
def send_on(timestamp: int) -> None:
    """Every two seconds: accepted requests go on to another endpoint, if one is set."""
    while forward.send_some():
        pass


def _add_up_some() -> bool:
    with transaction.atomic(), connection.cursor() as cursor:
        # Two at once would read a minute's sum, both add to it, and lose what one added.
        cursor.execute("SELECT pg_advisory_xact_lock(%s)", [ADDING_LOCK])
        taken = list(Taken.objects.select_for_update(skip_locked=True).filter(at__lt=timezone.now() - SETTLED).order_by("id")[:MOST_AT_ONCE])
        if not taken:
            return False
        sums: dict[tuple[object, int | None, str], Minute] = {}
        for row in taken:
            key = (row.at.replace(second=0, microsecond=0), row.token_id, row.signal)
            if key not in sums:
                at, token, signal = key
                sums[key] = Minute.objects.filter(at=at, token=token, signal=signal).first() or Minute(at=at, token_id=token, signal=signal, refused={})
            _add(sums[key], row)
        for minute in sums.values():
            minute.save()
        Taken.objects.filter(id__in=[row.pk for row in taken]).delete()
    return True


def _add(minute: Minute, row: Taken) -> None:
    for name in ("requests", "rows", "size", "dropped"):
        setattr(minute, name, getattr(minute, name) + getattr(row, name))
    for reason, count in row.refused.items():
        if reason in minute.refused or len(minute.refused) < MOST_REASONS:
            minute.refused[reason] = minute.refused.get(reason, 0) + count
