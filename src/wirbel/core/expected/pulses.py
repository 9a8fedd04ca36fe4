"""What jobs do at the same time of each day: a pulse of some minutes or hours, of any shape, which no harmonic of the day can be.

What departs in the same direction at the same time of day on three of the last four days is expected from then on. Between two parts
of the day of which one has more of it than the other, nobody knows to the minute when it begins: there a value scatters more.
"""

from __future__ import annotations

from typing import Final

import numpy as np
import numpy.typing as npt

from wirbel.core.expected.blocks import block_medians
from wirbel.core.expected.calendar import DAY_S, SECOND_NS, Phases

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
Bools = npt.NDArray[np.bool_]
BIN_S = 300
BINS = DAY_S // BIN_S
DAYS, LEAST_DAYS = 4, 3  # the last ones, and of these those on which it departed
CLEAR = 3.0  # times the usual scatter, by which the middle of a part of a day departs
EDGE = 0.5  # of how much two neighbours differ, that a value may be away between them
RARE = 0.1  # of the day
NONE: Final[Floats] = np.zeros(0)


def may_be_seen(step_s: float) -> bool:
    """Whether a series is told often enough for what lasts some minutes."""
    return step_s <= BIN_S


def learn(times: Ints, at: Phases, residual: Floats) -> Floats:
    """What is expected in each part of the day beyond all else, shape (BINS,), from residuals (points,) on the judged scale; NONE where no part departs on enough days."""
    known = residual[np.isfinite(residual)]
    if not known.any():
        return NONE
    # Where more than half of the values are the level itself, what the others do is all that is known.
    scatter = 1.4826 * float(np.median(np.abs(known))) or float(np.sqrt(np.mean(known**2))) / CLEAR
    day = np.rint((times / SECOND_NS - at.day * DAY_S) / DAY_S).astype(np.int64)
    part = (day - day[0]) * BINS + _bin(at)
    if not (np.diff(part) >= 0).all():  # the hour that a change of the clock brings back
        order = np.argsort(part, kind="stable")
        part, residual = part[order], residual[order]
    first = int(part[0])
    middles = np.full((int(part[-1]) // BINS + 1) * BINS, np.nan)
    found = block_medians(part - first, residual)
    middles[first : first + len(found)] = found
    lately = middles.reshape(-1, BINS)[-DAYS:]
    if len(lately) < LEAST_DAYS:
        return NONE
    expected = np.zeros(BINS)
    for sign in (1, -1):
        departs = sign * lately > CLEAR * scatter
        often = departs.sum(axis=0) >= LEAST_DAYS
        if often.any():
            expected[often] = np.nanmedian(np.where(departs, lately, np.nan)[:, often], axis=0)
    return expected if expected.any() else NONE


def is_rare(pulses: Floats, at: Phases) -> Bools:
    """Which of the phases of the day (points,) lie in a pulse, where these take little of the day."""
    some = pulses != 0.0
    return some[_bin(at)] if len(pulses) and some.mean() <= RARE else np.zeros(len(at.day), np.bool_)


def expected(pulses: Floats, at: Phases) -> Floats | float:
    """What is expected at phases of the day, shape (points,)."""
    return pulses[_bin(at)] if len(pulses) else 0.0


def widened(spread: Floats, pulses: Floats, at: Phases) -> Floats:
    """The usual scatter (points,), with what is not known of when a pulse begins and ends."""
    if not len(pulses):
        return spread
    jump = np.maximum(np.abs(pulses - np.roll(pulses, 1)), np.abs(pulses - np.roll(pulses, -1)))
    return np.asarray(np.hypot(spread, EDGE * jump[_bin(at)]))


def _bin(at: Phases) -> Ints:
    return np.minimum((at.day * BINS).astype(np.int64), BINS - 1)
