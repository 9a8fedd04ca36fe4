"""Deviations of a series whose history is given as a whole: what following it would have found."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wirbel.core.deviation.accumulate import Budget
from wirbel.core.deviation.model import Deviation
from wirbel.core.deviation.points import Expected, Points
from wirbel.core.deviation.tracker import Tracker
from wirbel.core.expected.calendar import BY_UTC, SECOND_NS, Calendar
from wirbel.core.expected.profile import Profile
from wirbel.core.series.series import Kind

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]


@dataclass(frozen=True)
class Found:
    """Deviations in order of their onset; what was expected of each point and its band (NaN while nothing is known)."""

    deviations: list[Deviation]
    expected: Expected
    profile: Profile | None  # the last


def find(times: Ints, values: Floats, kind: Kind = "level", samples: Floats | None = None, budget: Budget | None = None, calendar: Calendar = BY_UTC) -> Found:
    """Deviations of a series of regular ``times`` (ns); ``values`` and ``samples`` (records behind each) of the same shape, NaN where nothing is known."""
    step_s = float(np.median(np.diff(times))) / SECOND_NS if len(times) > 1 else 60.0
    tracker = Tracker(kind, step_s, budget or Budget(), calendar)
    whole = Points(times, values, np.ones(len(times)) if samples is None else samples)
    expected = tracker.follow(whole, whole.between)
    return Found(sorted([*tracker.take_ended(), *tracker.opened()], key=lambda one: one.onset), expected, tracker.profile)
