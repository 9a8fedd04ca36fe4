"""Counts of few records, or of a series that has just begun: by what chance makes of their mean."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats

from wirbel.core.deviation.accumulate import Budget
from wirbel.core.deviation.find import find
from wirbel.core.deviation.model import Deviation
from wirbel.core.deviation.points import Points
from wirbel.core.deviation.state import dump, restore
from wirbel.core.deviation.tracker import Tracker
from wirbel.core.expected.blocks import Middles
from wirbel.core.expected.counts import LEAST_UNIT, LIKE_HISTORY, USUAL_MORE, NegativeBinomial, records, tell_most_by_mean
from wirbel.core.expected.profile import fit
from wirbel.core.expected.scale import Scale

BEGAN = 1_772_006_400 * 10**9  # 2026-02-25 08:00 UTC
MINUTE = 60 * 10**9
HOUR, DAY = 60, 1440  # minutes


def times(count: int) -> np.ndarray:
    return BEGAN + np.arange(count) * MINUTE


def poisson(mean: float | np.ndarray, count: int, seed: int) -> np.ndarray:
    return np.random.default_rng(seed).poisson(mean, count).astype(float)


def found_in(counts: np.ndarray, budget: float = 1.0) -> list[Deviation]:
    return find(times(len(counts)), counts / 60, "rate", budget=Budget(budget)).deviations


@pytest.mark.parametrize("more", [0.001, 0.3, 4.0])
@pytest.mark.parametrize("unit", [1.0, 100.0])
def test_probabilities_of_counts_are_those_of_scipys_distribution(more: float, unit: float) -> None:
    counts, mean = np.array([0.0, 1.0, 2.0, 7.0, 40.0]), np.array([0.3, 0.3, 5.0, 5.0, 20.0])
    made = NegativeBinomial(unit, more, 1.0, 1e-6)
    above, below = made.chances(counts * unit, mean * unit)
    reference = stats.nbinom(1 / more, 1 / (1 + more * mean))
    assert above == pytest.approx(reference.sf(counts) + reference.pmf(counts) / 2, abs=1e-9)
    assert above + below == pytest.approx(1)
    assert made.quantile(mean * unit, 0.995) == pytest.approx(reference.ppf(0.995) * unit)
    assert np.isnan(made.chances(np.array([np.nan, 1.0]), np.array([1.0, np.nan]))).all()


@pytest.mark.parametrize("more", [0.1, 0.8])
def test_how_counts_scatter_is_found(more: float) -> None:
    """By moments, though something went wrong in a twentieth of the history."""
    n, mean = 20_000, np.full(20_000, 4.0)
    counts = np.random.default_rng(1).negative_binomial(1 / more, 1 / (1 + more * 4.0), n).astype(float)
    counts[3_000:4_000] += 30
    made = NegativeBinomial.of(counts, mean)
    assert made.unit == 1
    assert made.more == pytest.approx(more, rel=0.15)
    assert NegativeBinomial.of(np.full(30, np.nan), mean[:30]).more == pytest.approx(USUAL_MORE)


def test_what_is_sent_by_the_clock_scatters_less_than_by_chance() -> None:
    made = NegativeBinomial.of(np.ones(1_000), np.ones(1_000))
    assert made.unit == LEAST_UNIT
    assert made.chances(np.zeros(1), np.ones(1))[1] < 1e-6
    # Of twenty it may be chance.
    assert NegativeBinomial.of(np.ones(20), np.ones(20)).unit == pytest.approx(LIKE_HISTORY / (LIKE_HISTORY + 20))


@pytest.mark.parametrize(
    ("counts", "is_young", "expected"),
    [
        (np.array([0.0, 3.0, 1.0, 30.0]), False, True),
        (np.array([0.0, 300.0, 100.0, 400.0]), False, True),  # a hundredth is recorded
        (np.array([900.0, 1_001.0, 987.0]), False, False),
        (np.array([900.0, 1_001.0, 987.0]), True, True),
        (np.array([0.0, 0.31, 1.7, 2.2]), True, False),  # seconds of a processor, and no records
        (np.zeros(4), False, True),
    ],
)
def test_whether_counts_are_told_by_their_mean(counts: np.ndarray, is_young: bool, expected: bool) -> None:
    assert tell_most_by_mean(records(counts), is_young) == expected


@settings(max_examples=50)
@given(st.lists(st.lists(st.integers(0, 30), min_size=1, max_size=10), min_size=4, max_size=9), st.floats(-0.5, 0.5), st.integers(2, 5))
def test_blocks_of_counts_are_the_same_together_and_one_by_one(parts: list[list[int]], seasonal: float, memory: int) -> None:
    scale = Scale.of("rate", 60.0)
    middles = Middles(scale)
    rows = [scale.judged(np.array(part) / 60, np.ones(len(part))) for part in parts]
    block = np.repeat(np.arange(len(rows)), [len(row) for row in rows])
    y = np.concatenate(rows)
    together = middles.of_blocks(block, y, y - seasonal)
    assert together.tolist() == [float(middles.of_one(row, row - seasonal)[0]) for row in rows]
    assert middles.levels_before(np.r_[together, np.nan], memory)[-1] == middles.level(together[-memory:].tolist()) or memory < 3
    assert scale.back(together + seasonal) * 60 == pytest.approx([np.mean(part) for part in parts], abs=0.01)


# What is found.


@pytest.mark.parametrize("mean", [0.1, 0.6, 1.2, 5.0, 60.0])
def test_chance_keeps_to_the_budget_from_the_first_hour_on(mean: float) -> None:
    """In the first six hours of forty services, ten weeks together: one false deviation a week of each was promised, and a third more may be chance."""
    found = sum(len(found_in(poisson(mean, 6 * HOUR, seed))) for seed in range(40))
    assert found / (40 * 6 / 168) <= 1.4


def test_chance_keeps_to_the_budget_where_the_day_turns() -> None:
    turn = 1 + 0.6 * np.sin(2 * np.pi * np.arange(14 * DAY) / DAY)
    found = sum(len(found_in(poisson(0.9 * turn, 14 * DAY, seed))) for seed in range(4))
    assert found / 8 <= 1.4


@pytest.mark.parametrize(("mean", "factor", "within"), [(1.2, 12.0, 6), (5.0, 5.0, 4), (60.0, 2.0, 6), (2000.0, 0.5, 5)])
def test_a_step_of_a_count_is_noticed_in_the_first_hours(mean: float, factor: float, within: int) -> None:
    counts = poisson(np.where(np.arange(6 * HOUR) < 240, mean, mean * factor), 6 * HOUR, 5)
    [one] = [d for d in found_in(counts, 0.05) if d.opened >= times(241)[240] - 5 * MINUTE]
    assert abs(one.onset - times(241)[240]) <= 2 * MINUTE
    assert one.opened - times(241)[240] <= within * MINUTE
    # What is expected is told as a count: none is nothing special where one a minute is usual.
    assert (one.peak.low == 0) == (mean <= 5)


def test_a_record_of_every_minute_that_stops_coming_is_noticed_soon() -> None:
    counts = np.ones(2 * DAY)
    counts[-30:] = 0
    [one] = found_in(counts)
    assert (one.direction, one.onset) == ("low", times(len(counts))[-30])
    assert one.opened - one.onset <= 3 * MINUTE


def test_a_sampled_sender_that_falls_silent_is_noticed_before_its_level_follows() -> None:
    """One request in ninety is recorded: three records a minute, and then none."""
    counts = 90 * poisson(3.0, 3 * HOUR, 6)
    counts[-30:] = 0
    [one] = found_in(counts, 0.05)
    assert one.direction == "low"
    assert abs(one.onset - times(len(counts))[-30]) <= 3 * MINUTE
    assert one.opened - times(len(counts))[-30] <= 15 * MINUTE


def test_what_each_hour_does_is_a_mean_of_counts() -> None:
    """A job writes four records at the full hour, and nobody else writes more than one in three minutes: neither is news."""
    mean = np.where(np.arange(4 * DAY) % HOUR == 0, 4.0, 0.3)
    counts = poisson(mean, len(mean), 8)
    profile = fit(times(len(counts)), counts / 60, "rate")
    assert np.argmax(profile.hour) == (BEGAN // MINUTE + 0) % HOUR
    assert len(found_in(counts)) <= 1
    assert not fit(times(4 * DAY), poisson(0.3, 4 * DAY, 9) / 60, "rate").hour.any()


@settings(max_examples=10, deadline=None)
@given(st.data())
def test_how_counts_are_cut_into_readings_changes_nothing(data: st.DataObject) -> None:
    mean = data.draw(st.sampled_from([0.2, 2.0, 40.0])) * (1 + 0.5 * np.sin(2 * np.pi * np.arange(3 * DAY) / DAY))
    for begin in data.draw(st.lists(st.integers(100, 3 * DAY - 60), min_size=1, max_size=3)):
        mean[begin : begin + data.draw(st.integers(5, 300))] *= data.draw(st.sampled_from([0.0, 6.0]))
    t, values = times(3 * DAY), poisson(mean, 3 * DAY, data.draw(st.integers(0, 99))) / 60
    whole, one, cut = Points(t, values, np.ones(len(t))), Tracker("rate", 60.0), Tracker("rate", 60.0)
    expected, ended, high = one.follow(whole, whole.between), [], []
    for begin, end in pairwise(sorted({0, len(t), *data.draw(st.lists(st.integers(1, len(t) - 1), max_size=40))})):
        high.append(cut.follow(whole.part(begin, end), whole.between).high)
        ended += cut.take_ended()
        cut = restore(dump(cut)) if data.draw(st.booleans()) else cut
    assert ended == one.take_ended()
    assert cut.opened() == one.opened()
    assert np.array_equal(np.concatenate(high), expected.high, equal_nan=True)
