"""Whether more traffic alone would explain a change: the slope of the reference's own minutes."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from scipy import stats

from wirbel.core.diagnosis.attribution import Effect
from wirbel.core.diagnosis.model import Load, Question
from wirbel.core.diagnosis.requests import Requests

Floats = npt.NDArray[np.float64]
MINUTE_NS = 60 * 10**9
MIN_MINUTES = 10
LEAST_RANGE = 0.3  # of traffic within the reference (last tenth against first, beside the middle), to know a slope


def of(question: Question, here: Requests, values: Floats, change: Effect) -> Load:
    """``values`` (one a request) are the symptom's, over what is usual for the operation. Slope by Theil and Sen (Sen 1968)."""
    rate = [float(here.weight[rows].sum()) / window.seconds for rows, window in ((here.in_focus, question.focus), (~here.in_focus, question.reference))]
    ratio = rate[0] / rate[1]
    quiet = ~here.in_focus
    minute = (here.start[quiet] - question.reference.start) // MINUTE_NS
    count = np.bincount(minute, weights=here.weight[quiet])
    total = np.bincount(minute, weights=here.weight[quiet] * values[quiet])
    used = count > 0
    if used.sum() < MIN_MINUTES or change.delta == 0:
        return Load(ratio, None)
    mean, count = total[used] / count[used], count[used]
    low, middle, high = np.quantile(count, (0.1, 0.5, 0.9))
    if (high - low) / middle < LEAST_RANGE or np.ptp(mean) == 0:
        return Load(ratio, None)
    slope = stats.theilslopes(mean, count).slope
    return Load(ratio, float(np.clip(slope * 60 * (rate[0] - rate[1]) / change.delta, 0, 1)))
