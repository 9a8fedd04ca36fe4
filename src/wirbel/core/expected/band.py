"""A first expected band: rolling robust location and scale, weighted by sample size.

Each value is judged by the values before it only, so that the band at a minute is what was
expected then. A band without seasons: rolling median and MAD (docs/methods.md).
"""

from __future__ import annotations

from dataclasses import dataclass, fields

import numpy as np
import numpy.typing as npt
from scipy import special

from wirbel.core.series.series import Kind, Series

Floats = npt.NDArray[np.float64]

WINDOW_S = 2 * 3600  # that a value is judged by
MIN_WINDOW = 24  # points of it, where points are far apart
STRIDE_S = 180  # that shares one location and scale, taken from the time before it
NEEDED_S = 20 * 60  # with data, before anything is said
MIN_NEEDED = 8  # points of it
LEVEL = 0.99  # share of normal values inside the band
DEGREES = 5  # of Student's t: normal minutes have heavier tails than a Gaussian
LOGARITHMIC: tuple[Kind, ...] = ("rate", "count", "quantile")  # kinds of series that vary by factors
MOST_SEEN = 200_000  # points at once, with all looks at them
SURPRISED = 10.0  # bits; about one in a thousand


@dataclass(frozen=True)
class Band:
    """Expected range of each value of a series, shape (entities, points); NaN while learning. ``surprise`` is in bits, 0 where nothing is known."""

    series: Series
    expected: Floats
    low: Floats
    high: Floats
    surprise: Floats
    learning: npt.NDArray[np.bool_]

    @property
    def above(self) -> npt.NDArray[np.bool_]:
        """Where a value is surprisingly high."""
        return (self.surprise >= SURPRISED) & (self.series.values > self.expected)

    def row(self, index: int) -> Band:
        """The band of one entity, still of two axes."""
        only = slice(index, index + 1)
        return Band(self.series.row(index), self.expected[only], self.low[only], self.high[only], self.surprise[only], self.learning[only])


def _weighted_median(values: Floats, weight: Floats) -> Floats:
    """Along the last axis; NaN where all weights are zero."""
    order = np.argsort(values, axis=-1)
    ordered, heavy = np.take_along_axis(values, order, -1), np.take_along_axis(weight, order, -1)
    cumulative = np.cumsum(heavy, axis=-1)
    half = cumulative[..., -1:] / 2
    at = np.minimum((cumulative < half).sum(axis=-1), values.shape[-1] - 1)
    median = np.take_along_axis(ordered, at[..., None], -1)[..., 0]
    return np.where(half[..., 0] > 0, median, np.nan)


def _median(values: Floats, used: npt.NDArray[np.bool_]) -> Floats:
    """Lower median of the used values along the last axis; NaN where none is."""
    ordered = np.sort(np.where(used, values, np.inf), axis=-1)
    count = used.sum(axis=-1)
    middle = np.take_along_axis(ordered, np.maximum(count - 1, 0)[..., None] // 2, -1)[..., 0]
    return np.where(count > 0, middle, np.nan)


@dataclass(frozen=True)
class Memory:
    """How many points a band looks back, how many share one look, and how many it needs: by the time between two of them, not by their number."""

    window: int
    stride: int
    needed: int

    @classmethod
    def of(cls, step_s: float) -> Memory:
        return cls(max(round(WINDOW_S / step_s), MIN_WINDOW), max(1, round(STRIDE_S / step_s)), max(-(-NEEDED_S // round(step_s)), MIN_NEEDED))


@dataclass(frozen=True)
class Learned:
    """What was expected at each point of a grid, shape (entities, points) each, in the scale in which it is judged."""

    location: Floats
    scale: Floats
    typical_n: Floats
    learning: npt.NDArray[np.bool_]

    def at(self, points: npt.NDArray[np.int64]) -> Learned:
        return Learned(self.location[:, points], self.scale[:, points], self.typical_n[:, points], self.learning[:, points])


def expected_band(series: Series, past: Series | None = None, asked: npt.NDArray[np.bool_] | None = None) -> Band:
    """The band of each row of ``series``, each point judged by the time before it.

    Learned from ``past``, the same measure of the same entities over a longer time, in steps at least as long. ``asked``, shape (points,): of the
    others it may be anything.
    """
    teacher, grid = series if past is None else past, series.grid
    memory = Memory.of(teacher.grid.step)
    taught_at = np.clip((grid.times - teacher.grid.first) // teacher.grid.step_ns, 0, teacher.grid.count - 1)
    looks = taught_at // memory.stride * memory.stride
    needed = np.unique(looks if asked is None else np.append(looks[:1], looks[asked]))
    place = np.minimum(np.searchsorted(needed, looks), len(needed) - 1)
    return judged_by(_learn(teacher, needed).at(place), series)


def learn(past: Series) -> Learned:
    """What is expected after the last point of ``past``, shape (entities, 1)."""
    return _learn(past, np.array([past.grid.count]))


def judged_by(learned: Learned, series: Series) -> Band:
    """The band of each row of ``series``; ``learned`` is of its points, or of one time for all of them.

    Latencies, rates and counts by their logarithm (log(1e-6 + x)), shares and levels as they are. A value
    that is not known neither teaches nor surprises. Half of the spread is taken as noise of the sample: a value with
    fewer records behind it than usual is expected to scatter more.
    """
    logarithmic = series.kind in LOGARITHMIC
    if learned.location.shape[1] != series.grid.count:
        learned = learned.at(np.zeros(series.grid.count, np.int64))
    location, learning = learned.location, learned.learning
    x, n, missing = _judged_as(series)
    # A minute with fewer requests than usual scatters more: half of the spread is taken as sampling noise.
    with np.errstate(divide="ignore", invalid="ignore"):
        behind = np.where(missing, learned.typical_n, np.maximum(n, 1.0))  # where nothing came, the usual number was to be expected
        inflation = np.sqrt(0.5 + 0.5 * np.clip(learned.typical_n / behind, 0.25, 50.0))
    floor = 0.02 if logarithmic else 1e-9  # a perfectly steady series still may move by 2 %
    spread = np.maximum(learned.scale, floor) * inflation
    z = special.stdtrit(DEGREES, 0.5 + LEVEL / 2)
    residual = np.where(missing | learning, 0.0, (x - location) / spread)
    surprise = np.where(missing | learning, 0.0, -np.log2(np.maximum(2 * special.stdtr(DEGREES, -np.abs(residual)), 1e-300)))

    def back(y: Floats) -> Floats:
        return np.where(learning, np.nan, np.maximum(np.exp(y) - 1e-6, 0.0) if logarithmic else y)

    return Band(series, back(location), back(location - z * spread), back(location + z * spread), np.maximum(surprise, 0.0), learning)


def _judged_as(series: Series) -> tuple[Floats, Floats, npt.NDArray[np.bool_]]:
    """Values in the scale in which they are judged, their sample sizes, and where they are missing."""
    missing = ~series.known
    values = np.log(1e-6 + np.maximum(series.values, 0)) if series.kind in LOGARITHMIC else series.values
    return np.where(missing, 0.0, values), np.where(missing, 0.0, series.sample_size), missing


def _learn(series: Series, looks: npt.NDArray[np.int64]) -> Learned:
    """By the points before each of the points ``looks``; some entities at a time, as each look is a copy of what it sees."""
    x, n, _ = _judged_as(series)
    memory = Memory.of(series.grid.step)
    some = max(1, MOST_SEEN // (memory.window * len(looks)))
    parts = [_learn_some(x[first : first + some], n[first : first + some], memory, looks) for first in range(0, max(len(x), 1), some)]
    return Learned(*(np.concatenate([getattr(part, column.name) for part in parts]) for column in fields(Learned)))


def _learn_some(x: Floats, n: Floats, memory: Memory, looks: npt.NDArray[np.int64]) -> Learned:
    padded = (np.pad(y, ((0, 0), (memory.window, 0))) for y in (x, n))
    past_x, past_n = (np.lib.stride_tricks.sliding_window_view(y, memory.window, axis=1)[:, looks] for y in padded)
    location = _weighted_median(past_x, np.minimum(past_n, 1000.0))
    deviation = np.abs(past_x - location[..., None])
    used = past_n > 0
    return Learned(location, 1.4826 * _median(deviation, used), _median(past_n, used), used.sum(axis=-1) < memory.needed)
