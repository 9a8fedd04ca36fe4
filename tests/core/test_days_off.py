"""Weeks: what comes round with them is learned, whosever days off they are, and what went wrong once is not."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from wirbel.core.deviation.find import find
from wirbel.core.deviation.unlearned import WEEK_NS, Stretch, Unlearned
from wirbel.core.errors import InvalidQuestion
from wirbel.core.expected.calendar import BY_UTC, SECOND_NS, WEEK_S, Calendar
from wirbel.core.expected.seasons import WEEKEND_H

HOUR_NS = 3600 * SECOND_NS
STEP_NS = 300 * SECOND_NS
BEGAN = 1_772_409_600 * 10**9  # Monday 2026-03-02 00:00 UTC
WEEK = int(WEEK_NS // STEP_NS)


def traffic(weeks: int, ahead_h: float, seed: int, calendar: Calendar = BY_UTC) -> tuple[np.ndarray, np.ndarray]:
    """Requests of five minutes: two peaks on working days, one on days off, by clocks so many hours ahead. Scatters by 7 % beside the counting."""
    times = BEGAN + np.arange(weeks * WEEK) * STEP_NS
    at = calendar.phases(times + int(ahead_h * HOUR_NS))
    hour, is_off = at.day * 24, (at.week * 7 >= 5) | at.holiday
    working = np.exp(-(((hour - 8) / 1.6) ** 2)) + np.exp(-(((hour - 17) / 1.8) ** 2))
    rate = 3000 * (1 + np.where(is_off, 0.5 * np.exp(-(((hour - 12) / 3) ** 2)), 0.5 * working))
    return times, np.random.default_rng(seed).negative_binomial(200, 200 / (200 + rate)).astype(float)


def hours_found(times: np.ndarray, values: np.ndarray, calendar: Calendar = BY_UTC) -> list[float]:
    """Hours of each week that lie in deviations."""
    inside = np.zeros(len(times), np.bool_)
    for one in find(times, values, "count", calendar=calendar).deviations:
        inside |= (times >= one.onset) & (times < (one.ended or times[-1] + STEP_NS))
    return (inside.reshape(-1, WEEK).sum(axis=1) * STEP_NS / HOUR_NS).tolist()


@pytest.mark.parametrize("ahead_h", [0, 11.4, -8, 28])
def test_days_off_deviate_until_they_have_come_twice(ahead_h: float) -> None:
    """In any zone, and where people work on Sundays and not on Fridays (28 hours ahead: UTC+4)."""
    hours = hours_found(*traffic(5, ahead_h, 2))
    assert hours[0] > 15  # nothing is known of them yet
    assert max(hours[2:]) < 4


def test_what_went_wrong_on_one_day_off_is_wrong_on_the_next() -> None:
    times, values = traffic(6, 0, 4)
    for week in (3, 5):  # five hours of two Saturdays, two weeks apart
        at = (week * WEEK_S + WEEKEND_H * 3600 + 9 * 3600) * SECOND_NS // STEP_NS
        values[at : at + 60] *= 0.4
    hours = hours_found(times, values)
    assert hours[3] >= 4
    assert hours[5] >= 4


def test_public_holidays_are_days_off_where_it_is_known_whose() -> None:
    """Good Friday, 3 April, and Easter Monday, 6 April 2026, in Germany (Easter by the Gregorian computus: 5 April)."""
    times, values = traffic(6, 0, 5, Calendar("UTC", "DE"))
    alone, known = hours_found(times, values), hours_found(times, values, Calendar("UTC", "DE"))
    assert alone[4] > 5
    assert alone[5] > 5
    assert max(known[2:]) < 4


def test_when_clocks_change_days_change_with_them() -> None:
    """In Berlin at one o'clock UTC on 29 March 2026: what people do is an hour earlier then by UTC."""
    times, values = traffic(6, 0, 6, Calendar("Europe/Berlin"))
    alone, known = hours_found(times, values), hours_found(times, values, Calendar("Europe/Berlin"))
    assert sum(alone[4:]) > 5
    assert sum(known[4:]) < 4


@pytest.mark.parametrize(
    ("time", "of", "is_off"),
    [
        ("2026-04-02T22:30", "DE", True),  # half past midnight in Berlin
        ("2026-04-03T22:30", "DE", False),
        ("2026-01-06T12:00", "DE-BY", True),  # Epiphany, in Bavaria but not everywhere in Germany
        ("2026-01-06T12:00", "DE", False),
        ("2026-04-03T12:00", "", False),
        ("2027-01-01T12:00", "us", True),
        ("2026-08-08T12:00", "de-augsburg", True),  # the Peace Festival of one town
    ],
)
def test_a_holiday_is_one_by_the_clocks_of_its_zone(time: str, of: str, is_off: bool) -> None:
    """Dates from memory, of the laws of these countries."""
    calendar = Calendar.checked("Europe/Berlin", of)
    assert calendar.phases(np.array([np.datetime64(time, "ns").astype(np.int64)])).holiday.tolist() == [is_off]


@pytest.mark.parametrize(
    ("zone", "of", "why"),
    [
        ("Atlantis", "", "No time zone"),
        ("../passwd", "", "No time zone"),
        ("", "", "No time zone"),
        ("UTC", "XX", "No public holidays"),
        ("UTC", "DE-ZZ", "BY"),
        ("UTC", "SG-A", "country alone"),
    ],
)
def test_calendars_that_are_not_known_are_refused(zone: str, of: str, why: str) -> None:
    with pytest.raises(InvalidQuestion, match=why):
        Calendar.checked(zone, of)


stretches = st.tuples(st.integers(0, 60), st.integers(1, 12)).map(lambda one: (one[0], one[0] + one[1]))


@given(st.lists(stretches, max_size=5), st.lists(stretches, max_size=5))
def test_what_came_a_week_before_in_the_same_way_is_learned(first: list[tuple[int, int]], second: list[tuple[int, int]]) -> None:
    """Against sets of hours."""
    unlearned = Unlearned()
    one, other = ({hour for start, end in part for hour in range(start, end)} for part in (first, second))
    for start, end in first:
        unlearned.add_deviation(start * HOUR_NS, end * HOUR_NS, "high")
    for start, end in second:
        unlearned.add_deviation(start * HOUR_NS + WEEK_NS, end * HOUR_NS + WEEK_NS, "high")
    hours = np.arange(80) * HOUR_NS
    assert set(np.flatnonzero(unlearned.hold(hours))) == one - other
    # Two of one week that overlap are no repetition, but the second may find nothing left that it repeats.
    assert other - one <= set(np.flatnonzero(unlearned.hold(hours + WEEK_NS))) <= other


def test_the_other_direction_a_silence_and_what_people_expect_are_no_repetition() -> None:
    unlearned = Unlearned([Stretch(0, HOUR_NS, "low"), Stretch(0, HOUR_NS)])
    unlearned.add_deviation(WEEK_NS, WEEK_NS + HOUR_NS, "high")
    assert len(unlearned.stretches) == 3
    unlearned.forget_before(HOUR_NS)
    assert unlearned.stretches == [Stretch(WEEK_NS, WEEK_NS + HOUR_NS, "high")]
