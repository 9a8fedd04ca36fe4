"""Values of a series as they are followed, and what was expected of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
Bools = npt.NDArray[np.bool_]


@dataclass(frozen=True)
class Points:
    """Values of a series at even steps; all of one shape. ``times`` in ns, ``values`` NaN where nothing is known.

    ``samples`` are the records behind each value; NaN where nobody watched: what is missing there is no silence. A value that has none
    nevertheless is a summary of a longer stretch: it tells what the day and the week do, and not how values of one step scatter.
    """

    times: Ints
    values: Floats
    samples: Floats

    @property
    def is_summary(self) -> Bools:
        return np.isfinite(self.values) & np.isnan(self.samples)

    def part(self, begin: int, end: int) -> Points:
        return Points(self.times[begin:end], self.values[begin:end], self.samples[begin:end])

    def between(self, start: int, end: int) -> Points:
        """Those of [start, end) ns."""
        return self.part(*np.searchsorted(self.times, (start, end)).tolist())

    def joined(self, later: Points) -> Points:
        return Points(np.r_[self.times, later.times], np.r_[self.values, later.values], np.r_[self.samples, later.samples])


@dataclass(frozen=True)
class Expected:
    """What was expected of points that were read, and the band: NaN while nothing is known, shape (points,)."""

    middle: Floats
    low: Floats
    high: Floats

    @classmethod
    def joined(cls, parts: Sequence[Expected]) -> Expected:
        return cls(*(np.concatenate([np.zeros(0), *(getattr(part, name) for part in parts)]) for name in ("middle", "low", "high")))

    def means(self, count: int) -> Expected:
        """Of each so many points one after another, shape (points / count,): the mean of what is known of them."""
        return Expected(*(_mean(side.reshape(-1, count)) for side in (self.middle, self.low, self.high)))


def _mean(table: Floats) -> Floats:
    known = np.isfinite(table)
    number = known.sum(axis=1)
    return np.where(number > 0, np.where(known, table, 0.0).sum(axis=1) / np.maximum(number, 1), np.nan)
