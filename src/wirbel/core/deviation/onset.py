"""Since when a series has been another: by what speaks for a change at each of its points."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]
NEAR_BEST = 7.35  # twice the log likelihood that an onset may fall short of the likeliest (95 %, Hansen, Econometrica 68, 2000, table I)


def gained(away: Floats) -> Floats:
    """Twice the log likelihood that the mean of all points from each on is above zero; ``away``, shape (points,): how far each is, in usual scatters, NaN where not known."""
    total = np.cumsum(np.nan_to_num(away)[::-1])[::-1]
    return np.where(total > 0, total**2 / np.arange(len(away), 0, -1), 0.0)


def likeliest(of_points: Floats, tells: float) -> tuple[int, int, int]:
    """The point with the most for it, and the first and last that may be it as well. ``of_points``, shape (points,), as :func:`gained`; ``tells``: the share of each that is news."""
    # Of points that are alike, many tell as much as few that are not.
    may = np.flatnonzero(tells * (of_points.max() - of_points) <= NEAR_BEST)
    return int(np.argmax(of_points)), int(may[0]), int(may[-1])
