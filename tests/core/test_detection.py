"""Expected bands and deviations: against known answers, reference libraries, and series made so that it is known what must be found."""

from __future__ import annotations

import json
from dataclasses import replace
from itertools import pairwise

import numpy as np
import pytest
import statsmodels.api as sm
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal, stats

from wirbel.core.deviation import plain
from wirbel.core.deviation.accumulate import Budget, Correlation, peaks, sums
from wirbel.core.deviation.contract import contract
from wirbel.core.deviation.disturbance import Of, clear_onset, windows
from wirbel.core.deviation.find import Found, find
from wirbel.core.deviation.grouping import group
from wirbel.core.deviation.model import Deviation, Peak
from wirbel.core.deviation.points import Points
from wirbel.core.deviation.state import dump, restore
from wirbel.core.deviation.tracker import FIRST, Tracker
from wirbel.core.expected import profile, scale, seasons, shares
from wirbel.core.expected.calendar import BY_UTC, DAY_S, Calendar
from wirbel.core.expected.scale import Scale
from wirbel.core.expected.seasons import WEEKEND_H, Season
from wirbel.core.expected.tails import Calibration
from wirbel.core.topology.graph import EntityId

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
    day, week, _ = Calendar("Europe/Berlin").phases(np.array(at))
    assert (day * 24).tolist() == pytest.approx([9, 9, 10])
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


@pytest.mark.parametrize(("alike", "drift"), [(0.0, 0.0), (0.5, 0.0), (0.9, 0.0), (0.3, 0.98)])
def test_ten_hours_of_points_and_days_of_means_tell_as_much_of_correlation_as_days_of_points(alike: float, drift: float) -> None:
    """Batch means (Schmeiser 1982): also of what is slow, of which some hours say little."""
    rng = np.random.default_rng(5)
    noise = np.asarray(signal.lfilter([np.sqrt(1 - alike**2)], [1, -alike], rng.standard_normal(40_000)))
    if drift:
        noise = (noise + np.asarray(signal.lfilter([np.sqrt(1 - drift**2)], [1, -drift], rng.standard_normal(len(noise))))) / np.sqrt(2)
    whole = Correlation.of(noise)
    hours = Correlation.of(noise[-600:], np.r_[np.nan, noise.reshape(-1, 10).mean(axis=1)], 10)
    assert hours.tells == pytest.approx(whole.tells, rel=0.3)


def test_a_smaller_budget_opens_later() -> None:
    gains = np.random.default_rng(4).exponential(1 / np.log(2), 20_000) - 2.2
    opens = [Budget(a_week).opens(gains, 60.0) for a_week in (10.0, 1.0, 0.1)]
    assert opens == sorted(opens)
    assert opens[0] < opens[2]


@pytest.mark.parametrize(("minutes", "fires"), [(4, False), (5, True)])
def test_a_plain_threshold_is_a_little_beyond_the_history_and_needs_some_minutes(minutes: int, fires: bool) -> None:
    assert plain.limits(np.r_[np.arange(1001.0), np.nan]) == pytest.approx((500 - 1.2 * 499, 500 + 1.2 * 499))
    t, values = quiet(5, 15)
    begin = 4 * DAY + 100
    values[begin : begin + 3 + minutes] += 60
    values[begin + 2] = 50.0  # the count begins anew
    [found] = [d for d in find(t, values).deviations if d.opened >= t[begin]]
    assert found.threshold_at == (t[begin + 2 + plain.held(60.0)] if fires else None)


@pytest.mark.parametrize("more", [1.0, 4.0])
def test_probabilities_of_shares_are_those_of_scipys_distributions(more: float) -> None:
    """Binomial, or a beta-binomial that scatters ``more`` times as much; with half of the number itself (mid-p)."""
    n, share = 400.0, 0.03
    count = np.array([0, 4, 8, 12, 16, 20, 26])
    inside = (more - 1) / (n - 1)  # correlation within a minute: variance n p q (1 + (n - 1) ρ)
    a, b = (x * (1 / inside - 1) for x in (share, 1 - share)) if more > 1 else (0.0, 0.0)
    law = stats.betabinom(n, a, b) if more > 1 else stats.binom(n, share)
    expected = law.sf(count - 1) - law.pmf(count) / 2
    above, below = shares.chances(count / n, np.full(len(count), n), np.full(len(count), share), more)
    assert np.log2(above) == pytest.approx(np.log2(expected), abs=0.01 if more == 1 else 0.8)
    assert above + below == pytest.approx(1.0)


def test_how_much_more_than_by_chance_shares_scatter_is_found() -> None:
    rng = np.random.default_rng(5)
    n = np.full(20_000, 300.0)
    by_chance, clustered = rng.binomial(300, 0.05, 20_000) / n, stats.betabinom.rvs(300, 5, 95, size=20_000, random_state=6) / n
    assert shares.more_than_chance(by_chance, n, np.full(20_000, 0.05)) == pytest.approx(1.0, abs=0.15)
    assert shares.more_than_chance(clustered, n, np.full(20_000, 0.05)) == pytest.approx(1 + 299 / 101, rel=0.15)  # ρ = 1 / (a + b + 1)


@pytest.mark.parametrize("kind", ["level", "rate", "count", "quantile", "share", "utilization"])
def test_values_come_back_from_the_scale_on_which_they_are_judged(kind: str) -> None:
    judged_by = Scale.of(kind, 60.0)  # type: ignore[arg-type]
    values = np.array([0.0, 0.001, 0.02, 0.5, 1.0])
    n = np.full(5, 1e9)
    assert judged_by.back(judged_by.judged(values, n)) == pytest.approx(values, abs=2e-6)


@pytest.mark.parametrize("a_minute", [30, 400])
def test_rare_failures_are_no_deviation_and_a_few_per_cent_are(a_minute: int) -> None:
    """One request in 2,000 fails by chance; then three in a hundred do, for twenty minutes."""
    rng = np.random.default_rng(9)
    t = times(10 * 60)
    n = rng.poisson(a_minute, len(t)).astype(float)
    share = np.full(len(t), 0.0005)
    share[500:520] = 0.03
    failed = rng.binomial(n.astype(int), share) / np.maximum(n, 1)
    found = [d for d in find(t, failed, "share", n).deviations if d.direction == "high"]
    assert [abs(d.onset - t[500]) <= 4 * MINUTE for d in found] == [True]
    assert found[0].opened - t[500] <= (12 if a_minute < 100 else 3) * MINUTE
    # What was expected is what was usual, and not half a request of each minute.
    assert found[0].peak.expected == pytest.approx(0.0005, rel=1.0)


@pytest.mark.parametrize("mean", [2.0, 20.0, 2000.0])
def test_counts_scatter_alike_whatever_their_size(mean: float) -> None:
    """Negative binomial counts of the shape that the scale is made for (Anscombe 1948)."""
    counts = np.random.default_rng(7).negative_binomial(scale.LARGE, scale.LARGE / (scale.LARGE + mean), 50_000)
    judged = Scale.of("count", 60.0).judged(counts.astype(float), np.ones(50_000))
    assert judged.std() == pytest.approx(1 / np.sqrt(scale.LARGE), rel=0.12)


# What is normal.


def test_the_season_that_later_days_confirm_is_chosen_and_none_where_there_is_none() -> None:
    t, values = quiet(12, 1, 0.3)
    assert profile.fit(t, values, "level").season.day > 0
    assert profile.fit(t, values, "level").state == "seasonal"
    _, flat = quiet(12, 1, 0.3, season=0.0)
    assert profile.fit(t, flat, "level").season == Season()
    weekly = values - 15 * (BY_UTC.phases(t).week >= 5 / 7)
    assert profile.fit(times(21 * DAY), np.tile(weekly[: 7 * DAY], 3), "level").season.off_from == WEEKEND_H


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
    inside = ((values >= found.expected.low) & (values <= found.expected.high))[late]
    assert inside.mean() == pytest.approx(0.99, abs=0.006)


def test_what_hardly_moves_may_move_a_little() -> None:
    """A share of two per cent of a processor that scatters by a hundredth of it is not out of order at twice that."""
    t = times(3 * DAY)
    values = 0.02 + 0.0002 * np.random.default_rng(8).standard_normal(len(t))
    values[2 * DAY :] += 0.01
    values[2 * DAY + 600 :] += 0.4
    assert [d.onset for d in find(t, values, "utilization").deviations] == [t[2 * DAY + 600]]


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


def test_the_interval_of_an_onset_holds_it() -> None:
    """Small steps in a series in which a minute is like the one before. Of eighteen intervals of 95 %, fewer than four fifths hold theirs in one run of a hundred."""
    held = []
    for seed in range(25):
        t, values = quiet(3, 100 + seed, 0.8)
        begin = 2 * DAY + 100 + 37 * seed
        values[begin : begin + 180] += 12
        mine = [d for d in find(t, values).deviations if d.direction == "high" and t[begin] < (d.ended or t[-1]) and d.onset < t[begin + 180]]
        held += [d.onset_low <= t[begin] <= d.onset_high for d in mine[:1]]
    assert len(held) >= 15
    assert np.mean(held) >= 0.8


@pytest.mark.parametrize("shape", ["step", "ramp"])
def test_what_the_level_follows_is_noticed_by_where_it_usually_is(shape: str) -> None:
    """A minute is like the one before: a fault of hours carries the level along, or looks like restlessness."""
    for seed in range(6):
        t, values = quiet(9, 40 + seed, 0.95, season=0.0)
        begin, length = 8 * DAY + 111 * seed, 480
        values[begin : begin + length] += 20 * (1.0 if shape == "step" else np.minimum(np.arange(length) / 240, 1.0))
        found = [d for d in find(t, values).deviations if t[begin] <= d.opened < t[begin + length]]
        assert found[0].direction == "high"
        assert found[0].opened <= t[begin + 300]
        assert all(a.ended is not None and a.ended <= b.onset for a, b in pairwise(found))


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


def test_a_fall_is_no_deviation_where_that_is_no_trouble() -> None:
    t, values = quiet(9, 10)
    values[8 * DAY : 8 * DAY + 60] -= 25
    values[8 * DAY + 600 : 8 * DAY + 660] += 25
    whole, tracker = Points(t, values, np.ones(len(t))), Tracker("level", 60.0, only_high=True)
    tracker.follow(whole, whole.between)
    assert [d.onset for d in tracker.take_ended() if d.opened > t[8 * DAY]] == [t[8 * DAY + 600]]


def test_what_lasts_for_a_day_is_the_new_normal() -> None:
    t, values = quiet(12, 11, season=0.0)
    values[8 * DAY :] += 30
    found = find(t, values)
    [lasting] = [d for d in found.deviations if t[8 * DAY] <= d.opened < t[10 * DAY]]
    assert lasting.ended == pytest.approx(t[9 * DAY], abs=5 * MINUTE)
    assert found.expected.middle[-1] == pytest.approx(80, abs=3)


def test_the_new_normal_of_a_series_that_has_been_silent_for_hours_is_its_level_of_before() -> None:
    """Somebody says so of what went wrong before it fell silent."""
    t, values = quiet(4, 15)
    values[3 * DAY : 3 * DAY + 60] += 40
    values[3 * DAY + 60 : 3 * DAY + 260] = np.nan
    whole, end = Points(t, values, np.ones(len(t))), 3 * DAY + 260
    one = Tracker("level", 60.0)
    one.follow(whole.part(0, end), whole.between)
    [high] = [d for d in one.opened() if d.direction == "high"]
    one.mark("new normal", high.onset, None)
    assert all(np.isfinite(by) for _, by in one.moved)
    expected = one.follow(whole.part(end, len(t)), whole.between)
    assert np.nanmean(expected.middle[-60:]) == pytest.approx(np.mean(values[-60:]), abs=8)


def test_silence_is_a_deviation_of_its_own_and_usual_gaps_are_none() -> None:
    t, values = quiet(6, 12)
    values[np.arange(len(t)) % 200 < 3] = np.nan
    assert not [d for d in find(t, values).deviations if d.direction == "absent"]
    values[5 * DAY : 5 * DAY + 45] = np.nan
    [found] = [d for d in find(t, values).deviations if d.direction == "absent"]
    assert (found.onset, found.ended) == (t[5 * DAY], t[5 * DAY + 45])
    assert found.peak.actual is None


def test_what_is_silent_for_a_day_has_ended_and_may_come_back() -> None:
    t, values = quiet(8, 31)
    values[4 * DAY : 6 * DAY + 77] = np.nan
    found = find(t, values)
    [silent] = [d for d in found.deviations if d.direction == "absent"]
    assert abs(silent.onset - t[4 * DAY]) <= MINUTE
    assert silent.ended == t[5 * DAY]
    values[7 * DAY + 700 : 7 * DAY + 760] = np.nan
    assert len([d for d in find(t, values).deviations if d.direction == "absent"]) == 2
    # However it is cut: whole days at once, and minute by minute after it has ended.
    tracker = Tracker("level", 60.0)
    whole = Points(t, values, np.ones(len(t)))
    for start, end in pairwise([0, 3 * DAY, 5 * DAY + 1, *range(5 * DAY + 10, 5 * DAY + 40), 8 * DAY]):
        tracker.follow(whole.part(start, end), whole.between)
    assert [d.onset for d in tracker.take_ended() if d.direction == "absent"] == [d.onset for d in find(t, values).deviations if d.direction == "absent"]


def test_where_nobody_watched_there_is_no_silence() -> None:
    t, values = quiet(6, 12)
    values[5 * DAY : 5 * DAY + 45] = np.nan
    samples = np.where(np.isnan(values), np.nan, 1.0)
    assert not [d for d in find(t, values, samples=samples).deviations if d.direction == "absent"]


def test_history_is_read_as_it_was_live() -> None:
    """What had ended by some minute is found the same whether the later ones are known or not."""
    t, values = quiet(9, 13, 0.5)
    values[7 * DAY : 7 * DAY + 90] += 22
    values[8 * DAY : 8 * DAY + 30] -= 30
    whole = find(t, values)
    for now in (7 * DAY + 400, 8 * DAY + 17, 8 * DAY + 700):
        live = find(t[:now], values[:now])
        assert [d for d in live.deviations if d.ended is not None] == [d for d in whole.deviations if d.ended is not None and d.ended < t[now] - 5 * MINUTE]
        assert live.expected.high == pytest.approx(whole.expected.high[:now], nan_ok=True)


@pytest.mark.parametrize("apart", [0.0, 6.0])
def test_summaries_of_days_before_teach_what_the_day_does_from_the_first_hour_on(apart: float) -> None:
    """In a steep morning; and where summaries are not just what their minutes are, they are moved to them."""
    t, values = quiet(9.4, 14, 0.3, season=40.0)
    begin = 9 * DAY - 100
    values[begin + 360 : begin + 400] += 30
    before = Points(t[:begin:10], values[:begin].reshape(-1, 10).mean(axis=1) + apart, np.full(begin // 10, np.nan))
    own = Points(t[begin:], values[begin:], np.ones(len(t) - begin))
    known, new = Tracker("level", 60.0), Tracker("level", 60.0)
    told = known.follow(own, lambda start, end: before.between(start, end).joined(own.between(start, end)))
    alone = new.follow(own, own.between)
    assert known.profile is not None
    assert known.profile.state == "seasonal"
    truth = 50 + 40 * np.sin(2 * np.pi * np.arange(begin, len(t)) / DAY)
    errors = [np.nanmean(np.abs(expected.middle - truth)[60:350]) for expected in (told, alone)]
    assert errors[0] < 0.7 * errors[1]
    inside = (values[begin:] >= told.low) & (values[begin:] <= told.high)
    assert inside[60:350].mean() >= 0.97
    [one] = [*known.take_ended(), *known.opened()]
    assert one.onset == pytest.approx(t[begin + 360], abs=MINUTE)
    assert not one.provisional


def test_what_is_slow_by_the_summaries_of_days_before_is_no_news_in_the_first_hours() -> None:
    """Minutes of one hour are hardly alike: by them alone four of these sixteen mornings had a false deviation."""
    found = 0
    for seed in range(16):
        t, values = quiet(9.25, seed, 0.3)
        slow = signal.lfilter([np.sqrt(1 - 0.99**2)], [1, -0.99], np.random.default_rng([seed, 7]).standard_normal(len(t)))
        values, begin = np.exp((values + 5 * np.asarray(slow)) / 50), 9 * DAY
        before = Points(t[:begin:10], values[:begin].reshape(-1, 10).mean(axis=1), np.full(begin // 10, np.nan))
        own = Points(t[begin:], values[begin:], np.full(len(t) - begin, 50.0))
        tracker = Tracker("quantile", 60.0, Budget(0.05))
        tracker.follow(own, lambda start, end, before=before, own=own: before.between(start, end).joined(own.between(start, end)))
        found += len(tracker.take_ended()) + len(tracker.opened())
    assert found <= 1


def test_summaries_teach_what_the_hour_does() -> None:
    """In steps of theirs, until the series' own minutes tell it better."""
    t, values = quiet(8 + 1 / 6, 15)
    minute = np.arange(len(t)) % 60
    values[(minute >= 30) & (minute < 50)] += 30
    begin = 8 * DAY
    before = Points(t[:begin:10], values[:begin].reshape(-1, 10).mean(axis=1), np.full(begin // 10, np.nan))
    own = Points(t[begin:], values[begin:], np.ones(len(t) - begin))
    tracker = Tracker("level", 60.0)
    told = tracker.follow(own, lambda start, end: before.between(start, end).joined(own.between(start, end)))
    assert not [*tracker.take_ended(), *tracker.opened()]
    known = np.isfinite(told.middle)
    late = (minute[begin:] >= 30) & (minute[begin:] < 50)
    assert told.middle[known & late].mean() - told.middle[known & ~late].mean() == pytest.approx(30, abs=3)


@settings(max_examples=12, deadline=None)
@given(st.data())
def test_how_a_series_is_cut_into_readings_changes_nothing(data: st.DataObject) -> None:
    """Also where another process goes on with what one has kept."""
    t, values = quiet(4, data.draw(st.integers(0, 99)), data.draw(st.sampled_from([0.5, 0.95])))
    at = data.draw(st.lists(st.integers(100, len(t) - 60), min_size=1, max_size=4))
    for begin in at:
        values[begin : begin + data.draw(st.integers(1, 400))] += data.draw(st.sampled_from([-40.0, 15.0, 30.0, np.nan]))
    whole = Points(t, values, np.ones(len(t)))
    one, cut = Tracker("level", 60.0), Tracker("level", 60.0)
    expected = one.follow(whole, whole.between)
    edges = sorted({0, len(t), *data.draw(st.lists(st.integers(1, len(t) - 1), max_size=30)), *range(at[0], at[0] + 30)})
    ended, parts = [], []
    for begin, end in pairwise(edges):
        parts.append(cut.follow(whole.part(begin, end), whole.between))
        ended += cut.take_ended()
        if data.draw(st.booleans()):
            cut = restore(dump(cut))
    assert ended == one.take_ended()
    assert cut.opened() == one.opened()
    assert np.concatenate([part.high for part in parts]) == pytest.approx(expected.high, nan_ok=True)


@pytest.mark.parametrize("points", [7, 97, 1001])
def test_what_strays_from_where_it_usually_is_is_found_however_it_is_cut(points: int) -> None:
    t, values = quiet(9, 42, 0.95, season=0.0)
    values[8 * DAY + 222 : 8 * DAY + 702] += np.minimum(np.arange(480) / 12, 20.0)
    whole = Points(t, values, np.ones(len(t)))
    one, cut, ended = Tracker("level", 60.0), Tracker("level", 60.0), []
    one.follow(whole, whole.between)
    for begin in range(0, len(t), points):
        cut.follow(whole.part(begin, begin + points), whole.between)
        ended += cut.take_ended()
        cut = restore(dump(cut)) if points > 7 else cut
    assert one.usual_level is not None
    found = one.take_ended()
    assert any(d.direction == "high" and t[8 * DAY + 222] < d.opened < t[8 * DAY + 702] for d in found)
    assert ended == found
    assert cut.opened() == one.opened()


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
        assert np.isnan(found.expected.high).all()


def test_nothing_given_is_changed() -> None:
    t, values = quiet(3, 14)
    before = values.copy()
    values.flags.writeable = False
    find(t, values)
    assert (values == before).all()


@pytest.mark.parametrize(("of", "used", "is_found"), [(8, 2, False), (8, 7, True), (2, 2, True), (200, 60, True)])
def test_one_connection_more_of_a_small_pool_is_little_and_a_full_one_is_not(of: int, used: int, is_found: bool) -> None:
    """One in use, for a minute in ten none; then more of them for five hours. A large pool is measured finely."""
    t = times(4 * DAY)
    values = np.where(np.random.default_rng(5).random(len(t)) < 0.1, 0, 1) / of
    if of > 100:
        values = np.random.default_rng(5).poisson(20, len(t)) / of
    values[3 * DAY : 3 * DAY + 300] = used / of
    found = [d for d in find(t, values, "utilization").deviations if d.onset >= t[3 * DAY - 5]]
    assert bool(found) == is_found


# Together.


def deviation(onset_min: float, ended_min: float | None, expected: float = 1.0) -> Deviation:
    onset = BEGAN + round(onset_min * MINUTE)
    ended = None if ended_min is None else BEGAN + round(ended_min * MINUTE)
    return Deviation("high", onset, onset, onset, onset, ended, Peak(onset, 2.0, expected, expected, expected), 12.0, None, True)


def test_what_was_noticed_with_the_others_dates_them_no_earlier() -> None:
    """A noisy series, which seems to have begun twelve minutes before the others."""
    noisy = replace(deviation(0, None), opened=BEGAN + 25 * MINUTE, bits=50.0)
    clear = [replace(deviation(at, None), bits=400.0) for at in (12, 13)]
    members = [Of("p95", name, {}, "s", one) for name, one in zip(("far", "near", "next"), (noisy, *clear), strict=True)]
    assert clear_onset(members) == BEGAN + 12 * MINUTE
    [one] = group([replace(member, service="shop") for member in members])
    assert (len(one.members), one.start, one.clear) == (3, BEGAN + 12 * MINUTE, BEGAN + 12 * MINUTE)
    assert clear_onset([Of("p95", "far", {}, "s", replace(noisy, opened=BEGAN + MINUTE)), *members[1:]]) == BEGAN


def test_deviations_near_in_time_are_one_disturbance_led_by_the_earliest() -> None:
    given_ = [Of(name, None, {}, "s", deviation(*at)) for name, at in {"d": (200, None), "b": (5, 60), "a": (0, 10), "c": (69, 80), "e": (999, 1001)}.items()]
    groups = group(given_)
    # What goes on takes in what follows; another measure long after the first began is another disturbance, the same one again is not.
    assert [[one.metric for one in found.members] for found in groups] == [["a", "b"], ["c"], ["d", "e"]]
    assert (groups[0].start, groups[0].end) == (BEGAN, BEGAN + 60 * MINUTE)
    assert groups[2].end is None
    again = [Of("b", None, {}, "s", deviation(*at)) for at in ((5, 60), (69, 80), (95, 99))]
    assert [len(found.members) for found in group(again)] == [2, 1]
    told = contract(given_)
    assert told["disturbances"][0]["first"] == told["deviations"][0]["id"] == given_[2].id


@pytest.mark.parametrize("first", ["requests", "disk"])
def test_what_hurts_nobody_for_hours_does_not_take_in_what_goes_wrong_meanwhile(first: str) -> None:
    shop = EntityId("service", "shop")
    found = [Of(first, "shop", {}, "1", deviation(0, 250), shop), Of("p95", "shop", {}, "s", deviation(200, None), shop)]
    assert [one.members[0].metric for one in group(found)] == [first, "p95"]
    # A rush that is followed by trouble soon is one with it.
    assert len(group([found[0], replace(found[1], deviation=deviation(9, None))])) == 1
    # What hurts people takes in what follows, however long after: what is done about it surprises the most.
    [one] = group([replace(found[1], deviation=deviation(0, None)), Of("disk", "shop", {}, "1", replace(deviation(200, 250), bits=9000), shop)])
    assert (one.members[0].metric, one.clear) == ("p95", BEGAN)


def test_what_spreads_long_after_is_another_disturbance_than_what_goes_on_still() -> None:
    shop, other = EntityId("service", "shop"), EntityId("service", "other")
    slow, throttled = Of("p95", "shop", {}, "s", deviation(0, None), shop), Of("throttled", "shop", {}, "1", deviation(90, None), shop)
    spread = [Of("p95", "other", {}, "s", deviation(90, None), other), Of("p95", "third", {}, "s", deviation(91, None), EntityId("service", "third"))]
    assert [len(one.members) for one in group([slow, throttled])] == [2]
    groups = group([slow, throttled, *spread])
    assert [[one.service for one in found.members] for found in groups] == [["shop"], ["other", "shop", "third"]]


def test_only_what_is_linked_is_one_disturbance() -> None:
    at = {"gate": (3, 60), "planner": (0, 60), "elsewhere": (1, 50), "later": (45, 60)}
    found = [Of("p95", name, {}, "s", deviation(*when), EntityId("service", name)) for name, when in at.items()]
    near = {("planner", "gate"), ("planner", "later")}
    groups = group(found, lambda a, b: (a.name, b.name) in near or (b.name, a.name) in near)
    assert [one.services for one in groups] == [["gate", "planner"], ["elsewhere"], ["later"]]
    elsewhere = [Of("p95", "planner", {}, "s", deviation(0, 60), EntityId("service", "planner"), environment) for environment in ("test", "production")]
    assert len(group(elsewhere)) == 2


def test_what_could_be_told_first_leads_where_onsets_are_not_known_apart() -> None:
    early, late = deviation(0, 60), deviation(1, 60)
    [one] = group([Of("load", "a", {}, "s", replace(early, opened=BEGAN + 9 * MINUTE)), Of("p95", "a", {}, "s", replace(late, opened=BEGAN + 2 * MINUTE))])
    assert [member.metric for member in one.members] == ["p95", "load"]
    assert one.start == BEGAN
    # What hurts people leads before what does not.
    [one] = group([Of("load", "a", {}, "s", early), Of("failed share", "a", {}, "s", replace(late, opened=BEGAN + 2 * MINUTE))])
    assert [member.metric for member in one.members] == ["failed share", "load"]
    [one] = group([Of("load", "a", {}, "s", early), Of("p95", "a", {}, "s", deviation(5, 60))])
    assert [member.metric for member in one.members] == ["load", "p95"]


def test_what_surprises_little_does_not_date_a_disturbance() -> None:
    shop = EntityId("service", "shop")
    found = [Of("p95", name, {}, "s", replace(deviation(at, None), bits=bits), shop) for name, at, bits in (("a", 0, 50), ("b", 9, 400), ("c", 10, 300))]
    [one] = group(found)
    assert one.start == BEGAN
    assert one.clear == BEGAN + 9 * MINUTE
    assert windows(one, BEGAN + 60 * MINUTE) == ((BEGAN + 9 * MINUTE, BEGAN + 60 * MINUTE), (BEGAN - 53 * MINUTE, BEGAN - 2 * MINUTE))
    # What lies beneath and hurts nobody is not what people felt; silence has no bits, and counts.
    [one] = group([Of("disk", None, {}, "1", replace(deviation(0, None), bits=900), shop), found[1], found[2]])
    assert one.clear == BEGAN + 9 * MINUTE
    silent = replace(deviation(2, None), direction="absent", bits=0.0)
    assert group([Of("requests", "shop", {}, "1", silent, shop), *found[1:]])[0].clear == BEGAN + 2 * MINUTE


def test_windows_that_show_a_disturbance_do_not_touch() -> None:
    [one] = group([Of("p95", "a", {}, "s", deviation(100, None))])
    focus, reference = windows(one, BEGAN + 140 * MINUTE)
    assert focus == (BEGAN + 100 * MINUTE, BEGAN + 140 * MINUTE)
    assert reference == (BEGAN + 58 * MINUTE, BEGAN + 98 * MINUTE)
    # Not from before there was anything; a little there always is.
    assert windows(one, BEGAN + 140 * MINUTE, BEGAN + 70 * MINUTE)[1] == (BEGAN + 70 * MINUTE, BEGAN + 98 * MINUTE)
    assert windows(one, BEGAN + 140 * MINUTE, BEGAN + 99 * MINUTE)[1] == (BEGAN + 96 * MINUTE, BEGAN + 98 * MINUTE)


def test_what_is_not_known_is_null_in_json() -> None:
    told = json.loads(json.dumps(contract([Of("m", None, {}, "", deviation(0, 1, expected=float("nan")))]), allow_nan=False))
    assert told["deviations"][0]["peak"]["expected"] is None
