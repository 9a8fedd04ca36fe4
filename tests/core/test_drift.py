"""Intervals of a difference hold although the level drifts, and the plain ways do not."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import sparse, stats

from tests.core.test_onset import Floats, drifting
from wirbel.core.stats import drift


def windows(rng: np.random.Generator, memory: float, reference: int, focus: int, spread: float = 0.1) -> tuple[Floats, Floats, np.ndarray]:
    """Requests of two windows (minutes) side by side: times in s, durations, whether in the focus."""
    minutes = reference + focus
    count = rng.poisson(30, minutes)
    level = drifting(rng, minutes, memory, spread)
    seconds = np.repeat(np.arange(minutes) * 60.0, count) + rng.uniform(0, 60, count.sum())
    values = rng.lognormal(-2, 0.4, count.sum()) * (1 + np.repeat(level, count))
    return seconds, values, seconds >= reference * 60


@pytest.mark.parametrize("memory", [0.0, 0.8, 0.95])
@pytest.mark.parametrize(("reference", "focus"), [(90, 20), (60, 30)])
def test_the_interval_holds_nothing_where_there_is_nothing(memory: float, reference: int, focus: int) -> None:
    """Of 60 quiet comparisons at most eight are wrong (95 % stated; binomial, p below 0.01); by resampling requests it would be half of them."""
    wrong = plain = 0
    for seed in range(60):
        seconds, values, in_focus = windows(np.random.default_rng(seed), memory, reference, focus)
        found = drift.difference(seconds, values[:, None], np.ones(len(values)), in_focus)
        wrong += not found.low[0] <= 0 <= found.high[0]
        plain += stats.ttest_ind(values[in_focus], values[~in_focus]).pvalue < 0.05
    assert wrong <= 8
    if memory == 0.95:
        assert plain > 30


def test_a_real_change_is_seen_through_drift() -> None:
    seen = 0
    for seed in range(40):
        seconds, values, in_focus = windows(np.random.default_rng(seed), 0.95, 90, 20)
        found = drift.difference(seconds, np.where(in_focus, 1.5 * values, values)[:, None], np.ones(len(values)), in_focus)
        seen += found.low[0] > 0
        assert found.low[0] < found.delta[0] < found.high[0]
        assert (found.p[0] < 0.05) == (not found.low[0] <= 0 <= found.high[0])
    assert seen >= 36


def test_without_drift_it_is_the_difference_of_two_means() -> None:
    """Of independent values the interval is that of Welch's t, a little wider for not knowing that they are independent."""
    rng = np.random.default_rng(1)
    values, in_focus = rng.normal(1, 0.3, 4000), np.arange(4000) >= 3000
    found = drift.difference(np.arange(4000.0), values[:, None], np.ones(4000), in_focus)
    welch = stats.ttest_ind(values[in_focus], values[~in_focus], equal_var=False).confidence_interval()
    ratio = (found.high[0] - found.low[0]) / (welch.high - welch.low)
    assert found.delta[0] == pytest.approx(values[in_focus].mean() - values[~in_focus].mean())
    assert 0.95 < ratio < 1.9


def test_columns_are_judged_each_for_itself_dense_or_sparse() -> None:
    seconds, values, in_focus = windows(np.random.default_rng(3), 0.8, 60, 20)
    both = np.stack([values, np.where(in_focus, 0.4, 0.0)], axis=1)
    whole = drift.difference(seconds, both, np.ones(len(values)), in_focus)
    alone = drift.difference(seconds, values[:, None], np.ones(len(values)), in_focus)
    thin = drift.difference(seconds, sparse.csr_array(both), np.ones(len(values)), in_focus)
    assert whole.low[0] == pytest.approx(alone.low[0])
    assert np.allclose(whole.high, thin.high)
    assert whole.delta[1] == pytest.approx(0.4)
    assert whole.low[1] > 0.39


def test_a_request_that_stands_for_many_is_one_observation() -> None:
    """Kish 1965: weights of 1 and 9 in equal numbers tell as much as 61 % of as many equal ones."""
    assert drift.effective_size(np.r_[np.ones(50), np.full(50, 9.0)]) == pytest.approx(100 * 25 / 41)
    rng = np.random.default_rng(2)
    seconds, values, in_focus = windows(rng, 0.0, 60, 20)
    equal = drift.difference(seconds, values[:, None], np.full(len(values), 50.0), in_focus)
    one = drift.difference(seconds, values[:, None], np.ones(len(values)), in_focus)
    assert equal.low[0] == pytest.approx(one.low[0])
