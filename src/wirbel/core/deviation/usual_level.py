"""Where the level of a series usually lies: what goes wrong slowly, or stays wrong, is seen against that.

Of a series in which a minute is like the one before, either the level is the median of a short time, and follows a fault within an hour, or
it is that of a day, and a fault that grows for hours looks like restlessness. How far the medians of ten minutes stray where nothing is wrong
is told by the series' own history.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wirbel.core.deviation.accumulate import LIKE_PRIOR, Budget, peaks
from wirbel.core.deviation.model import Direction
from wirbel.core.expected.seasons import TRAINED
from wirbel.core.expected.tails import Calibration

Floats = npt.NDArray[np.float64]
DIRECTIONS: tuple[Direction, ...] = ("high", "low")
STRAYING = Budget(0.25)  # whatever the budget is: a smaller one must not find more
MOST_STRAYS = 1  # of the later part of a history, by what the earlier one told
BITS = 1 / np.log(2)  # mean excess over any height of how improbable a value is


@dataclass(frozen=True)
class Reach:
    """Of one direction: how far from the middle a block's median has to be to open a deviation, and a point, in usual scatters, to be loud."""

    opens: float = np.inf
    loud: float = np.inf


@dataclass(frozen=True)
class UsualLevel:
    """On the judged scale, without the season."""

    middle: float
    high: Reach
    low: Reach

    @classmethod
    def of(cls, medians: Floats, points: Floats, usual: Floats, budget: Budget, weeks: float, loud_share: float, only_high: bool) -> UsualLevel | None:
        """From a history of so many weeks without its season: medians of its blocks, shape (blocks,), its points and their usual scatter,
        shape (points,); NaN where nothing is known. ``loud_share`` of the points are loud where nothing is wrong. None where the later part of the
        history strays from where the earlier one lay: it has no usual level."""
        trained = round(len(medians) * TRAINED)
        away = (points - float(np.nanmedian(medians))) / usual
        louds = [float(np.nanquantile(sign * away, 1 - loud_share)) for sign in (1.0, -1.0)]
        early = cls._of(medians[:trained], STRAYING, weeks * TRAINED, louds, only_high)
        strays = sum(_runs(early.is_left(medians[trained:], direction)) for direction in DIRECTIONS)
        return None if strays > MOST_STRAYS else cls._of(medians, budget, weeks, louds, only_high)

    @classmethod
    def _of(cls, medians: Floats, budget: Budget, weeks: float, louds: list[float], only_high: bool) -> UsualLevel:
        middle = float(np.nanmedian(medians))
        high, low = (Reach(_opens(sign * (medians - middle), budget, weeks), loud) for sign, loud in zip((1.0, -1.0), louds, strict=True))
        return cls(middle, high, Reach() if only_high else low)

    def reach(self, direction: Direction) -> Reach:
        return self.high if direction == "high" else self.low

    def is_left(self, medians: Floats, direction: Direction) -> npt.NDArray[np.bool_]:
        """Which blocks' medians, elementwise, are farther away than the budget allows; none that is not known."""
        sign = 1.0 if direction == "high" else -1.0
        with np.errstate(invalid="ignore"):
            return np.asarray(sign * (medians - self.middle) >= self.reach(direction).opens)


def _opens(away: Floats, budget: Budget, weeks: float) -> float:
    """The distance that is reached as often as the budget allows."""
    known = away[np.isfinite(away)]
    if not len(known):
        return np.inf
    calibration = Calibration.of(known)
    bits = np.where(np.isfinite(away), -np.log2(np.maximum(calibration.above(away), 1e-300)), 0.0)
    found = peaks(np.maximum(bits - 1, 0.0)) + 1  # of stretches on the far side of the middle
    if len(found) < LIKE_PRIOR:  # it does not come back often enough to tell how far it goes
        return np.inf
    return calibration.quantile(1 - 2.0 ** -budget.reached(found, weeks, BITS))


def _runs(of: npt.NDArray[np.bool_]) -> int:
    return int((np.diff(np.r_[0, of.astype(np.int8)]) == 1).sum())
