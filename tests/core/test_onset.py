"""When a level changed, beside drift that has no cause."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pytest
import statsmodels.datasets

from wirbel.core.diagnosis import onset

SECOND = 10**9
Ints = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]


def drifting(rng: np.random.Generator, minutes: int, memory: float, spread: float) -> Floats:
    """AR(1) by the minute."""
    found = np.zeros(minutes)
    found[0] = rng.standard_normal() * spread
    for minute in range(1, minutes):
        found[minute] = memory * found[minute - 1] + rng.standard_normal() * spread * np.sqrt(1 - memory**2)
    return found


def requests(
    rng: np.random.Generator, memory: float = 0.95, spread: float = 0.1, step: float = 0.0, at_s: float = 5000.0, thinned: bool = False
) -> tuple[Ints, Floats, Floats]:
    """110 minutes of 30 requests each, whose level drifts and steps; with ``thinned``, of what is early and ordinary one in eight."""
    level = drifting(rng, 110, memory, spread)
    count = rng.poisson(30, 110)
    seconds = np.repeat(np.arange(110) * 60.0, count) + rng.uniform(0, 60, count.sum())
    values = rng.lognormal(-2, 0.4, count.sum()) * (1 + np.repeat(level, count)) * np.where(seconds >= at_s, 1 + step, 1.0)
    weight = np.ones(len(values))
    if thinned:
        ordinary = (seconds < at_s - 600) & (values < np.quantile(values, 0.95))
        weight[ordinary] = 8.0
        kept = ~ordinary | (rng.random(len(values)) < 1 / 8)
        seconds, values, weight = seconds[kept], values[kept], weight[kept]
    return (seconds * SECOND).astype(np.int64), values, weight


@pytest.mark.parametrize("value", [0.0, 1.0, 0.25])
def test_what_never_changes_has_no_onset(value: float) -> None:
    assert onset.find(np.arange(600) * SECOND, np.full(600, value)) is None


def test_independent_failures_have_no_onset() -> None:
    found = 0
    for seed in range(100):
        rng = np.random.default_rng(seed)
        times = np.sort(rng.integers(0, 7200 * SECOND, 600))
        found += onset.find(times, (rng.random(600) < 0.02).astype(float)) is not None
    assert found <= 4


def test_few_values_are_not_judged() -> None:
    assert onset.find(np.arange(10) * SECOND, np.r_[np.zeros(5), np.ones(5)]) is None


def test_drift_alone_is_seldom_taken_for_a_change() -> None:
    found = [onset.find(*requests(np.random.default_rng(seed))) for seed in range(60)]
    assert sum(one is not None for one in found) <= 8


@pytest.mark.parametrize("thinned", [False, True])
@pytest.mark.parametrize(("memory", "step"), [(0.0, 0.5), (0.8, 0.7), (0.95, 1.0)])
def test_the_interval_holds_the_truth_as_often_as_it_says(memory: float, step: float, thinned: bool) -> None:
    """95 %: of 40 at most five are missed (binomial, p below 0.02), however alike neighbours are and however requests are sampled."""
    covered = found = 0
    for seed in range(40):
        rng = np.random.default_rng(seed)
        at_s = rng.uniform(4500, 6000)
        one = onset.find(*requests(rng, memory, 0.1, step, at_s, thinned))
        if one is not None:
            found += 1
            covered += one.low <= at_s * SECOND <= one.high
            assert one.size > 0
    assert found >= 32
    assert covered >= found - 5


def test_what_happens_at_once_and_what_takes_time_are_told_apart() -> None:
    rng = np.random.default_rng(4)
    seconds = np.arange(0, 7200, 4.0)
    noise = rng.lognormal(0, 0.4, len(seconds))
    at_once = onset.find((seconds * SECOND).astype(np.int64), noise * np.where(seconds > 4000, 2.0, 1.0))
    slowly = onset.find((seconds * SECOND).astype(np.int64), noise * (1 + 2 * np.clip((seconds - 4000) / 1500, 0, 1)))
    assert at_once is not None
    assert slowly is not None
    assert at_once.takes_s == 0
    assert slowly.takes_s >= 300
    assert slowly.low - 60 * SECOND <= 4000 * SECOND <= slowly.high


def test_the_flow_of_the_nile_changed_after_1898() -> None:
    """Cobb 1978 and many after him; the series is in statsmodels."""
    nile = statsmodels.datasets.nile.load_pandas().data
    found = onset.find((nile["year"].to_numpy() * 365 * 86400 * SECOND / 1e3).astype(np.int64), nile["volume"].to_numpy())
    assert found is not None
    year = found.at / (365 * 86400 * SECOND / 1e3)
    assert 1898 <= year <= 1900
    assert found.size < 0


def test_a_rate_is_told_by_what_requests_stand_for() -> None:
    """From half time on only one request in ten is kept, and stands for ten: nothing changed. Then there really are three times as many."""
    rng = np.random.default_rng(5)
    times = np.sort(rng.integers(0, 7200 * SECOND, 6000))
    late = times >= 3600 * SECOND
    kept = ~late | (rng.random(6000) < 0.1)
    assert onset.of_rate(times[kept], np.where(late, 10.0, 1.0)[kept], 0, 7200 * SECOND) is None
    more = np.sort(np.r_[times, rng.integers(3600 * SECOND, 7200 * SECOND, 6000)])
    found = onset.of_rate(more, np.ones(len(more)), 0, 7200 * SECOND)
    assert found is not None
    assert found.low <= 3600 * SECOND <= found.high
    assert found.high - found.low < 600 * SECOND
