"""What builds up from a change on: a measure that stood still before it and has risen ever since, as memory, connections or a disk do that nobody frees."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from wirbel.core.diagnosis.measures import Measures

Floats = npt.NDArray[np.float64]
LEAST_BEFORE, LEAST_AFTER = 5, 8  # steps
RISES = 0.7  # rank correlation with time, from the change on until it is full
FULL = 0.9  # of the highest: what has a limit stands still there
STANDS = 0.5  # of the pace afterwards, that it may have had before
CLEAR = 4.0  # standard deviations of what scatters before, by which it rises
WORSE = 3.0  # twice the log-likelihood ratio, from which on another time explains the bend better
EARLIER, LATER = 2, 5  # steps before and after the change, within which the bend agrees with it: a roll-out takes four minutes
SHARED = 0.5  # of its rise, that the same measure of others may have in the middle


def since(m: Measures, rows: list[int], at: int, until: int) -> int | None:
    """The first row of what, of ``rows``, rises most clearly between ``at`` and ``until`` (ns) and did not before; None if none does."""
    first, last = ((moment - m.first) // (m.step_s * 10**9) for moment in (at, until))
    if first < LEAST_BEFORE or last - first < LEAST_AFTER:
        return None
    found = [
        (rise, row)
        for row in _one_of_each(m, rows)
        if (rise := _rise(_of_all(m, row), int(first), int(last))) > CLEAR and not _is_shared(m, row, int(first), int(last), rise)
    ]
    return max(found)[1] if found else None


def _of_all(m: Measures, row: int) -> Floats:
    """The highest of all instances that send the same: one that is replaced goes on under another id."""
    return np.fmax.reduce(m.values[m.together[row], m.recent])


def _rise(values: Floats, first: int, last: int) -> float:
    """How far a series rises after ``first``, in what it scatters before; 0 where it does not, rose before as well, or begins to rise at another time."""
    step = np.flatnonzero(np.isfinite(values[: last + 1]))
    value = values[step]
    begun = int(np.searchsorted(step, first))
    if begun < LEAST_BEFORE:
        return 0.0
    full = np.flatnonzero(value[begun:] >= FULL * value[begun:].max(initial=-np.inf) + (1 - FULL) * np.median(value[:begun]))
    end = begun + max(int(full[0]) + 1, LEAST_AFTER) if len(full) else 0
    step, value = step[:end], value[:end]
    before, after = value[:begun], value[begun:]
    if len(after) < LEAST_AFTER or np.ptp(after) == 0 or _with_time(after) < RISES:
        return 0.0
    pace = float(after[-3:].mean() - after[:3].mean()) / len(after)
    earlier = float(before[-3:].mean() - before[:3].mean()) / len(before)
    if pace <= 0 or earlier > STANDS * pace or not _bends_at(step, value, first):
        return 0.0
    scatter = float(np.median(np.abs(before - np.median(before)))) * 1.4826 + 1e-3 * abs(float(before.mean())) + 1e-12
    return pace * len(after) / scatter


def _bends_at(step: npt.NDArray[np.int64], value: Floats, first: int) -> bool:
    """Whether a series (values at steps) that stands and then rises may begin to at ``first``, by least squares of a level with one bend (Hinkley 1969)."""
    bends = np.arange(step[LEAST_BEFORE // 2], step[-3])
    over = np.maximum(step - bends[:, None], 0.0)
    over -= over.mean(axis=1, keepdims=True)
    apart = value - value.mean()
    slope = over @ apart / np.maximum((over**2).sum(axis=1), 1e-12)
    squares = np.where(slope > 0, ((apart - slope[:, None] * over) ** 2).sum(axis=1), (apart**2).sum()) + 1e-12 * float(apart @ apart)
    near = (bends >= first - EARLIER) & (bends <= first + LATER)
    best = int(np.argmin(squares))
    if not near.any() or step[-1] - bends[best] < LEAST_AFTER:
        return False
    left = apart - slope[best] * over[best]
    follows = float(np.clip(left[1:] @ left[:-1] / max(left @ left, 1e-300), 0.0, 0.95))
    return len(value) * (1 - follows) / (1 + follows) * float(np.log(squares[near].min() / squares[best])) < WORSE


def _with_time(values: Floats) -> float:
    """Rank correlation with time (Spearman 1904), equal values sharing their ranks; ``values`` (steps,) are not all the same."""
    _, code, count = np.unique(values, return_inverse=True, return_counts=True)
    rank = (np.cumsum(count) - (count - 1) / 2)[code.reshape(-1)]
    return float(np.corrcoef(np.arange(len(values)), rank)[0, 1])


def _is_shared(m: Measures, row: int, first: int, last: int, rise: float) -> bool:
    """Whether others that send the same measure rise as well: that is traffic, or the time of day."""
    alike = [other for other in range(len(m)) if m.metric[other] == m.metric[row] and m.service[other] != m.service[row]]
    rises = {one: _rise(_of_all(m, one), first, last) for one in _one_of_each(m, alike)}
    others = [rises[m.together[other][0]] for other in alike]
    return len(others) > 1 and float(np.median(others)) > SHARED * rise


def _one_of_each(m: Measures, rows: list[int]) -> list[int]:
    """Of rows that send the same the first."""
    return sorted({m.together[row][0] for row in rows})
