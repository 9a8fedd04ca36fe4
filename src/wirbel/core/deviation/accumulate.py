"""Surprise added up over time, and how much of it opens a deviation: as much as the false-alarm budget leaves, by the series' own history."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wirbel.core.expected.blocks import in_parts
from wirbel.core.expected.calendar import WEEK_S
from wirbel.core.expected.tails import Calibration

Floats = npt.NDArray[np.float64]
Bools = npt.NDArray[np.bool_]
USUAL = 2.2  # bits that a point may surprise by without adding; where nothing is wrong the mean is log2(e) = 1.44
MOST = 10.0  # bits of one point that count: one outlier opens nothing
MOST_OF_RECORDS = 20.0  # where a point is many records that were judged
FORGOTTEN = 0.25  # bits a point, at least: what is long past does not add up with what is now
JUMP, MOST_JUMP = 8.0, 24.0  # bits of a step from one point to the next that are usual, and that count beyond these
STAYS, HELD = 1.3, 0.6  # usual scatters from the level, and share of the jump, at which the point after it must still be
HIGH_PEAKS = 0.1  # of the peaks of a history, from which the tail is read
PRIOR_BITS = 2.42  # mean excess of peaks over any height where points are independent: 1 / θ where E[exp(θ × what one adds)] = 1
SURE = 1.645  # standard errors of the mean excess that are added: a promise is kept nineteen times of twenty
LIKE_PRIOR = 10  # peaks that count with the prior
LEAST, LARGEST = 9.0, 120.0  # bits that open
STILL = 3.0  # |z| beyond which correlation is not reckoned with
STEADY = 1e-3  # |z| that is rounding: of a series that never moves, nothing is alike
MOST_ALIKE = 0.98
LONGEST_LAG = 500
LEAST_MEANS = 24  # summaries that tell something


def sums(gains: Floats) -> Floats:
    """The cumulative sum that never falls below zero (Page, Biometrika 41, 1954), along the last axis."""
    total = np.cumsum(gains, axis=-1)
    return np.asarray(total - np.minimum(np.minimum.accumulate(total, axis=-1), 0.0))


def peaks(accumulated: Floats) -> Floats:
    """The highest value of each stretch between two zeros, shape (stretches,)."""
    inside = accumulated > 0
    edges = np.diff(np.r_[0, inside.astype(np.int8), 0])
    starts, ends = np.flatnonzero(edges == 1), np.flatnonzero(edges == -1)
    if not len(starts):
        return np.zeros(0)
    return np.asarray(np.maximum.reduceat(np.r_[accumulated, 0.0], np.stack([starts, ends], axis=1).ravel())[::2])


@dataclass(frozen=True)
class Correlation:
    """How much a point tells beyond the one before it.

    ``alike`` is the correlation of residuals with the ones before, ``tells`` the share of a point that is news where many are
    added up: one over the integrated autocorrelation time (Geyer, Statistical Science 7, 1992); ``jumps`` are what is not foreseen by the point before.
    """

    alike: float
    tells: float
    jumps: Calibration

    @classmethod
    def of(cls, z: Floats, means: Floats | None = None, points: int = 1, little: float = 0.0) -> Correlation:
        """From residuals of a history, NaN where nothing is known.

        ``little``: residuals up to which mean nothing. How alike they are says nothing of how alike are those that do.

        ``means``: residuals of summaries of so many ``points`` each, which reach farther back. How much more they scatter than means of independent points
        would tells what is slow in the series (batch means, Schmeiser, Operations Research 30, 1982), of which few points say little: each counts
        by the points it stands for.
        """
        rho, time, _ = _correlated(z)
        if little:
            _, time, _ = _correlated(_beyond(z, little))
        alike = float(np.clip(rho[1] if len(rho) > 1 else 0.0, 0.0, MOST_ALIKE))
        told = np.zeros(0) if means is None else _beyond(means[np.isfinite(means)], little)
        if len(told) >= LEAST_MEANS:
            _, of_means, variance = _correlated(told)
            time = float(np.average([time, points * variance * of_means], weights=[np.isfinite(z).sum(), points * len(told)]))
        found = _jumps(z, alike)
        known = found[np.isfinite(found)]
        return cls(alike, 1 / max(time, 1.0), Calibration.of(known if len(known) > 1 else np.array([-1.0, 1.0])))

    def jump_before(self, z: Floats) -> Floats:
        """How far the residual before each, shape (points,), was beyond what the one before that foretold; NaN for the first two."""
        return np.r_[np.nan, _jumps(z, self.alike)[:-1]]


def _beyond(z: Floats, little: float) -> Floats:
    return np.asarray(np.sign(z) * np.maximum(np.abs(z) - little, 0.0))


def _correlated(z: Floats) -> tuple[Floats, float, float]:
    """The correlation of residuals with those so many before, shape (lags,), the time in points over which they are alike, and their variance."""
    still = np.nan_to_num(np.clip(z, -STILL, STILL))
    still = still - still.mean()
    size = 1 << (2 * len(still) - 1).bit_length()
    power = np.abs(np.fft.rfft(still, size)) ** 2
    lags = np.fft.irfft(power, size)[: min(len(still), LONGEST_LAG)]
    rho = lags / max(float(lags[0]), len(still) * STEADY**2)
    ends = np.flatnonzero(rho[1:] <= 2 / np.sqrt(len(still)))  # less is chance (Bartlett 1946)
    time = 1 + 2 * float(rho[1 : 1 + (int(ends[0]) if len(ends) else len(rho) - 1)].sum())
    return rho, time, float(lags[0]) / len(still)


def _jumps(z: Floats, alike: float) -> Floats:
    return np.asarray(np.r_[np.nan, z[1:] - alike * z[:-1]] / np.sqrt(1 - alike**2))


def stay(z: Floats) -> tuple[Bools, Bools]:
    """Whether each residual, shape (points,), is where a jump up, and one down, led the one before it: an outlier falls back, also where neighbours are alike."""
    last = np.r_[np.nan, z[:-1]]
    with np.errstate(invalid="ignore"):
        return z > np.fmax(STAYS, HELD * last), z < np.fmin(-STAYS, HELD * last)


def added(level: Floats, jump: Floats, stays: Bools, tells: float, most: float = MOST, usual: Floats | float = 1.0) -> Floats:
    """Bits that points add, by the probability of their residual, and of the jump to the point before if this one stays there.

    ``most`` count of each; ``usual`` is what they tell where nothing is wrong, as a share of what continuous values do. All of shape (points,);
    what is not known adds nothing. One outlier is no jump to another level.
    """
    bits, leap = (-np.log2(np.maximum(p, 1e-300)) for p in (level, jump))
    slow = np.where(np.isfinite(bits), np.minimum(bits, most) * tells - np.maximum(USUAL * tells * usual, FORGOTTEN), 0.0)
    found = slow + np.where(stays & np.isfinite(leap), np.clip(leap - JUMP, 0.0, MOST_JUMP), 0.0)
    # Sums of whole parts are exact, in whatever order they are added.
    return in_parts(found)


@dataclass(frozen=True)
class Budget:
    """How many false deviations a week one series may have."""

    a_week: float = 1.0

    def opens(self, gains: Floats, step_s: float) -> float:
        """The sum at which a deviation opens, in bits, by replaying a history in which little was wrong.

        Peaks beyond a height are taken to fall off exponentially, as those of such sums do (Siegmund, Sequential Analysis, 1985); how
        fast is read from the highest tenth, by its median so that a few that were no false ones do not count for much,
        with what independent points would do as a prior.
        """
        found = peaks(sums(gains))
        weeks = max(float(np.isfinite(gains).sum()) * step_s / WEEK_S, 1e-9)
        if len(found) < LIKE_PRIOR:
            a_week = WEEK_S / step_s / 10
            return float(np.clip(PRIOR_BITS * np.log(max(a_week / self.a_week, 1.0)), LEAST, LARGEST))
        prior = max(PRIOR_BITS, float(np.quantile(found, 1 - HIGH_PEAKS)) / np.log(1 / HIGH_PEAKS))
        return float(np.clip(self.reached(found, weeks, prior), LEAST, LARGEST))

    def reached(self, found: Floats, weeks: float, prior: float) -> float:
        """The height, in bits, that peaks reach as often as the budget allows; ``found`` in so many weeks, shape (peaks,).

        ``prior``: by how much peaks beyond a height exceed it, as far as too few tell.
        """
        height = float(np.quantile(found, 1 - HIGH_PEAKS))
        beyond = found[found > height] - height
        own = float(beyond.mean()) * (1 + SURE / np.sqrt(len(beyond))) if len(beyond) else 0.0
        decay = (len(beyond) * own + LIKE_PRIOR * prior) / (len(beyond) + LIKE_PRIOR)
        a_week = max(len(beyond), 1) / weeks
        return float(height + decay * np.log(max(a_week / self.a_week, 1e-9)))
