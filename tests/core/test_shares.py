"""Shares of records, such as failures of requests, of services that are asked often and of some that hardly anybody asks."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import stats

from wirbel.core.deviation.accumulate import Budget
from wirbel.core.deviation.find import Found, find
from wirbel.core.expected import shares

MINUTE_NS = 60 * 10**9
DAY = 1440


def found(a_minute: float, share: np.ndarray, seed: int) -> tuple[Found, np.ndarray, np.ndarray]:
    """What is found of requests that come and fail by chance, with the shares that failed and the numbers of them."""
    rng = np.random.default_rng(seed)
    times = 1_760_000_040 * 10**9 + np.arange(len(share)) * MINUTE_NS
    n = rng.poisson(a_minute, len(share)).astype(float)
    failed = np.where(n > 0, rng.binomial(n.astype(int), share) / np.maximum(n, 1), np.nan)
    return find(times, failed, "share", n, Budget(1.0)), failed, n


@pytest.mark.parametrize("n", [1.0, 3.0, 40.0, 5_000.0])
@pytest.mark.parametrize("share", [0.0005, 0.03, 0.4, 0.97])
def test_a_share_that_is_not_exceeded_is_that_of_scipys_distribution(n: float, share: float) -> None:
    for chance in (0.005, 0.3, 0.995):
        assert shares.quantile(np.array([share]), np.array([n]), 1.0, chance)[0] * n == pytest.approx(stats.binom.ppf(chance, n, share))
    # A binomial of half as many records has twice the variance.
    assert shares.quantile(np.array([share]), np.array([2 * n]), 2.0, 0.995)[0] * n == pytest.approx(stats.binom.ppf(0.995, n, share))


def test_the_odds_of_all_records_are_found_though_some_of_the_time_much_went_wrong() -> None:
    rng = np.random.default_rng(1)
    n = rng.poisson(5, 20_000) + 1.0
    of_all, supposed = 0.2, 0.15
    usual = log_odds(of_all) - log_odds(supposed)
    share = rng.binomial(n.astype(int), of_all) / n
    assert shares.lift(share, n, np.full(len(n), supposed)) == pytest.approx(usual, abs=0.03)
    share[4_000:7_000] = 1.0
    assert shares.lift(share, n, np.full(len(n), supposed)) == pytest.approx(usual, abs=0.05)
    assert shares.lift(np.full(50, np.nan), np.zeros(50), np.full(50, 0.1)) == 0.0


def log_odds(share: float) -> float:
    return float(np.log(share / (1 - share)))


@pytest.mark.parametrize("a_minute", [0.25, 1.0, 3.0, 20.0, 300.0])
@pytest.mark.parametrize("share", [0.0, 0.005, 0.05, 0.2])
def test_where_nothing_is_wrong_what_is_expected_is_the_mean_and_the_band_holds_what_it_says(a_minute: float, share: float) -> None:
    known, failed, n = found(a_minute, np.full(7 * DAY, share), 3)
    judged = np.isfinite(failed) & np.isfinite(known.expected.low) & (np.arange(len(n)) > 3 * DAY)
    inside = (failed >= known.expected.low) & (failed <= known.expected.high)
    assert inside[judged].mean() > 0.985
    of_all = np.average(failed[judged], weights=n[judged])
    scatter = np.sqrt(share * (1 - share) / n[judged].sum())
    assert known.expected.middle[judged].mean() == pytest.approx(of_all, abs=0.1 * share + 3 * scatter + 1e-3)
    assert sum(one.direction != "absent" for one in known.deviations) <= 2


@pytest.mark.parametrize("a_minute", [0.25, 1.0, 3.0])
@pytest.mark.parametrize("then", [0.5, 1.0])
def test_a_service_that_hardly_anybody_asks_is_noticed_when_it_fails(a_minute: float, then: float) -> None:
    share = np.zeros(3 * DAY)
    share[2 * DAY : 2 * DAY + 240] = then
    known, _, n = found(a_minute, share, 5)
    [one] = [one for one in known.deviations if one.direction != "absent"]
    first = 1_760_000_040 * 10**9 + 2 * DAY * MINUTE_NS
    assert one.direction == "high"
    assert n[2 * DAY : 2 * DAY + (one.opened - first) // MINUTE_NS + 1].sum() <= 25
    assert one.peak.actual is not None
    assert one.peak.actual > one.peak.high
    assert one.peak.expected < 0.01


def test_where_no_numbers_are_told_a_share_is_not_taken_for_one_record() -> None:
    rng = np.random.default_rng(2)
    times = 1_760_000_040 * 10**9 + np.arange(2 * DAY) * MINUTE_NS
    hits = np.clip(rng.normal(0.93, 0.004, len(times)), 0, 1)
    hits[DAY + 300 :] -= 0.05
    [one] = [one for one in find(times, hits, "share").deviations if one.direction == "low"]
    assert one.opened - times[DAY + 300] <= 10 * MINUTE_NS
    assert shares.are_of_records(np.array([0.0, 1.0, 0.0]), np.ones(3))
    assert shares.are_of_records(np.array([0.0, 0.25]), np.array([1.0, 4.0]))
    assert not shares.are_of_records(np.array([0.0, 0.25]), np.ones(2))
