"""The slope of points of which some are off."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]


def median_slope(x: Floats, y: Floats) -> float:
    """Of all pairs of points, both of shape (points,), that differ in ``x`` (Sen, JASA 63, 1968); NaN where none do."""
    run, rise = x[:, None] - x, y[:, None] - y
    apart = run > 0
    return float(np.median(rise[apart] / run[apart])) if apart.any() else float("nan")
