from __future__ import annotations

import re
from pathlib import Path

import numpy as np
import pytest
from scipy import stats

import wirbel
from wirbel.core.stats.counts import beta_binomial_at_least, binomial_quantile, negative_binomial_quantile
from wirbel.core.stats.intervals import percentile_bounds, wilson
from wirbel.core.stats.slope import median_slope
from wirbel.core.stats.tests import adjusted, association, fisher_exact, stratified_association


def test_the_fifteen_p_values_of_benjamini_and_hochberg() -> None:
    """Benjamini and Hochberg 1995, section 4.1: at 0.05 four of the fifteen are rejected."""
    p = [0.0001, 0.0004, 0.0019, 0.0095, 0.0201, 0.0278, 0.0298, 0.0344, 0.0459, 0.3240, 0.4262, 0.5719, 0.6528, 0.7590, 1.0]
    assert (adjusted(p) <= 0.05).sum() == 4


def test_small_tables_are_tested_exactly_and_large_ones_by_g() -> None:
    """Fisher's tea tasting (The Design of Experiments, 1935): 3 of 4 right, two-sided p 0.4857."""
    assert association(*(np.array([x]) for x in (3, 1, 1, 3)))[0] == pytest.approx(0.4857, abs=1e-4)
    table = (120, 80, 90, 150)
    expected = stats.chi2_contingency([[120, 80], [90, 150]], correction=False, lambda_="log-likelihood").pvalue
    assert association(*(np.array([x]) for x in table))[0] == pytest.approx(expected, rel=1e-9)


def test_admissions_by_department() -> None:
    """Bickel, Hammel and O'Connell (Science, 1975), admissions to Berkeley by sex in six departments.

    Taken over departments there is no preference; the statistic with continuity correction is 1.4269
    (counts and value from memory of R's data set UCBAdmissions and mantelhaen.test).
    """
    admitted_men, rejected_men = [512, 353, 120, 138, 53, 22], [313, 207, 205, 279, 138, 351]
    admitted_women, rejected_women = [89, 17, 202, 131, 94, 24], [19, 8, 391, 244, 299, 317]
    tables = [np.array([column], float) for column in (admitted_men, rejected_men, admitted_women, rejected_women)]
    stratified = stratified_association(*tables)[0]
    assert stratified == pytest.approx(stats.chi2.sf(1.4269, 1), abs=2e-4)
    pooled = association(*(column.sum(axis=1) for column in tables))[0]
    assert pooled < 1e-15  # what one would conclude without the strata


def test_wilson_against_scipy() -> None:
    for k, n in ((0, 10), (3, 17), (17, 17), (5, 100_000)):
        expected = stats.binomtest(k, n).proportion_ci(0.95, method="wilson")
        low, high = wilson(k, n)
        assert (float(low), float(high)) == pytest.approx((expected.low, expected.high), abs=1e-9)
    assert [float(x) for x in wilson(0, 0)] == [0.0, 1.0]


def test_percentile_bounds_enclose_the_quantile() -> None:
    """The median of 10: ranks 2 and 9 enclose it with 97.9 % (order statistics, binomial)."""
    low_share, high_share = percentile_bounds([10, 12, 0], [0.5, 0.99])
    assert (low_share[0, 0], high_share[0, 0]) == (0.2, 0.9)
    assert np.isnan(high_share[1, 1])  # 12 requests bound no p99 from above
    assert np.isnan([low_share[2], high_share[2]]).all()
    rng = np.random.default_rng(5)
    bounds = percentile_bounds([400], [0.95])
    low, high = (round(float(side[0, 0]) * 400) for side in bounds)
    samples = np.sort(rng.exponential(size=(2000, 400)), axis=1)
    true = stats.expon.ppf(0.95)
    assert ((samples[:, low - 1] <= true) & (samples[:, high - 1] >= true)).mean() >= 0.94


@pytest.mark.parametrize("share", [0.005, 0.5, 0.975])
def test_quantiles_of_counts_are_those_of_scipys_distributions(share: float) -> None:
    rng = np.random.default_rng(4)
    mean, more = np.exp(rng.uniform(-7, 8, 2_000)), np.exp(rng.uniform(-8, 2, 2_000))
    r, p = 1 / more, 1 / (1 + more * mean)
    assert np.array_equal(negative_binomial_quantile(share, r, p), stats.nbinom.ppf(share, r, p))
    n, p = rng.integers(1, 5_000, 2_000).astype(float), rng.choice([0.25, 0.75, 0.95, 0.99], 2_000)
    assert np.array_equal(binomial_quantile(share, n, p), stats.binom.ppf(share, n, p))


def test_the_tail_of_a_beta_binomial_is_the_sum_of_scipys_terms() -> None:
    """Also where one minus the rest is nothing but rounding."""
    rng = np.random.default_rng(5)
    n, before = rng.integers(1, 3_000, 200), rng.integers(1, 3_000, 200)
    a = 0.5 + rng.binomial(before, 0.02)
    b, count = 1 + before - a, np.minimum(rng.poisson(n * 0.05) + rng.integers(0, 20, 200), n)
    exact = [stats.betabinom.pmf(np.arange(k, m + 1), m, x, y).sum() for k, m, x, y in zip(count, n, a, b, strict=True)]
    found = beta_binomial_at_least(*(np.asarray(v, float) for v in (count, n, a, b)))
    assert found == pytest.approx(exact, rel=1e-6)
    assert min(exact) < 1e-12
    one = np.ones(1)
    assert beta_binomial_at_least(0 * one, 7 * one, one, one).tolist() == [1.0]
    assert beta_binomial_at_least(7 * one, 7 * one, one, one) == pytest.approx([1 / 8])


@pytest.mark.parametrize("most", [4, 30, 2_000])
def test_exact_tests_of_tables_are_those_of_scipy(most: int) -> None:
    rng = np.random.default_rng(most)
    tables = rng.integers(0, most, (200, 4)).astype(float)
    tables[:50, 0] = rng.integers(0, 3, 50)
    expected = [stats.fisher_exact([[a, b], [c, d]])[1] for a, b, c, d in tables.astype(int)]
    assert fisher_exact(*tables.T) == pytest.approx(expected, rel=1e-7, abs=1e-12)


def test_false_discoveries_and_slopes_are_those_of_scipy() -> None:
    rng = np.random.default_rng(3)
    p = np.round(rng.uniform(0, 1, 200) ** 3, 3)  # some are alike
    assert np.array_equal(adjusted(p), stats.false_discovery_control(p, method="bh"))
    assert adjusted([]).size == 0
    x = rng.integers(0, 20, 60).astype(float)
    y = 3 * x + rng.standard_cauchy(60)
    assert median_slope(x, y) == stats.theilslopes(y, x).slope
    assert np.isnan(median_slope(np.ones(5), y[:5]))


def test_no_process_loads_scipy_stats() -> None:
    """It would take each half a second and 45 MB, and the first cause of a process that much longer."""
    sources = Path(wirbel.__file__).parent.rglob("*.py")
    assert not [file for file in sources if re.search(r"^\s*(from scipy import .*\bstats\b|(from|import) scipy\.stats)", file.read_text(), re.MULTILINE)]
