"""Forecasts: exact on what can be known, statsmodels' own series, and intervals that hold what they say."""

from __future__ import annotations

import numpy as np
import pytest
import statsmodels.api as sm

from wirbel.core.errors import NotEnoughData
from wirbel.core.expected.forecast import forecast, meets

HOUR = 3600 * 10**9
BEGAN = 1_772_006_400 * 10**9


def hours(count: int) -> np.ndarray:
    return BEGAN + np.arange(count) * HOUR


def test_a_straight_line_goes_on_and_meets_its_limit_when_it_must() -> None:
    found = forecast(hours(100), 10 + 0.5 * np.arange(100.0), 48 * 3600)
    assert found.times[0] == BEGAN + 100 * HOUR
    assert found.middle == pytest.approx(10 + 0.5 * np.arange(100, 148), rel=1e-3)
    met = meets(found, 70.0)
    assert met.at == pytest.approx(BEGAN + 120 * HOUR, abs=HOUR)
    assert met.earliest is not None
    assert met.latest is not None
    assert met.earliest <= met.at <= met.latest  # type: ignore[operator]
    assert meets(found, 200.0).at is None
    falling = forecast(hours(100), 90 - 0.5 * np.arange(100.0), 48 * 3600)
    assert meets(falling, 30.0, rising=False).at == pytest.approx(BEGAN + 120 * HOUR, abs=HOUR)


def test_a_day_comes_round() -> None:
    """Nine days of an hour's values with the day's turn and a trend: the next day within the noise."""
    at = np.arange(9 * 24)
    values = 100 + 0.05 * at + 20 * np.sin(2 * np.pi * at / 24) + np.random.default_rng(1).normal(0, 1, len(at))
    found = forecast(hours(len(at)), values, 24 * 3600)
    ahead = np.arange(9 * 24, 10 * 24)
    assert found.middle == pytest.approx(100 + 0.05 * ahead + 20 * np.sin(2 * np.pi * ahead / 24), abs=3.0)


def test_the_level_of_the_nile_is_that_of_statsmodels() -> None:
    """Nile flow 1871-1970 (in statsmodels): simple exponential smoothing of it, as its own documentation has it, ends near 800."""
    nile = sm.datasets.nile.load_pandas().data["volume"].to_numpy()
    expected = sm.tsa.SimpleExpSmoothing(nile, initialization_method="estimated").fit().forecast(1)[0]
    found = forecast(BEGAN + np.arange(len(nile)) * 86_400 * 365 * 10**9, nile, 86_400 * 365 * 3)
    assert found.middle == pytest.approx(expected, rel=0.03)


def test_intervals_hold_what_they_say() -> None:
    """Of 60 random walks with noise, about 95 % of what comes lies inside."""
    inside = []
    for seed in range(60):
        rng = np.random.default_rng(seed)
        values = np.cumsum(rng.normal(0, 1, 160)) + rng.normal(0, 0.5, 160)
        found = forecast(hours(150), values[:150], 10 * 3600)
        inside.append((found.low <= values[150:]) & (values[150:] <= found.high))
    assert np.mean(inside) == pytest.approx(0.95, abs=0.05)


def test_odd_series_have_a_stated_behaviour() -> None:
    constant = forecast(hours(50), np.full(50, 3.0), 5 * 3600)
    assert constant.low.tolist() == constant.high.tolist() == [3.0] * 5
    with pytest.raises(NotEnoughData, match="at least 12"):
        forecast(hours(50), np.r_[np.arange(5.0), np.full(45, np.nan)], 3600)
    with pytest.raises(NotEnoughData):
        forecast(hours(3), np.full(3, np.nan), 3600)
    near_zero = forecast(hours(60), np.abs(np.random.default_rng(2).normal(0, 1, 60)).cumsum()[::-1] / 10, 200 * 3600)
    assert near_zero.low.min() >= 0
    gaps = np.where(np.arange(100) % 7 == 3, np.nan, np.arange(100.0))
    assert forecast(hours(100), gaps, 3600).middle == pytest.approx([100.0], abs=0.5)
