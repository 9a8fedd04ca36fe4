"""Shares of records, such as failures of requests, of services that are asked often and of some that hardly anybody asks."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import stats

from wirbel.core.deviation.accumulate import Budget
from wirbel.core.deviation.find import Found, find
from wirbel.core.deviation.model import Deviation
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


@pytest.mark.parametrize(("one", "other"), [(0.2, 0.95), (0.05, 0.06), (0.6, 0.1), (0.0, 1.0)])
def test_between_two_shares_records_are_as_likely_by_either(one: float, other: float) -> None:
    n, at = 1_000, shares.between(one, other)
    by_one, by_other = (stats.binom.logpmf(np.arange(n + 1), n, np.clip(p, 1e-9, 1 - 1e-9)) for p in (one, other))
    nearest = int(np.argmin(np.abs(by_one - by_other)))
    assert at == pytest.approx(nearest / n, abs=1 / n)


@pytest.mark.parametrize("n", [1, 3, 8])
def test_what_few_records_tell_where_nothing_is_wrong_is_the_mean_over_scipys_distribution(n: int) -> None:
    for p in (0.001, 0.2, 0.4, 0.97):
        k = np.arange(n + 1)
        likely = stats.binom.pmf(k, n, p)
        high, low = shares.usual_bits(np.array([float(n)]), np.array([p]), 1.0)
        for told, chances in zip((high, low), shares.chances(k / n, np.full(n + 1, float(n)), np.full(n + 1, p), 1.0), strict=True):
            assert told[0] * np.log2(np.e) == pytest.approx(np.sum(likely * -np.log2(chances)), rel=1e-6)
    assert shares.usual_bits(np.array([500.0, 0.0]), np.array([0.2, np.nan]), 1.0)[0][0] == 1.0


@pytest.mark.parametrize("sign", [1.0, -1.0])
def test_what_speaks_for_another_share_from_each_point_on_is_scipys_likelihood_ratio(sign: float) -> None:
    n, failed, expected = np.array([150.0, 0.0, 48.0, 2.0, 4.0]), np.array([1, 0, 1, 2, 1]), np.array([0.01, 0.01, 0.02, 0.02, 0.4])
    share = np.where(n > 0, failed / np.maximum(n, 1), np.nan)
    for at, told in enumerate(shares.gained(share, n, expected, 1.0, sign)):
        records, of_kind, p = n[at:].sum(), failed[at:].sum(), np.average(expected[at:], weights=n[at:])
        q = of_kind / records
        ratio = 2 * (stats.binom.logpmf(of_kind, records, q) - stats.binom.logpmf(of_kind, records, p))
        assert told == pytest.approx(ratio if sign * (q - p) > 0 else 0.0, abs=1e-9)


@pytest.mark.parametrize("then", [1.0, 150.0])
def test_failures_began_when_they_did_though_few_requests_come_through_since(then: float) -> None:
    """Of 150 requests a minute one in a hundred fails, then all, of which one a minute is left or none is missing: how many failed in all has to tell, not in how many minutes."""
    for seed in range(8):
        rng = np.random.default_rng(seed)
        begins = DAY // 2
        times = 1_760_000_040 * 10**9 + np.arange(begins + 25) * MINUTE_NS
        is_before = np.arange(len(times)) < begins
        n = rng.poisson(np.where(is_before, 150.0, then)).astype(float)
        failed = np.where(n > 0, rng.binomial(n.astype(int), np.where(is_before, 0.01, 1.0)) / np.maximum(n, 1), np.nan)
        [one] = [one for one in find(times, failed, "share", n).deviations if one.direction == "high" and minute(one.opened) >= begins]
        first = begins + int(np.argmax(n[begins:] > 0))
        assert abs(minute(one.onset) - first) <= 1
        assert one.onset_low <= one.onset <= one.onset_high


@pytest.mark.parametrize("n", [1.0, 7.0, 300.0])
def test_how_often_a_share_lies_beyond_another_is_that_of_scipys_distribution(n: float) -> None:
    for share in (0.1, 0.3, 0.64, 1.0):
        assert shares.beyond(share, n, 0.2, 1.0) == pytest.approx(stats.binom.sf(np.floor(share * n), n, 0.2), abs=1e-12)


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


def failing_after(days: float, hours: float, seed: int) -> tuple[list[Deviation], np.ndarray, int]:
    """Of fifteen requests an hour of which a fifth fails, then all of them: what is found, the numbers of requests and the first minute of that."""
    before = round(days * DAY)
    share = np.full(before + DAY // 2, 0.2)
    share[before : before + round(hours * 60)] = 1.0
    known, _, n = found(0.25, share, seed)
    return [one for one in known.deviations if one.direction != "absent"], n, before


def minute(at: int) -> int:
    return (at - 1_760_000_040 * 10**9) // MINUTE_NS


@pytest.mark.parametrize("days", [0.5, 1.0, 1.8])
def test_the_level_of_a_young_and_sparse_service_does_not_follow_its_failures_before_they_are_noticed(days: float) -> None:
    noticed = 0
    for seed in range(12):
        deviations, n, before = failing_after(days, 12, seed)
        assert all(minute(one.opened) >= before for one in deviations)
        noticed += bool(deviations) and n[before : minute(deviations[0].opened) + 1].sum() <= 45
    assert noticed >= 11


@pytest.mark.parametrize("seed", range(4))
def test_it_goes_on_as_long_as_all_of_a_few_requests_fail_of_which_some_always_do(seed: int) -> None:
    """One that fails is no farther away than one in ten is where nothing is wrong; a row of them is."""
    [one], _, before = failing_after(4, 6, seed)
    assert one.ended is not None
    assert before + 340 <= minute(one.ended) <= before + 440


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
