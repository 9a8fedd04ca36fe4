"""Following many series: a minute of 2,000 of them, learning fourteen days of one, and the memory they take.

    ./wirbel bench watching

Beside it the plain alternative: a rolling median and its deviation over two hours of each series, made anew for the minute.
"""

from __future__ import annotations

import resource
import time

import numpy as np

from bench.deviations import DAY, series
from wirbel.core.deviation.points import Points
from wirbel.core.deviation.state import dump, restore
from wirbel.core.deviation.tracker import Tracker
from wirbel.core.expected import profile

SERIES = 2_000
DAYS = 14
MINUTES = 10
TWO_HOURS = 120


def main() -> None:
    times, values = series(0.5, DAYS + 1, 1)
    whole = Points(times, values, np.ones(len(times)))
    took = []
    for _ in range(5):
        began = time.perf_counter()
        profile.fit(times[: DAYS * DAY], values[: DAYS * DAY], "level")
        took.append(time.perf_counter() - began)
    print(f"learning {DAYS} days of one series: {1000 * min(took):.0f} ms (goal 50)")
    one = Tracker("level", 60.0)
    began = time.perf_counter()
    one.follow(whole.part(0, DAYS * DAY), whole.between)
    print(f"following {DAYS} days of it, with all that it learns meanwhile: {1000 * (time.perf_counter() - began):.0f} ms")
    kept = dump(one)
    print(f"a tracker as bytes: {len(kept) / 1024:.1f} kB")
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    trackers = [restore(kept) for _ in range(SERIES)]
    print(f"memory of {SERIES} trackers: {(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024:.0f} MB (goal 300 for all)")
    told = []
    for minute in range(MINUTES):
        at = DAYS * DAY + minute
        point = Points(whole.times[at : at + 1], whole.values[at : at + 1], whole.samples[at : at + 1])
        began = time.perf_counter()
        for tracker in trackers:
            tracker.follow(point, _nothing)
        told.append(time.perf_counter() - began)
    ours = float(np.median(told))
    past = np.tile(values[-TWO_HOURS:], (SERIES, 1))
    began = time.perf_counter()
    for row in past:
        middle = np.median(row)
        abs(row[-1] - middle) / (1.4826 * np.median(np.abs(row - middle)))
    plain = time.perf_counter() - began
    print(f"a minute of {SERIES} series: {ours:.2f} s (goal 2), {ours / plain:.1f} times a rolling median and deviation of two hours, series by series")


def _nothing(start: int, end: int) -> Points:
    return Points(np.zeros(0, np.int64), np.zeros(0), np.zeros(0))


if __name__ == "__main__":
    main()
