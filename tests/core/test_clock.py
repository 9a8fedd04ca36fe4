"""The time a question looks at: nothing between two windows that lie apart is read or counted, and every time comes back as it was."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from wirbel.core.diagnosis.choose import ONSET_BEFORE_NS, windows
from wirbel.core.diagnosis.clock import Clock
from wirbel.core.diagnosis.model import Question, Window

MINUTE = 60 * 10**9
HOUR, DAY = 60 * MINUTE, 24 * 60 * MINUTE
START = 1_772_000_000 * 10**9 // MINUTE * MINUTE


def question(before: int, focus_s: int = 1200, reference_s: int = 3600) -> Question:
    """A focus, and a reference that ends so long before it (ns), or begins after it where that is negative."""
    focus = Window(START, START + focus_s * 10**9)
    first = START - before - reference_s * 10**9 if before >= 0 else focus.end - before
    return Question("front", None, "latency", focus, Window(first, first + reference_s * 10**9), "given")


def test_windows_that_touch_are_one_stretch_and_others_two() -> None:
    assert len(Clock(question(0), 60).stretches) == 1
    assert len(Clock(question(10 * MINUTE), 60).stretches) == 1  # the quarter hour before the focus is read
    apart = Clock(question(DAY), 60)
    assert [window.seconds for window in apart.stretches] == [3600, 1200 + ONSET_BEFORE_NS / 1e9]
    assert apart.count == 60 + 35  # not a day of minutes


def test_the_quarter_hour_before_the_focus_is_in_no_window() -> None:
    clock = Clock(question(DAY), 60)
    assert (clock.reference.sum(), clock.focus.sum()) == (60, 20)
    assert not (clock.reference & clock.focus).any()


def test_a_reference_may_come_after_the_focus() -> None:
    asked = question(-2 * HOUR)
    assert [window.start for window in windows(asked)] == [asked.reference.start, asked.focus.start - ONSET_BEFORE_NS, asked.focus.start]
    clock = Clock(asked, 60)
    assert (clock.reference.sum(), clock.focus.sum()) == (60, 20)
    assert np.flatnonzero(clock.reference).max() < np.flatnonzero(clock.focus).min()  # as if it had come first


def test_a_minute_that_a_window_holds_in_part_is_not_counted_as_whole() -> None:
    asked = Question("front", None, "latency", Window(START + 20 * 10**9, START + 10 * MINUTE), Window(START - HOUR - 30 * 10**9, START - 30 * 10**9), "given")
    clock = Clock(asked, 60)
    whole = clock.times[clock.focus]
    assert whole.min() >= asked.focus.start
    assert whole.max() + MINUTE <= asked.focus.end
    assert clock.times[clock.reference].max() + MINUTE <= asked.reference.end


@given(st.integers(-40 * DAY, 40 * DAY).filter(lambda ns: ns >= 0 or ns < -MINUTE), st.integers(0, 3599), st.sampled_from(["reference", "focus"]))
def test_times_come_back_as_they_were(before: int, second: int, name: str) -> None:
    clock = Clock(question(before), 60)
    window: Window = getattr(clock.question, name)
    at = window.start + second * 10**9 % (window.end - window.start)
    [joined] = clock.joined(np.array([at]))
    assert clock.apart(int(joined)) == at
    assert clock.place(np.array([at]))[0] >= 0


@pytest.mark.parametrize("before", [2 * HOUR, DAY, 6 * DAY, 30 * DAY])
def test_joined_times_leave_no_gap(before: int) -> None:
    clock = Clock(question(before), 60)
    ends = clock.joined(np.array([clock.question.reference.end - 1, clock.stretches[1].start]))
    assert ends[1] - ends[0] == 1
    assert clock.place(np.array([clock.question.reference.end + 10 * MINUTE]))[0] == -1  # was not read
