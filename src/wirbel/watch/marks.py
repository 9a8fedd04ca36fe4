"""What people say of deviations; the watch heeds it at its next look."""

from __future__ import annotations

import time

from django.db import transaction
from django.db.models import Model
from django.utils import timezone

from wirbel.core.deviation.model import Mark
from wirbel.watch import disturbed, found
from wirbel.watch.models import DeviationRecord


def mark(record: DeviationRecord, how: Mark | None, person: Model) -> None:
    """Who said so is kept. None takes back what was said."""
    record.mark, record.mark_is_new = how or "", True
    record.marked_by = person if how else None  # type: ignore[assignment]
    record.marked_at = timezone.now() if how else None
    with transaction.atomic():
        record.save(update_fields=["mark", "mark_is_new", "marked_by", "marked_at"])
        end = max(record.ended or 0, found.until() or 0, record.onset) + 1
        disturbed.update({record.series.environment}, record.onset, end, time.time_ns())
