"""The rule a team would have written: a threshold somewhat beyond what was seen before, for some minutes. What lead times are measured against."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]
BEYOND = 1.2  # times as far from the median as nearly all values of the history
NEARLY_ALL = 0.999
HELD_S = 300  # that a value has to stay there


def limits(history: Floats) -> tuple[float, float]:
    """The low and the high threshold, by the known values of a history of shape (points,)."""
    known = history[np.isfinite(history)]
    if not len(known):
        return -np.inf, np.inf
    low, middle, high = np.quantile(known, (1 - NEARLY_ALL, 0.5, NEARLY_ALL))
    return float(middle - BEYOND * (middle - low)), float(middle + BEYOND * (high - middle))


def held(step_s: float) -> int:
    """How many points in a row a value has to be beyond its threshold."""
    return max(1, round(HELD_S / step_s))
