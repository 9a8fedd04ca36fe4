"""What would have been found in a series, had it been watched in another way."""

from __future__ import annotations

import numpy as np

from wirbel.core.cells import MINUTE_NS
from wirbel.core.deviation.accumulate import Budget
from wirbel.core.deviation.find import Found
from wirbel.core.deviation.points import Points
from wirbel.core.deviation.tracker import Tracker
from wirbel.core.errors import NotEnoughData
from wirbel.store.streams import DAY_NS
from wirbel.watch import calendar, days_before, kept, values
from wirbel.watch.models import WatchedSeries
from wirbel.watch.values import Key


def replay(row: WatchedSeries, budget: float, until: int, days: int) -> tuple[Points, Found]:
    """The last so many days up to ``until`` (ns), followed anew. Raises NotEnoughData where too little is kept."""
    points = history(row, until, days)
    first = int(points.times[0])
    before = kept.load([row.pk], first - (days_before.DAYS + 1) * DAY_NS, until)
    tracker = Tracker(row.kind, 60.0, Budget(budget), calendar.current(), only_high=row.only_high)  # type: ignore[arg-type]
    expected = tracker.follow(points, lambda start, end: kept.between(before, row.pk, start, first).joined(points.between(start, end)))
    if tracker.profile is None:
        raise NotEnoughData(
            "A replay goes by the minute and wants an hour of values; until then a service that has just begun is followed in steps of ten seconds."
        )
    found = sorted([*tracker.take_ended(), *tracker.opened()], key=lambda one: one.onset)
    return points, Found(found, expected, tracker.profile)


def history(row: WatchedSeries, until: int, days: int) -> Points:
    """What is kept of its last so many days, from the first value to the last. Raises NotEnoughData where nothing is."""
    start = max(row.began, until - days * DAY_NS)
    points = kept.between(kept.up_to_now([row.pk], start, until), row.pk, start, until)
    known = np.flatnonzero(np.isfinite(points.values))
    if not len(known):
        raise NotEnoughData("Nothing of this series is kept yet: the watch reads it at its next look, in ten seconds.")
    return points.part(int(known[0]), int(known[-1]) + 1)


def backfill(row: WatchedSeries, key: Key, until: int, days: int) -> int | None:
    """Reads what is stored of a series that somebody has just chosen; the time of its first value, or None where there is none."""
    first = None
    for start in range(until - days * DAY_NS - until % DAY_NS, until, DAY_NS):
        end = min(start + DAY_NS, until)
        told = values.read(start, end, chosen=[key]).get(key)
        some = np.zeros(0, np.bool_) if told is None else values.heard(key, told)
        if told is None or (first is None and not some.any()):
            continue
        table = kept.empty()
        table[0, : len(told.values)], table[1, : len(told.values)] = told.values, told.samples
        kept.store({(row.pk, start): table})
        if first is None:
            first = start + int(np.argmax(some)) * MINUTE_NS
    return first
