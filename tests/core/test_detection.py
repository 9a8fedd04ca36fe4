"""Expected bands and deviations: against known answers, reference libraries, and series made so that it is known what must be found."""

from __future__ import annotations

import json

import numpy as np
import pytest
import statsmodels.api as sm
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal, stats

from wirbel.core.deviation import plain
from wirbel.core.deviation.accumulate import Budget, Correlation, peaks, sums
from wirbel.core.deviation.disturbance import Of, contract, group
from wirbel.core.deviation.find import FIRST, Found, find
from wirbel.core.deviation.model import Deviation, Peak
from wirbel.core.expected import profile, seasons
from wirbel.core.expected.seasons import DAY_S, Season
from wirbel.core.expected.tails import Calibration

BEGAN = 1_772_006_400 * 10**9  # 2026-02-25 08:00 UTC
MINUTE = 60 * 10**9
DAY = 1440  # minutes


def times(count: int, step_s: float = 60.0) -> np.ndarray:
    return BEGAN + np.arange(count) * int(step_s * 1e9)


def quiet(days: float, seed: int, alike: float = 0.0, season: float = 10.0) -> tuple[np.ndarray, np.ndarray]:
    """Minutes of a level with the day's turn; each depends on the one before as much as ``alike``."""
    t = times(round(days * DAY))
    noise = signal.lfilter([np.sqrt(1 - alike**2)], [1, -alike], np.random.default_rng([seed, round(alike * 100)]).standard_normal(len(t)))
    return t, 50 + 5 * np.asarray(noise) + season * np.sin(2 * np.pi * np.arange(len(t)) / DAY)


# The parts.


def test_robust_regression_is_that_of_a_reference_library() -> None:
    """Huber's M-estimator on the stack loss data (Brownlee 1965), as in statsmodels' own example."""
    data = sm.datasets.stackloss.load_pandas()
    x = sm.add_constant(data.exog.to_numpy())
    found = seasons.regress(x, data.endog.to_numpy(), np.ones(len(x)))
    expected = sm.RLM(data.endog.to_numpy(), x, M=sm.robust.norms.HuberT()).fit().params
    assert x @ found == pytest.approx(x @ expected, abs=0.35)


def test_a_day_has_its_hours_by_the_clocks_of_its_zone() -> None:
    """Clocks in Berlin went forward in the night to 29 March 2026: nine o'clock is then an hour earlier in UTC."""
    at = [np.datetime64(text, "ns").astype(np.int64) for text in ("2026-03-28T08:00", "2026-03-29T07:00", "2026-03-29T08:00")]
    day, week, off = seasons.phases(np.array(at), "Europe/Berlin")
    assert (day * 24).tolist() == pytest.approx([9, 9, 10])
    assert off.tolist() == [True, True, True]  # Saturday and Sunday
    assert (week * 7).tolist() == pytest.approx([5 + 9 / 24, 6 + 9 / 24, 6 + 10 / 24])


def test_probabilities_of_residuals_are_those_of_their_distribution() -> None:
    """Ranks within the sample, and a generalised Pareto tail beyond it (Pickands 1975): of a normal sample, of which it is known."""
    known = Calibration.of(np.random.default_rng(1).standard_normal(20_000))
    z = np.array([-1.0, 0.0, 1.0, 2.0, 3.0, 4.0])
    assert np.log2(known.above(z)) == pytest.approx(np.log2(stats.norm.sf(z)), abs=0.7)
    assert np.log2(known.below(-z)) == pytest.approx(np.log2(stats.norm.sf(z)), abs=0.7)
    for share in (0.005, 0.05, 0.25, 0.5, 0.75, 0.95, 0.995):
        assert known.quantile(share) == pytest.approx(stats.norm.ppf(share), abs=0.06)


@pytest.mark.parametrize("shape", [0.0, 0.2])
def test_the_tail_is_that_of_scipys_distribution(shape: float) -> None:
    sample = stats.genpareto.rvs(shape, size=50_000, random_state=2)
    found = Calibration.of(sample)
    far = stats.genpareto.isf([1e-3, 1e-4, 1e-5], shape)
    assert np.log10(found.above(far)) == pytest.approx([-3, -4, -5], abs=0.45)


@given(st.lists(st.floats(-5, 5), min_size=1, max_size=60))
def test_the_cumulative_sum_is_pages(gains: list[float]) -> None:
    expected, at = [], 0.0
    for gain in gains:
        at = max(0.0, at + gain)
        expected.append(at)
    assert sums(np.array(gains)).tolist() == pytest.approx(expected, abs=1e-9)
    runs = [list(run) for run in np.split(np.array(expected), np.flatnonzero(np.array(expected) == 0)) if len(run) and max(run) > 0]
    assert sorted(peaks(np.array(expected)).tolist()) == pytest.approx(sorted(max(run) for run in runs))


@pytest.mark.parametrize("alike", [0.0, 0.5, 0.9])
def test_what_a_point_tells_is_one_over_the_autocorrelation_time(alike: float) -> None:
    """Of a first-order autoregression it is (1 − φ) / (1 + φ) (Geyer 1992, and any text on time series)."""
    noise = signal.lfilter([np.sqrt(1 - alike**2)], [1, -alike], np.random.default_rng(3).standard_normal(40_000))
    found = Correlation.of(np.asarray(noise))
    assert found.alike == pytest.approx(alike, abs=0.03)
    assert found.tells == pytest.approx((1 - alike) / (1 + alike), rel=0.25)


def test_a_smaller_budget_opens_later() -> None:
    gains = np.random.default_rng(4).exponential(1 / np.log(2), 20_000) - 2.2
    opens = [Budget(a_week).opens(gains, 60.0) for a_week in (10.0, 1.0, 0.1)]
    assert opens == sorted(opens)
    assert opens[0] < opens[2]


def test_a_plain_threshold_needs_some_minutes() -> None:
    values = np.array([1.0, 9, 9, 9, 9, 9, 9, 1, 9])
    low, high = plain.fires(values, 0.0, 5.0, 60.0)
    assert high.tolist() == [False] * 5 + [True, True, False, False]
    assert not low.any()


# What is normal.


def test_the_season_that_later_days_confirm_is_chosen_and_none_where_there_is_none() -> None:
    t, values = quiet(12, 1, 0.3)
    assert profile.fit(t, values, "level").season.day > 0
    assert profile.fit(t, values, "level").state == "seasonal"
    _, flat = quiet(12, 1, 0.3, season=0.0)
    assert profile.fit(t, flat, "level").season == Season()
    weekly = values - 15 * seasons.phases(t, "UTC")[2]
    assert profile.fit(times(21 * DAY), np.tile(weekly[: 7 * DAY], 3), "level").season.apart


def test_a_pattern_of_the_hour_is_learned() -> None:
    t, values = quiet(4, 2)
    bursts = np.where(seasons.hour_bin(t) < 8, 25.0, 0.0)
    found = profile.fit(t, values + bursts, "level")
    assert found.hour[:8].mean() - found.hour[8:].mean() == pytest.approx(25, abs=2)
    assert profile.fit(t, values, "level").hour.tolist() == [0.0] * 60


@pytest.mark.parametrize("alike", [0.0, 0.6])
def test_the_band_holds_what_it_says(alike: float) -> None:
    """Of days that were not learned from: 99 % of the values within half a point."""
    t, values = quiet(16, 5, alike)
    found = find(t, values)
    late = slice(10 * DAY, None)
    inside = ((values >= found.low) & (values <= found.high))[late]
    assert inside.mean() == pytest.approx(0.99, abs=0.006)


# What departs.


def late_openings(found: Found, after_days: float) -> list[float]:
    return [(d.opened - BEGAN) / (60e9 * DAY) for d in found.deviations if d.opened >= BEGAN + after_days * DAY * MINUTE]


def test_false_deviations_keep_to_their_budget() -> None:
    """Twelve series-weeks in which nothing is wrong, of four degrees of autocorrelation; of budgets see bench/deviations.py."""
    false = [late_openings(find(*quiet(28, 7, alike)), 7) for alike in (0.0, 0.5, 0.8, 0.95)]
    assert sum(len(one) for one in false) <= 1.5 * 12


@pytest.mark.parametrize(("alike", "within"), [(0.0, 2), (0.5, 4)])
def test_a_step_is_noticed_in_minutes_and_dated_to_the_minute(alike: float, within: int) -> None:
    t, values = quiet(9, 8, alike)
    begin, end = 8 * DAY + 333, 8 * DAY + 333 + 240
    values[begin:end] += 22
    [found] = [d for d in find(t, values).deviations if d.ended is None or d.ended > t[begin]]
    assert found.direction == "high"
    assert abs(found.onset - t[begin]) <= MINUTE
    assert found.onset_low <= t[begin] <= found.onset_high
    assert 0 <= found.opened - t[begin] <= within * MINUTE
    # Four hours later the level has not learned it.
    assert found.ended is not None
    assert 0 <= found.ended - t[end] <= 20 * MINUTE
    assert found.peak.actual is not None
    assert found.peak.actual > found.peak.high
    assert found.lead_s is None or found.lead_s > 0


def test_a_slow_ramp_is_noticed_before_a_plain_threshold() -> None:
    t, values = quiet(9, 9, 0.3)
    begin = 8 * DAY
    values[begin:] += np.linspace(0, 60, DAY)  # a leak
    first = next(d for d in find(t, values).deviations if d.opened >= t[begin])
    assert first.lead_s is not None
    assert first.lead_s >= 600


def test_a_fall_and_an_outlier() -> None:
    t, values = quiet(9, 10)
    values[8 * DAY : 8 * DAY + 60] -= 25
    values[8 * DAY + 500] += 60  # one minute
    found = [d for d in find(t, values).deviations if d.opened >= t[8 * DAY]]
    assert [d.direction for d in found] == ["low"]


def test_what_lasts_for_a_day_is_the_new_normal() -> None:
    t, values = quiet(12, 11, season=0.0)
    values[8 * DAY :] += 30
    found = find(t, values)
    [lasting] = [d for d in found.deviations if t[8 * DAY] <= d.opened < t[10 * DAY]]
    assert lasting.ended == pytest.approx(t[9 * DAY], abs=5 * MINUTE)
    assert found.expected[-1] == pytest.approx(80, abs=3)


def test_silence_is_a_deviation_of_its_own_and_usual_gaps_are_none() -> None:
    t, values = quiet(6, 12)
    values[np.arange(len(t)) % 200 < 3] = np.nan
    assert not [d for d in find(t, values).deviations if d.direction == "absent"]
    values[5 * DAY : 5 * DAY + 45] = np.nan
    [found] = [d for d in find(t, values).deviations if d.direction == "absent"]
    assert (found.onset, found.ended) == (t[5 * DAY], t[5 * DAY + 45])
    assert found.peak.actual is None


def test_history_is_read_as_it_was_live() -> None:
    """What had ended by some minute is found the same whether the later ones are known or not."""
    t, values = quiet(9, 13, 0.5)
    values[7 * DAY : 7 * DAY + 90] += 22
    values[8 * DAY : 8 * DAY + 30] -= 30
    whole = find(t, values)
    for now in (7 * DAY + 400, 8 * DAY + 17, 8 * DAY + 700):
        live = find(t[:now], values[:now])
        assert [d for d in live.deviations if d.ended is not None] == [d for d in whole.deviations if d.ended is not None and d.ended < t[now] - 5 * MINUTE]
        assert live.high == pytest.approx(whole.high[:now], nan_ok=True)


@settings(max_examples=15, deadline=None)
@given(st.sampled_from(["constant", "zero", "one a day", "nan", "few", "spike", "units"]), st.sampled_from(["level", "rate", "quantile", "share"]))
def test_odd_series_have_a_stated_behaviour(shape: str, kind: str) -> None:
    """None raises; what never changes has no deviation; what is too short says nothing."""
    t = times(3 * DAY)
    values = {
        "constant": np.full(len(t), 0.4),
        "zero": np.zeros(len(t)),
        "one a day": np.full(60, 0.4),
        "nan": np.full(len(t), np.nan),
        "few": np.where(np.arange(len(t)) < FIRST, 0.4, np.nan),
        "spike": np.where(np.arange(len(t)) == 4000, 0.9, 0.4),
        "units": np.where(np.arange(len(t)) < 4000, 0.4, 0.0004),
    }[shape]
    t = times(60, DAY_S) if shape == "one a day" else t
    found = find(t, values, kind)  # type: ignore[arg-type]
    high_or_low = [d.direction for d in found.deviations if d.direction != "absent"]
    assert high_or_low == (["low"] if shape == "units" else [])
    if shape in ("nan", "few"):
        assert found.profile is None
        assert np.isnan(found.high).all()


def test_nothing_given_is_changed() -> None:
    t, values = quiet(3, 14)
    before = values.copy()
    values.flags.writeable = False
    find(t, values)
    assert (values == before).all()


# Together.


def deviation(onset_min: float, ended_min: float | None, expected: float = 1.0) -> Deviation:
    onset = BEGAN + round(onset_min * MINUTE)
    ended = None if ended_min is None else BEGAN + round(ended_min * MINUTE)
    return Deviation("high", onset, onset, onset, onset, ended, Peak(onset, 2.0, expected, expected, expected), 12.0, None, True)


def test_deviations_near_in_time_are_one_disturbance_led_by_the_earliest() -> None:
    given_ = [Of(name, None, {}, "s", deviation(*at)) for name, at in {"d": (200, None), "b": (5, 60), "a": (0, 10), "c": (69, 80), "e": (999, 1001)}.items()]
    groups = group(given_)
    assert [[one.metric for one in found.members] for found in groups] == [["a", "b", "c"], ["d", "e"]]  # what goes on takes in what follows
    assert (groups[0].start, groups[0].end) == (BEGAN, BEGAN + 80 * MINUTE)
    assert groups[1].end is None
    told = contract(given_)
    assert told["disturbances"][0]["first"] == told["deviations"][0]["id"] == given_[2].id


def test_what_is_not_known_is_null_in_json() -> None:
    told = json.loads(json.dumps(contract([Of("m", None, {}, "", deviation(0, 1, expected=float("nan")))]), allow_nan=False))
    assert told["deviations"][0]["peak"]["expected"] is None
