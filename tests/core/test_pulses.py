"""Jobs that run at the same time of each day: expected from the fourth day on, and what is wrong beside them is noticed."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pytest

from tests.core.made_series import BEGAN, MINUTE
from wirbel.core.deviation.find import find
from wirbel.core.expected import pulses
from wirbel.core.expected.calendar import BY_UTC, Calendar
from wirbel.core.expected.profile import fit
from wirbel.core.series.series import Kind

Floats = npt.NDArray[np.float64]
DAY = 1440
DAYS = 9
TIMES = BEGAN + np.arange(DAYS * DAY) * MINUTE
OF_DAY = np.arange(DAYS * DAY) % DAY
JOB = (OF_DAY >= 200) & (OF_DAY < 225)
TWICE = ((OF_DAY >= 200) & (OF_DAY < 215)) | ((OF_DAY >= 900) & (OF_DAY < 930))


def noise(seed: int = 3) -> Floats:
    return np.random.default_rng(seed).standard_normal(DAYS * DAY)


SERIES: dict[str, tuple[Kind, Floats]] = {
    "once a day": ("level", 50 + 5 * noise() + 40 * JOB),
    "down": ("level", 50 + 5 * noise() - 40 * JOB),
    "twice a day": ("quantile", np.exp(-3 + 0.2 * noise() + 1.5 * TWICE)),
    "on zero": ("rate", np.where(JOB, 20 + 3 * noise(), 0.0)),
    "share": ("share", np.clip(0.01 + 0.002 * noise() + 0.2 * JOB, 0, 1)),
    "never twice in the same minute": (
        "level",
        50 + 5 * noise() + 40 * np.roll(JOB, 2) * (np.arange(DAYS * DAY) // DAY % 2) + 40 * JOB * (1 - np.arange(DAYS * DAY) // DAY % 2),
    ),
}


def onsets(values: Floats, kind: Kind) -> list[int]:
    """Minutes since the beginning."""
    return [int((one.onset - BEGAN) // MINUTE) for one in find(TIMES, values, kind).deviations]


@pytest.mark.parametrize("name", SERIES)
def test_what_comes_each_day_is_expected_from_the_fourth_on(name: str) -> None:
    kind, values = SERIES[name]
    late = [at for at in onsets(values, kind) if at >= 4 * DAY]
    at_pulses = [at for at in late if 190 <= at % DAY < 235 or 890 <= at % DAY < 940]
    assert len(at_pulses) <= 1  # of five days
    assert len(late) <= 3


@pytest.mark.parametrize("wrong", ["elsewhere", "twice as high", "it does not run", "an hour late"])
def test_what_is_wrong_beside_a_job_is_noticed(wrong: str) -> None:
    kind, values = SERIES["once a day"]
    values, day = values.copy(), 7 * DAY
    at = day + {"elsewhere": 700, "an hour late": 260}.get(wrong, 200)
    if wrong in ("elsewhere", "twice as high", "an hour late"):
        values[at : at + 25] += 40
    if wrong in ("it does not run", "an hour late"):
        values[day + 200 : day + 225] -= 40
    found = onsets(values, kind)
    assert any(abs(one - at) <= 6 for one in found)


def test_a_series_without_jobs_has_no_pulses() -> None:
    for seed in range(6):
        assert not len(fit(TIMES, 50 + 5 * noise(seed), "level").pulses)
    walk = 50 + np.cumsum(noise(9)) * 0.05
    assert not len(fit(TIMES, walk + noise(), "level").pulses)


def test_a_fault_on_two_days_is_no_job() -> None:
    values = 50 + 5 * noise()
    for day in (6, 7):
        values[day * DAY + 300 : day * DAY + 330] += 40
    assert not len(fit(TIMES, values, "level").pulses)


def test_the_day_is_that_of_the_series_own_clocks() -> None:
    """Summer time begins in the middle: the job runs an hour earlier by UTC from then on."""
    berlin = Calendar("Europe/Berlin", "")
    times = 1_774_310_400 * 10**9 + np.arange(DAYS * DAY) * MINUTE  # 2026-03-24T00:00:00Z; clocks change on the 29th
    local = (berlin.phases(times).day * DAY).round().astype(int) % DAY
    values = 50 + 5 * noise() + 40 * ((local >= 200) & (local < 225))
    learned = fit(times, values, "level", calendar=berlin).pulses
    assert np.flatnonzero(learned > 20).tolist() == [40, 41, 42, 43, 44]
    assert len(fit(times, values, "level", calendar=BY_UTC).pulses) != 0


def test_what_is_not_told_often_enough_has_none() -> None:
    assert pulses.may_be_seen(60)
    assert not pulses.may_be_seen(600)
    every_hour = np.arange(0, DAYS * DAY, 60)
    assert not len(fit(TIMES[every_hour], (50 + noise() + 40 * JOB)[every_hour], "level").pulses)
