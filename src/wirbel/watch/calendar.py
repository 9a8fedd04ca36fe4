"""Whose days and weeks the watched series have."""

from __future__ import annotations

from wirbel.core.expected.calendar import BY_UTC, Calendar
from wirbel.watch.models import UsersCalendar


def current() -> Calendar:
    row = UsersCalendar.objects.first()
    return BY_UTC if row is None else Calendar(row.zone, row.holidays)


def change(zone: str, holidays: str) -> Calendar:
    """From the next look of the watch on; raises InvalidQuestion where there is no such zone or country."""
    made = Calendar.checked(zone.strip(), holidays.strip())
    UsersCalendar.objects.update_or_create(pk=1, defaults={"zone": made.zone, "holidays": made.holidays})
    return made
