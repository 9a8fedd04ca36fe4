"""Single events, as requests are, as series: how many come, and what they measure."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from wirbel.core.series.grid import Grid
from wirbel.core.series.series import Series, since_first
from wirbel.core.topology.graph import EntityId

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
Bools = npt.NDArray[np.bool_]
SURELY_EXPECTED = 20.0  # events: that there are none by chance has a probability of e⁻²⁰


def counted(entity: EntityId, times: Ints, weight: Floats, grid: Grid) -> Series:
    """How many events come, adjusted counts ``weight`` (n,) at ``times`` (n,) ns; NaN before the first. Events outside the grid are left out."""
    values, samples = since_first(_add(times, weight, grid), _add(times, np.ones(len(times)), grid))
    return Series([entity], "requests", "{request}", "count", grid, values[None], samples[None])


def mean(entity: EntityId, name: str, unit: str, times: Ints, values: Floats, weight: Floats, grid: Grid) -> Series:
    """Weighted mean of ``values`` (n,) of the events; NaN where there is none."""
    count = _add(times, weight, grid)
    with np.errstate(invalid="ignore", divide="ignore"):
        means = _add(times, weight * values, grid) / count
    return Series([entity], name, unit, "mean", grid, means[None], _add(times, np.ones(len(times)), grid)[None])


def paused(counts: Floats) -> Bools:
    """Steps of a pause, of how many events each step has, shape (steps,): without any for so long that it is no chance; nobody sent then, or nobody took it."""
    idle = counts <= 0
    run = np.cumsum(np.diff(idle, prepend=False) != 0)  # a number for each run of alike steps
    return np.asarray(idle & (np.bincount(run)[run] * counts.mean() >= SURELY_EXPECTED))


def _add(times: Ints, values: Floats, grid: Grid) -> Floats:
    point = (times - grid.first) // grid.step_ns
    inside = (point >= 0) & (point < grid.count)
    return np.bincount(point[inside], values[inside], grid.count).astype(float)
