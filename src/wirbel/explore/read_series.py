"""Cells read for the points of a chart and for windows."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from wirbel.core.cells import MINUTE_NS
from wirbel.core.series.grid import Grid
from wirbel.store import reading
from wirbel.store.models import Stream

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]


def grid_of(stream: str, start: int, end: int, environment: str | None) -> Grid:
    """Points as fine as the width and what is kept allow."""
    return Grid(start, end, max(reading.finest_step(stream, start, environment), 60))


def aligned(window: tuple[int, int], environment: str | None) -> tuple[int, int]:
    """The window widened to whole stretches, where cells are kept only in stretches longer than a minute."""
    step_ns = reading.finest_step(Stream.CELLS, window[0], environment) * 10**9
    return (window[0] - window[0] % step_ns, window[1] + -window[1] % step_ns) if step_ns else window


def read(grid: Grid, windows: Sequence[tuple[int, int]], environment: str | None, columns: Sequence[str]) -> tuple[pa.Table, pa.Table]:
    """Cells for the points of a chart, and cells in minutes for the windows: the same table unless the chart is coarse."""
    drawn = reading.cells(grid.first, grid.end, environment, None, columns, grid.cell_step)
    if grid.step == 60:
        return drawn, drawn
    minutes, end = [], 0
    for start, stop in sorted(windows):  # windows may overlap: no minute twice
        first = max(start - start % MINUTE_NS, end)
        if stop > first:
            step = reading.finest_step(Stream.CELLS, first, environment)
            minutes.append(reading.cells(first, stop, environment, None, columns, step))
            end = max(end, -(-stop // MINUTE_NS) * MINUTE_NS)
    return drawn, pa.concat_tables(minutes)
