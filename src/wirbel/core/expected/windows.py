"""The two windows that are proposed: focus where the series departs, reference a quiet stretch before."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core.expected.band import Band, expected_band
from wirbel.core.series import cells as cell_series
from wirbel.core.series.grid import Grid
from wirbel.core.topology.graph import EntityId

MINUTE_S = 60
LOOK_BACK_NS = 3 * 3600 * 10**9  # before a focus, for a quiet stretch
LEAST_BEFORE_NS = 30 * 60 * 10**9  # that a reference is long where nothing is known
TOLERATED_S = 3 * MINUTE_S  # of quiet inside a departure that does not end it
DENSE_S = 5 * MINUTE_S  # of which more than half must depart for a departure to begin
SHORTEST_S = 3 * MINUTE_S  # of a departure
REFERENCE_S = 90 * MINUTE_S  # wanted of a quiet stretch
LEAST_REFERENCE_S = 10 * MINUTE_S  # of it, where so much is known
MIN_REFERENCE = 12  # points of it
GUARD_S = 2 * MINUTE_S  # left free before the departure
SILENT_S = 20 * MINUTE_S  # without anything heard: a reference does not reach over it
PAUSE_S, PAUSE_TIMES = 5 * MINUTE_S, 10  # nor over a shorter pause, where so many times as often something is heard
ENDED_S = 3 * MINUTE_S  # without anything heard: what was sent has ended
DEFAULT_FOCUS_S = 30 * MINUTE_S  # when nothing departs


@dataclass(frozen=True)
class WindowProposal:
    """Indices of points [from, to) of both windows; ``departed`` is False when nothing stands out."""

    focus: tuple[int, int]
    reference: tuple[int, int]
    departed: bool


def _points(seconds: float, step_s: float) -> int:
    """So much time as points, one at least."""
    return max(1, round(seconds / step_s))


def departures(band: Band) -> list[tuple[int, int]]:
    """Stretches [from, to) of points of one series above its band; short gaps bridged."""
    above, step_s = band.above[0], band.series.grid.step
    hot = np.flatnonzero(above)
    if not len(hot):
        return []
    breaks = np.flatnonzero(np.diff(hot) > _points(TOLERATED_S, step_s) + 1)
    stretches = zip(hot[np.r_[0, breaks + 1]], hot[np.r_[breaks, len(hot) - 1]] + 1, strict=True)
    return [(_dense_start(above, int(a), int(b), _points(DENSE_S, step_s)), int(b)) for a, b in stretches if above[a:b].sum() >= _points(SHORTEST_S, step_s)]


def _dense_start(above: npt.NDArray[np.bool_], start: int, end: int, dense: int) -> int:
    """Skips single loud points that happen to lie just before a departure."""
    while start < end - dense and above[start : start + dense].sum() <= dense // 2:
        start += 1 + int(np.argmax(above[start + 1 : end]))
    return start


def propose(band: Band, until: int | None = None, stretches: Sequence[tuple[int, int]] | None = None) -> WindowProposal:
    """Windows for one series; the last of the ``stretches`` [from, to) of points in which it departs is the focus, by its band where none are given.

    ``until`` (ns) is when anything at all was last heard: windows are not proposed beyond it. The reference never begins before
    the first known point: what is not known is no quiet time, and rates over it would be too low.
    """
    grid, known = band.series.grid, np.flatnonzero(band.series.known[0])
    step_s, count = grid.step, grid.count
    if until is not None and grid.end - until > ENDED_S * 10**9:
        count = max(min(count, -(-(until - grid.first) // grid.step_ns)), 2)
    first = max(0, min(int(known[0]) if len(known) else 0, count - 2))  # neither window is ever empty
    found = departures(band) if stretches is None else stretches
    guard, heard = _points(GUARD_S, step_s), band.series.known[0]
    if not found:
        start = max(count - _points(DEFAULT_FOCUS_S, step_s), (first + count) // 2)
        return WindowProposal((start, count), _heard_before(start, first, heard, step_s), False)
    start, end = found[-1]
    if count - end <= _points(TOLERATED_S, step_s) + 1:
        end = count  # still going on
    busy = np.zeros(count, np.bool_)
    for a, b in found:
        busy[max(0, a - guard) : b] = True
    stop = max(start - guard, 1)
    before = _latest_quiet(first, busy[:stop], _points(LEAST_REFERENCE_S, step_s)) if stop > first else (first, stop)
    return WindowProposal((start, end), _heard_before(before[1], before[0], heard, step_s), True)


def _latest_quiet(first: int, busy: npt.NDArray[np.bool_], least: int) -> tuple[int, int]:
    """From ``first`` on the latest stretch [from, to) of points that are not ``busy``, as many as wanted at least: a lull between two departures is no quiet time. Where there is none, the end of them all."""
    stop = len(busy)
    edges = first + np.flatnonzero(np.diff(np.r_[True, busy[first:], True]))
    quiet = [(int(begin), int(end)) for begin, end in zip(edges[::2], edges[1::2], strict=True)]
    last = quiet[-1][0] if quiet and quiet[-1][1] == stop else stop - 1
    return next(((begin, end) for begin, end in reversed(quiet) if end - begin >= least), (last, stop))


def _heard_before(stop: int, first: int, heard: npt.NDArray[np.bool_], step_s: float) -> tuple[int, int]:
    """What is wanted of a reference before ``stop``, from ``first`` on: the latest stretch in which something was heard, with short gaps at most.

    Where so little was heard that gaps are usual, or nothing, the time just before.
    """
    wanted, least = max(_points(REFERENCE_S, step_s), MIN_REFERENCE), _points(LEAST_REFERENCE_S, step_s)
    known = np.flatnonzero(heard[first:stop]) + first
    if len(known):
        breaks = _pauses(known, step_s)
        begin, end = int(known[breaks[-1] + 1] if len(breaks) else known[0]), int(known[-1]) + 1
        if end - begin >= least:
            # What was not heard just before, as it had not come in yet, is no gap.
            end = stop if stop - end <= _points(SILENT_S, step_s) else end
            return max(begin, end - wanted), end
    return min(max(first, stop - wanted), stop - 1), stop


def _pauses(known: npt.NDArray[np.int64], step_s: float) -> npt.NDArray[np.int64]:
    """Places among the points at which something was heard after which nothing was for so long that it is a pause."""
    apart = np.diff(known)
    usual = int(np.median(apart)) if len(apart) else 1
    return np.flatnonzero(apart > min(max(_points(PAUSE_S, step_s), PAUSE_TIMES * usual), _points(SILENT_S, step_s)))


def quiet_before(band: Band) -> tuple[int, int] | None:
    """The latest quiet stretch [from, to) of points of one series: at most REFERENCE_S and at least LEAST_REFERENCE_S long, or else the last of it that is known.

    Loud points at the end are left out: they may hold the first signs of what follows, and so may a shorter lull after them. A single loud point does not end
    the stretch. None if nothing is known.
    """
    known = np.flatnonzero(band.series.known[0])
    if not len(known):
        return None
    step_s, loud, first = band.series.grid.step, band.above[0].copy(), int(known[0])
    for place in _pauses(known, step_s):
        loud[known[place] + 1 : known[place + 1]] = True  # it is no quiet time
    longest, shortest = _points(REFERENCE_S, step_s), _points(LEAST_REFERENCE_S, step_s)
    latest = stop = _without_loud_end(loud, len(loud), first + shortest)
    while stop > first + shortest:
        begin = stop
        while begin > first and stop - begin < longest and not (loud[begin - 1] and loud[max(begin - 2, 0)]):
            begin -= 1
        if stop - begin >= shortest:
            return begin, stop
        stop = _without_loud_end(loud, begin - 1, first)  # a lull in what goes wrong already
    return max(latest - shortest, first), latest


def _without_loud_end(loud: npt.NDArray[np.bool_], stop: int, least: int) -> int:
    while stop > least and loud[stop - 1]:
        stop -= 1
    return stop


def reference_before(table: pa.Table, service: str, start: int, end: int, step_s: int = MINUTE_S) -> tuple[int, int]:
    """The reference for a focus [``start``, ``end``) ns of a service: a quiet stretch of its own p95 (see :func:`quiet_before`).

    ``table`` holds cells of LOOK_BACK_NS before the focus. Where nothing is known, the time just before it, as long as the focus.
    """
    grid = Grid(start - LOOK_BACK_NS - (start - LOOK_BACK_NS) % (step_s * 10**9), start, step_s)
    minute = table["minute"]
    own = table.filter(pc.and_(pc.equal(table["service"], service), pc.and_(pc.greater_equal(minute, grid.first), pc.less(minute, start))))
    band = expected_band(cell_series.by_point(cell_series.entries(own), grid, [EntityId("service", service)]).latency())
    quiet = quiet_before(band)
    if quiet is None:
        return start - max(end - start, LEAST_BEFORE_NS), start
    return int(grid.times[quiet[0]]), min(int(grid.first + quiet[1] * grid.step_ns), start)
