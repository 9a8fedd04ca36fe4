"""What a series does at each time of day, of the week and of the hour: robust harmonic regression, as much of it as its own later days confirm."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wirbel.core.expected.calendar import DAY_S, HOUR_S, SECOND_NS, WEEK_S, Phases

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
BLOCK_S = 600  # of which one median is taken, for what is slow
RIDGE = 1e-3  # of the number of points
HUBER = 1.345  # robust standard deviations; 95 % efficient where errors are normal (Huber 1964)
ROUNDS, SETTLED = 6, 0.01  # of reweighting, at most, and the change of the coefficients, in the scatter about them, at which it ends
GAIN = 0.06  # of the mean squared error: less does not pay for a season
HOUR_GAIN = 0.03  # of the mean absolute error, for what each hour does
TRAINED = 0.6  # of the history, on which seasons are fitted that the rest is to confirm
WEEKS = 2.0  # of a history, from which on a whole week is held out for that, the last and the first: days off are in both parts
HOUR_BINS = 60
WEEKEND_H = 5 * 24  # after the beginning of the week (Monday) by the series' clocks, at which two days off begin
OFF_FROM_H = (WEEKEND_H, *(WEEKEND_H + shift for shift in (-28, -12, -8, -4, 4, 8, 12)))
"""The same by the clocks of people elsewhere: whose zone is not known, or who do not work on Fridays."""


@dataclass(frozen=True)
class Season:
    """Which harmonics a series has: of the day, of the week, and of the day on two days off apart, which begin so many hours after the week."""

    day: int = 0
    week: int = 0
    off_from: int | None = None


NONE = Season()


def candidates(history_s: float, step_s: float) -> Sequence[Sequence[Season]]:
    """Seasons that a history of this length and step can tell, from the simplest kind on: each has to come round twice."""
    found = [[NONE]]
    if history_s >= 2 * DAY_S and step_s <= DAY_S / 8:
        found += [[Season(day=3)], [Season(day=8)]]
    if history_s >= 1.4 * WEEK_S and step_s <= DAY_S / 2:
        found += [[Season(min(8, int(DAY_S / step_s / 3)), 3, off_from) for off_from in OFF_FROM_H]]
    return found


def held_out(history_s: float) -> Sequence[tuple[float, float]]:
    """From and to when in a history (s after its beginning) each part lies that is to confirm what is learned from the rest."""
    if history_s < WEEKS * WEEK_S:
        return [(TRAINED * history_s, history_s)]
    return [(history_s - WEEK_S, history_s), (0, WEEK_S)]


def week(season: Season, at: Phases) -> Floats:
    """The time of the week that each is like, as a share of it, shape (times,): of a public holiday that of the second day off."""
    if season.off_from is None or not at.holiday.any():
        return at.week
    second_h = season.off_from + DAY_S / HOUR_S
    since = (at.day - second_h * HOUR_S / DAY_S) % 1  # in days
    return np.where(at.holiday, (second_h * HOUR_S / WEEK_S + since * DAY_S / WEEK_S) % 1, at.week)


def design(season: Season, at: Phases) -> Floats:
    """Columns of the regression, shape (times, columns); the first is the level."""
    common = np.stack([np.ones(len(at.day)), *_harmonics(at.day, season.day), *_harmonics(week(season, at), season.week)], axis=1)
    return common if season.off_from is None else np.hstack([common, apart(season, at, common)])


def apart(season: Season, at: Phases, common: Floats) -> Floats:
    """Columns of the days off: level and day of the ``common`` ones, shape (times, columns)."""
    assert season.off_from is not None
    is_off = (week(season, at) - season.off_from * HOUR_S / WEEK_S) % 1 < 2 * DAY_S / WEEK_S
    return common[:, : 1 + 2 * season.day] * is_off[:, None]


def _harmonics(phase: Floats, most: int) -> list[Floats]:
    return [turn(2 * np.pi * k * phase) for k in range(1, most + 1) for turn in (np.cos, np.sin)]


def regress(x: Floats, y: Floats, weight: Floats) -> Floats:
    """Coefficients by Huber's M-estimator, reweighted least squares with a little ridge but on the level (Huber, Annals of Mathematical Statistics 35, 1964).

    ``x`` (points, columns), ``y`` and ``weight`` (points,); points of weight 0 do not count.
    """
    penalty = np.full(x.shape[1], RIDGE * max(float((weight > 0).sum()), 1.0))
    penalty[0] = 1e-9
    robust = np.ones_like(y)
    found: Floats = np.zeros(x.shape[1])
    for _ in range(ROUNDS):
        w, before = weight * robust, found
        found = np.asarray(np.linalg.solve(x.T @ (x * w[:, None]) + np.diag(penalty), x.T @ (w * y)), np.float64)
        residual = y - x @ found
        used = weight > 0
        spread = max(1.4826 * float(np.median(np.abs(residual[used]))) if used.any() else 0.0, 1e-12)
        robust = np.minimum(1.0, HUBER * spread / np.maximum(np.abs(residual), 1e-300))
        if np.abs(found - before).max() < SETTLED * spread:
            break
    return found


def hour_bin(times: Ints) -> Ints:
    """Minute of the hour of each time (ns)."""
    return (times // (60 * SECOND_NS)) % HOUR_BINS


def hour_pattern(times: Ints, residual: Floats, by_means: bool) -> Floats:
    """The median, or the mean, of each minute of the hour, shape (60,), of residuals; NaN in ``residual`` does not count, and a minute without any has 0."""
    known = np.isfinite(residual)
    told, bins = residual[known], hour_bin(times[known])
    of = np.mean if by_means else np.median
    found = np.array([of(told[bins == minute]) if (bins == minute).any() else 0.0 for minute in range(HOUR_BINS)])
    return found if by_means else found - np.median(found)
