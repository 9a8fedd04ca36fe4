"""Services that have just begun to send are followed in steps of ten seconds: a fault in the first minutes is noticed then."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

import numpy as np

from wirbel.core.deviation.points import Points
from wirbel.core.deviation.symptoms import SYMPTOMS
from wirbel.core.deviation.tracker import Tracker
from wirbel.store import fine_cells
from wirbel.store.streams import HOUR_NS
from wirbel.watch import days_before, values
from wirbel.watch.models import WatchedSeries
from wirbel.watch.values import Key, Values

STEP_NS = fine_cells.STEP_S * 10**9
YOUNG_NS = 2 * HOUR_NS  # after its first request
PIECE_NS = 10 * 60 * 10**9  # that is read at once
LONGEST_NS = 6 * HOUR_NS  # where something that was found then still goes on
NOTHING = Points(np.zeros(0, np.int64), np.zeros(0), np.zeros(0))


def is_young(row: WatchedSeries) -> bool:
    """Whether a series begins so: what requests take and whether they fail does. How many there are is counted by the minute: of few, ten seconds tell nothing."""
    is_symptom = row.entity_kind == "service" and row.metric in SYMPTOMS and row.metric not in values.COUNTED
    return is_symptom and row.made_by_id is None and not days_before.has_days(row)


def next_piece(row: WatchedSeries, at: int) -> int:
    """When it is asked next whether a series has grown up: at the same times whether it is read live or from history."""
    return row.began + ((at - row.began) // PIECE_NS + 1) * PIECE_NS


def has_grown_up(tracker: Tracker) -> bool:
    """Whether it is time to go on in minutes; where something goes on, when that has ended."""
    age = tracker.until - (tracker.begun or tracker.until)
    if age % PIECE_NS:
        return False
    return age >= LONGEST_NS or (age >= YOUNG_NS and not tracker.is_open)


def _grown(row: WatchedSeries) -> int:
    """When a series that began so has grown up whatever it does."""
    return row.began + LONGEST_NS + PIECE_NS


@dataclass
class Young:
    """Values of young series, in memory from their first on: there are few of them, and not for long."""

    points: dict[int, Points] = field(default_factory=dict)

    def read(self, rows: Iterable[WatchedSeries], keys: Mapping[Key, int], end: int) -> set[int]:
        """Brings them up to ``end`` (ns), each from where it is; returns those that have too many requests for that."""
        waiting, busy = [row for row in rows if self._until(row) < min(end, _grown(row))], set[int]()
        by_key = {pk: key for key, pk in keys.items()}
        for environment in {row.environment for row in waiting}:
            mine = [row for row in waiting if row.environment == environment]
            last = min(end, max(_grown(row) for row in mine))
            for start in range(min(self._until(row) for row in mine), last, PIECE_NS):
                stop = min(start + PIECE_NS, last)
                found = values.read_fine(start, stop, environment, {row.entity for row in mine})
                if found is None:
                    busy |= {row.pk for row in mine}
                    break
                times = np.arange(start, stop, STEP_NS)
                for row in mine:
                    key = by_key[row.pk]
                    self._append(row, times, found.get(key) or values.nothing(key, len(times)))
        return busy

    def _until(self, row: WatchedSeries) -> int:
        held = self.points.get(row.pk, NOTHING).times
        return int(held[-1]) + STEP_NS if len(held) else row.began

    def _append(self, row: WatchedSeries, times: np.ndarray, one: Values) -> None:
        fresh = times >= self._until(row)
        self.points[row.pk] = self.points.get(row.pk, NOTHING).joined(Points(times[fresh], one.values[fresh], one.samples[fresh]))

    def between(self, series: int, start: int, end: int) -> Points:
        """Those of [start, end) ns."""
        return self.points.get(series, NOTHING).between(start, end)

    def forget(self, series: int) -> None:
        """It has grown up, or is not watched any more."""
        self.points.pop(series, None)
