"""Deviations of series that are made so that it is known what must be found."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import signal

from tests.core.made_series import BEGAN, DAY, MINUTE, quiet, times
from wirbel.core.deviation.accumulate import Budget
from wirbel.core.deviation.find import Found, find
from wirbel.core.deviation.points import Points
from wirbel.core.deviation.state import dump, restore
from wirbel.core.deviation.tracker import FIRST, Tracker
from wirbel.core.expected.calendar import DAY_S


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
@given(st.sampled_from(["constant", "gone", "zero", "one a day", "nan", "few", "spike", "units"]), st.sampled_from(["level", "rate", "quantile", "share"]))
def test_odd_series_have_a_stated_behaviour(shape: str, kind: str) -> None:
    """None raises; what never changes has no deviation; what is too short says nothing."""
    t = times(3 * DAY)
    values = {
        "constant": np.full(len(t), 0.4),
        "gone": np.where(np.arange(len(t)) < DAY, 0.4, np.nan),
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


@pytest.mark.parametrize("seed", range(4))
def test_what_went_wrong_in_the_first_hours_is_noticed_again(seed: int) -> None:
    """Nothing is known of the day yet, and what was clearly off for twenty minutes is not taken for normal."""
    t, values = times(9 * 60), np.exp(np.random.default_rng(seed).normal(np.log(0.1), 0.1, 9 * 60))
    faults = [4 * 60, 6 * 60, 8 * 60]
    for begin in faults:
        values[begin : begin + 20] *= 5
    found = find(t, values, "quantile").deviations
    assert [round((d.onset - t[0]) / MINUTE) for d in found if d.direction == "high"] == faults


def test_what_comes_round_daily_from_the_beginning_is_learned_when_the_day_is() -> None:
    """A nightly job of an hour: told of in the first days, and not for ever."""
    t, values = quiet(3, 8)
    for night in range(8):
        values[night * DAY + 120 : night * DAY + 180] += 40
    nights = [int((d.onset - t[0]) / MINUTE) // DAY for d in find(t, values).deviations if d.direction == "high"]
    assert 1 in nights
    assert max(nights) <= 3


@settings(max_examples=60, deadline=None)
@given(
    st.lists(st.tuples(st.sampled_from([0.0, 0.0, 0.2, 0.4, None]), st.integers(1, 120)), min_size=2, max_size=30),
    st.sampled_from(["level", "rate", "quantile", "share", "utilization"]),
)
def test_whatever_is_missing_a_series_can_be_followed(pieces: list[tuple[float | None, int]], kind: str) -> None:
    """Stretches that are constant or not known, of any length: what is known of it says when it can, and nothing raises."""
    values = np.concatenate([np.full(length, np.nan if value is None else value) for value, length in pieces])
    t = times(len(values))
    found = find(t, values, kind, np.where(np.isfinite(values), 20.0, np.nan))  # type: ignore[arg-type]
    known = np.isfinite(found.expected.high)
    assert (found.expected.low[known] <= found.expected.high[known]).all()


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


def test_a_small_pool_that_leaks_is_noticed_before_it_is_full() -> None:
    """Of eight connections none or one is used for minutes on end, for a day; then one is lost every four minutes. How alike such little is says nothing of what is more."""
    t, rng = times(DAY + 60), np.random.default_rng(3)
    used = np.repeat(rng.choice([0, 1], DAY // 12 + 5, p=[0.7, 0.3]), 12)[: len(t)].astype(float)
    used[DAY:] = np.minimum(used[DAY:] + (np.arange(60) // 4), 8)
    tracker, points = Tracker("utilization", 60.0, Budget(1 / 125), only_high=True), Points(t, used / 8, np.ones(len(t)))
    tracker.follow(points, points.between)
    [one] = [*tracker.take_ended(), *tracker.opened()]
    assert one.opened < t[DAY + 28]  # when seven of eight are lost
    assert one.onset > t[DAY - 12]
