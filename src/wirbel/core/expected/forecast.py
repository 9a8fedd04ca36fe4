"""Where a series is heading, with an interval, and when it meets a limit."""

from __future__ import annotations

import warnings
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wirbel.core.errors import NotEnoughData

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
LEAST = 12  # points that are known
MOST = 400  # points that are fitted: longer histories are read in longer steps
DAY_S = 86_400
TURNS = 2.5  # of a day that there must be for its season
SHARE = 0.95
GAIN = 10.0  # of the information criterion, from which on a season or a trend is believed
SMALLEST = 1e-12


@dataclass(frozen=True)
class Forecast:
    """``times`` (ns) of what is to come, in even steps, the expected values and the SHARE interval about them, all of shape (steps,); ``known``,
    shape (points,), are the values in the same steps before it that this rests on."""

    known: Floats
    times: Ints
    middle: Floats
    low: Floats
    high: Floats


@dataclass(frozen=True)
class Meeting:
    """When a limit is met, ns: as expected, at the earliest and at the latest (with SHARE); None: not within what was foretold."""

    at: int | None
    earliest: int | None
    latest: int | None


def forecast(times: Ints, values: Floats, ahead_s: float) -> Forecast:
    """Exponential smoothing with errors, trend and, where the history has it, the season of the day (Hyndman, Koehler, Ord and Snyder 2008), by statsmodels.

    ``times`` (ns) at even steps and ``values`` of shape (points,), NaN where nothing is known. The model is the one that Akaike's criterion
    clearly wants. Raises NotEnoughData where fewer than LEAST points are known.
    """
    step_ns, first, told = _coarse(times, values)
    if len(told) < LEAST:
        raise NotEnoughData(f"{len(told)} points are known; at least {LEAST} are needed to say where this is heading.")
    steps = max(1, round(ahead_s * 1e9 / step_ns))
    ahead = first + (len(told) + np.arange(steps)) * step_ns
    spread = float(np.std(told))
    if spread < SMALLEST * max(1.0, float(np.abs(told).max())):
        return Forecast(told, ahead, *np.full((3, steps), told[-1]))
    # Fitted in its own size: the optimiser knows no units.
    scale, middle = spread, float(np.mean(told))
    found = _fitted((told - middle) / scale, round(DAY_S * 1e9 / step_ns)).get_prediction(start=len(told), end=len(told) + steps - 1)
    bounds = found.pred_int(alpha=1 - SHARE).to_numpy()
    mean = np.asarray(found.predicted_mean, np.float64)
    least = 0.0 if told.min() >= 0 else -np.inf  # what was never negative does not become so
    return Forecast(told, ahead, *(np.maximum(np.asarray(one) * scale + middle, least) for one in (mean, bounds[:, 0], bounds[:, 1])))


def _coarse(times: Ints, values: Floats) -> tuple[int, int, Floats]:
    """Step, first time and values of MOST points at most, from the first that is known to the last; short gaps are bridged."""
    known = np.flatnonzero(np.isfinite(values))
    if not len(known):
        return 1, 0, np.zeros(0)
    inside = slice(int(known[0]), int(known[-1]) + 1)
    step = int(np.median(np.diff(times))) if len(times) > 1 else 1
    length = inside.stop - inside.start
    width = -(-length // MOST)
    stretches = np.pad(values[inside], (0, -length % width), constant_values=np.nan).reshape(-1, width)
    count = np.isfinite(stretches).sum(axis=1)
    seen = np.flatnonzero(count)
    means = np.interp(np.arange(len(stretches)), seen, np.nansum(stretches, axis=1)[seen] / count[seen])
    return step * width, int(times[inside.start]), means[: length // width]  # what is left of a stretch at the end says how to get there


def _fitted(values: Floats, day: int):  # type: ignore[no-untyped-def]
    # 90 MB, which a web server does without until somebody asks where a series is heading.
    import pandas as pd
    from statsmodels.tsa.exponential_smoothing.ets import ETSModel

    best, least = None, np.inf
    for trend in (None, "add"):
        for season in (None, "add"):
            if season and not (2 <= day <= len(values) / TURNS):
                continue
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")  # of optimisation that might go on: the criterion tells which model is good
                found = ETSModel(pd.Series(values), trend=trend, seasonal=season, seasonal_periods=day if season else None).fit(disp=False, maxiter=200)
            if np.isfinite(found.aic) and (best is None or found.aic < least - GAIN):
                best, least = found, found.aic
    if best is None:
        raise NotEnoughData("No model fits this series.")
    return best


def meets(found: Forecast, limit: float, rising: bool = True) -> Meeting:
    """When the forecast reaches a limit from beneath, or from above."""
    sign = 1.0 if rising else -1.0
    near, far = (found.high, found.low) if rising else (found.low, found.high)

    def first(values: Floats) -> int | None:
        over = np.flatnonzero(sign * values >= sign * limit)
        return int(found.times[over[0]]) if len(over) else None

    return Meeting(first(found.middle), first(near), first(far))
