"""Whether more traffic alone would explain a change: the slope over the reference's own points."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from wirbel.core.diagnosis.attribution import Effect
from wirbel.core.diagnosis.heard import Heard
from wirbel.core.diagnosis.model import Load, Question
from wirbel.core.diagnosis.requests import Requests
from wirbel.core.series import events
from wirbel.core.stats.slope import median_slope

Floats = npt.NDArray[np.float64]
MIN_POINTS = 10  # minutes, or longer in a long reference, with requests
LEAST_RANGE = 0.3  # of traffic within the reference (last tenth against first, beside the middle), to know a slope


def of(question: Question, here: Requests, values: Floats, change: Effect) -> Load:
    """``values`` (one a request) are the symptom's, over what is usual for the operation. Slope by Theil and Sen (Sen 1968)."""
    quiet, reference = ~here.in_focus, question.reference
    heard = Heard.of(question, here)
    count, grid = heard.count, heard.count.grid
    mean = events.mean(count.entities[0], "excess", change.unit, here.start[quiet], values[quiet], here.adjusted_count[quiet], grid)
    before, after = float(here.adjusted_count[quiet].sum()) / heard.seconds, float(here.adjusted_count[~quiet].sum()) / question.focus.seconds
    ratio = after / before
    used = mean.known[0] & (grid.times >= reference.start) & (grid.times + grid.step_ns <= reference.end)
    if used.sum() < MIN_POINTS or change.delta == 0:
        return Load(ratio, None)
    rate, level = count.values[0, used] / grid.step, mean.values[0, used]
    low, middle, high = np.quantile(rate, (0.1, 0.5, 0.9))
    if (high - low) / middle < LEAST_RANGE or np.ptp(level) == 0:
        return Load(ratio, None)
    slope = median_slope(rate, level)
    return Load(ratio, float(np.clip(slope * (after - before) / change.delta, 0, 1)))
