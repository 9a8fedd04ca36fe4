"""Whether more traffic alone would explain a change: the slope over the reference's own points."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from wirbel.core.diagnosis.attribution import Effect
from wirbel.core.diagnosis.model import Load, Question, Window
from wirbel.core.diagnosis.requests import Requests
from wirbel.core.series import events
from wirbel.core.series.grid import Grid
from wirbel.core.series.series import Series
from wirbel.core.topology.graph import EntityId

Floats = npt.NDArray[np.float64]
Bools = npt.NDArray[np.bool_]
MIN_POINTS = 10  # minutes, or longer in a long reference, with requests
LEAST_RANGE = 0.3  # of traffic within the reference (last tenth against first, beside the middle), to know a slope


def of(question: Question, here: Requests, values: Floats, change: Effect) -> Load:
    """``values`` (one a request) are the symptom's, over what is usual for the operation. Slope by Theil and Sen (Sen 1968)."""
    quiet, reference = ~here.in_focus, question.reference
    count = _of_reference(question, here)
    grid = count.grid
    mean = events.mean(count.entities[0], "excess", change.unit, here.start[quiet], values[quiet], here.adjusted_count[quiet], grid)
    before, after = float(here.adjusted_count[quiet].sum()) / _heard_s(count, reference), float(here.adjusted_count[~quiet].sum()) / question.focus.seconds
    ratio = after / before
    used = mean.known[0] & (grid.times >= reference.start) & (grid.times + grid.step_ns <= reference.end)
    if used.sum() < MIN_POINTS or change.delta == 0:
        return Load(ratio, None)
    rate, level = count.values[0, used] / grid.step, mean.values[0, used]
    low, middle, high = np.quantile(rate, (0.1, 0.5, 0.9))
    if (high - low) / middle < LEAST_RANGE or np.ptp(level) == 0:
        return Load(ratio, None)
    from scipy import stats  # takes each process 45 MB: who asks for no cause does without

    slope = stats.theilslopes(level, rate).slope
    return Load(ratio, float(np.clip(slope * (after - before) / change.delta, 0, 1)))


def heard_s(question: Question, here: Requests) -> float:
    """For how long of the reference requests could be heard of, s: not before the first of them, as the program may not have sent anything yet, and not in a pause."""
    return _heard_s(_of_reference(question, here), question.reference)


def heard(question: Question, here: Requests, times: Floats) -> Bools:
    """Which of some times of the reference, s, lie where requests could be heard of, shape (times,)."""
    count = _of_reference(question, here)
    step = (times * 1e9 - count.grid.first) // count.grid.step_ns
    return _heard(count)[np.clip(step, 0, count.grid.count - 1).astype(np.int64)]


def _heard_s(count: Series, reference: Window) -> float:
    grid = count.grid
    lasts = np.minimum(grid.times + grid.step_ns, reference.end) - np.maximum(grid.times, reference.start)
    return float(lasts[_heard(count)].sum()) / 1e9


def _heard(count: Series) -> Bools:
    """Steps in which requests could be heard of; all, where none ever came."""
    known = np.flatnonzero(count.known[0])
    if not len(known):
        return np.ones(count.grid.count, np.bool_)
    heard = np.zeros(count.grid.count, np.bool_)
    heard[known[0] :] = ~events.paused(np.nan_to_num(count.values[0, known[0] :]))
    return heard


def _of_reference(question: Question, here: Requests) -> Series:
    quiet, reference = ~here.in_focus, question.reference
    return events.counted(EntityId("service", question.service), here.start[quiet], here.adjusted_count[quiet], Grid(reference.start, reference.end))
