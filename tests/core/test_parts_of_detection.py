"""What detection is made of, against known answers and reference libraries."""

from __future__ import annotations

import numpy as np
import pytest
import statsmodels.api as sm
from hypothesis import given
from hypothesis import strategies as st
from scipy import signal, stats

from tests.core.made_series import DAY, MINUTE, quiet, times
from wirbel.core.deviation import plain
from wirbel.core.deviation.accumulate import Budget, Correlation, peaks, sums
from wirbel.core.deviation.find import find
from wirbel.core.expected import profile, scale, seasons, shares
from wirbel.core.expected.calendar import BY_UTC, Calendar
from wirbel.core.expected.scale import Scale
from wirbel.core.expected.seasons import WEEKEND_H, Season
from wirbel.core.expected.tails import Calibration


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
    of_weeks = profile.fit(times(21 * DAY), np.tile(weekly[: 7 * DAY], 3), "level")
    assert (of_weeks.season.off_from, of_weeks.state) == (WEEKEND_H, "weekly")


@pytest.mark.parametrize(("days", "state"), [(1.9, "provisional"), (3.0, "steady")])
def test_what_is_alike_at_all_hours_is_known_once_two_days_said_so(days: float, state: str) -> None:
    t, flat = quiet(days, 1, season=0.0)
    assert profile.fit(t, flat, "level").state == state
    flat[-30:] += 40
    [one] = find(t, flat, "level").deviations
    assert one.provisional == (state == "provisional")


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
