"""The two windows that are proposed: focus where the series departs, reference a quiet stretch before."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wirbel.core.expected.band import SURPRISED, Band

TOLERATED = 3  # quiet minutes inside a departure that do not end it
DENSE = 5  # minutes of which more than half must depart for a departure to begin
SHORTEST = 3  # minutes of a departure
REFERENCE = 90  # minutes wanted of a quiet stretch
GUARD = 2  # minutes left free before the departure
DEFAULT_FOCUS = 30  # minutes, when nothing departs


@dataclass(frozen=True)
class WindowProposal:
    """Minute indices [from, to) of both windows; ``departed`` is False when nothing stands out."""

    focus: tuple[int, int]
    reference: tuple[int, int]
    departed: bool


def departures(values: npt.NDArray[np.float64], band: Band) -> list[tuple[int, int]]:
    """Stretches [from, to) of one series (minutes,) above its band, short gaps bridged."""
    above = (band.surprise >= SURPRISED) & (values > band.expected)
    hot = np.flatnonzero(above)
    if not len(hot):
        return []
    breaks = np.flatnonzero(np.diff(hot) > TOLERATED + 1)
    stretches = zip(hot[np.r_[0, breaks + 1]], hot[np.r_[breaks, len(hot) - 1]] + 1, strict=True)
    return [(_dense_start(above, int(a), int(b)), int(b)) for a, b in stretches if above[a:b].sum() >= SHORTEST]


def _dense_start(above: npt.NDArray[np.bool_], start: int, end: int) -> int:
    """Skips single loud minutes that happen to lie just before a departure."""
    while start < end - DENSE and above[start : start + DENSE].sum() <= DENSE // 2:
        start += 1 + int(np.argmax(above[start + 1 : end]))
    return start


def propose(values: npt.NDArray[np.float64], band: Band) -> WindowProposal:
    """Windows for one series; the latest departure is the focus."""
    count = len(values)
    found = departures(values, band)
    if not found:
        start = max(count - DEFAULT_FOCUS, count // 2)
        return WindowProposal((start, count), (max(0, start - REFERENCE), start), False)
    start, end = found[-1]
    if count - end <= TOLERATED + 1:
        end = count  # still going on
    busy = np.zeros(count, np.bool_)
    for a, b in found:
        busy[max(0, a - GUARD) : b] = True
    stop = max(start - GUARD, 1)
    quiet = stop
    while quiet > 0 and stop - quiet < REFERENCE and not busy[quiet - 1]:
        quiet -= 1
    return WindowProposal((start, end), (min(quiet, stop - 1), stop), True)
