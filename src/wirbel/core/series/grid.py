"""The points in time of a chart."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from wirbel.core import arrow

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
LONGEST_SUMMARY_S = 3600  # that is kept; days are added up from them
DAY_S = 24 * 3600
STEPS = ((1.5 * DAY_S, 1), (6 * DAY_S, 600), (60 * DAY_S, 3600), (float("inf"), DAY_S))  # widest range (s) that is shown in steps of so many s, at least


@dataclass(frozen=True)
class Grid:
    """Points of a chart that cover [start, end) ns: minutes, or longer stretches where the range is wide."""

    start: int
    end: int
    finest: int = 60  # s, of what is still kept

    @property
    def step(self) -> int:
        """Seconds from one point to the next."""
        return max(self.finest, next(step for widest, step in STEPS if (self.end - self.start) / 1e9 <= widest))

    @property
    def step_ns(self) -> int:
        return self.step * 10**9

    @property
    def cell_step(self) -> int:
        """As reading.cells wants it: 0 for the minutes themselves."""
        return 0 if self.step <= 60 else min(self.step, LONGEST_SUMMARY_S)

    @property
    def first(self) -> int:
        return self.start - self.start % self.step_ns

    @property
    def count(self) -> int:
        return -(-(self.end - self.first) // self.step_ns)

    @property
    def times(self) -> Ints:
        return self.first + np.arange(self.count) * self.step_ns

    @property
    def covered_s(self) -> Floats:
        """Seconds of each stretch that have passed: the last one may have just begun."""
        return np.minimum(self.end - self.times, self.step_ns) / 1e9

    def index(self, table: pa.Table) -> Ints:
        return (arrow.numbers(table["minute"]) - self.first) // self.step_ns

    def inside(self, window: tuple[int, int]) -> Ints:
        """Points that begin in the window and are at least half over."""
        times = self.times
        return np.flatnonzero((times >= window[0] - window[0] % self.step_ns) & (times < window[1]) & (self.covered_s >= self.step / 2))


def fewer(values: Floats, stride: int) -> Floats:
    """The lower median of each ``stride`` points up to the last, along the last axis: of shape (…, points // stride); NaN where none is known. Small charts have no room for more."""
    points = values.shape[-1]
    parts = values[..., points % stride :].reshape(*values.shape[:-1], points // stride, stride)
    return np.where(np.isnan(parts).all(axis=-1), np.nan, np.sort(parts, axis=-1)[..., (stride - 1) // 2])
