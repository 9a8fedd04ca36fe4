"""What is read for the points of a chart, for what teaches its bands, and for windows."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import partial

import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow
from wirbel.core import served as served_model
from wirbel.core.cells import MINUTE_NS
from wirbel.core.expected.band import WINDOW_S
from wirbel.core.series import cells as cell_series
from wirbel.core.series import served as served_series
from wirbel.core.series.grid import Grid
from wirbel.core.series.series import Series
from wirbel.core.topology.graph import EntityId
from wirbel.store import fine_cells, reading
from wirbel.store.models import Stream

Window = tuple[int, int]

FINE_RANGE_NS = 40 * MINUTE_NS  # the longest range that is drawn so


def grid_of(stream: str, start: int, end: int, environment: str | None) -> Grid:
    """Points as fine as the width and what is kept allow."""
    return Grid(start, end, max(reading.finest_step(stream, start, environment), 60))


def aligned(window: Window, environment: str | None) -> Window:
    """The window widened to whole stretches, where cells are kept only in stretches longer than a minute."""
    step_ns = reading.finest_step(Stream.CELLS, window[0], environment) * 10**9
    return (window[0] - window[0] % step_ns, window[1] + -window[1] % step_ns) if step_ns else window


@dataclass(frozen=True)
class Drawn:
    """What services served in the points of ``grid``, and in those of ``past``, which teach what is expected."""

    grid: Grid
    points: pa.Table
    past: Grid
    taught: pa.Table

    def headline(self, services: Sequence[str]) -> tuple[tuple[Series, Series], tuple[Series, Series]]:
        """The headline percentile and the rate of services over the points, and over the time that teaches."""
        entities = [EntityId("service", name) for name in services]

        def found(table: pa.Table, grid: Grid) -> tuple[Series, Series]:
            return served_series.over_time(table, grid, entities, arrow.place_in(table["service"], services))

        points = found(self.points, self.grid)
        return points, points if self.past == self.grid else found(self.taught, self.past)

    def over_time(self, entity: EntityId) -> tuple[cell_series.OverTime, cell_series.OverTime]:
        """All rows as one entity's, over the points and over the time that teaches."""
        points = cell_series.by_point(self.points, self.grid, [entity])
        return points, points if self.past == self.grid else cell_series.by_point(self.taught, self.past, [entity])


def read_together(start: int, end: int, environment: str | None, services: Sequence[str] | None) -> Drawn:
    """What a chart of all percentiles of some services, or of all, as if they were one, needs over [start, end)."""
    return _read(start, end, environment, services, partial(reading.served, together=True))


def read_headlines(start: int, end: int, environment: str | None, services: Sequence[str]) -> Drawn:
    """What charts of the headline percentile of each of some services need over [start, end)."""
    return _read(start, end, environment, services, reading.headlines)


def _read(start: int, end: int, environment: str | None, services: Sequence[str] | None, served: Callable[..., pa.Table]) -> Drawn:
    """From spans where the range is short and they are few, else from what is kept."""
    grid = grid_of(Stream.CELLS, start, end, environment)
    if grid.step > 60:
        drawn = served(grid.first, grid.end, environment, services, grid.cell_step)
        return Drawn(grid, drawn, grid, drawn)
    past = Grid(grid.first - WINDOW_S * 10**9, end)
    taught = served(past.first, end, environment, services)
    fine = fine_grid(start, end, environment)
    if fine is None:
        return Drawn(grid, taught.filter(pc.greater_equal(taught["minute"], grid.first)), past, taught)
    return Drawn(fine, read_fine(fine, environment, services), past, taught)


def fine_grid(start: int, end: int, environment: str | None) -> Grid | None:
    """Points of ten seconds, where the range is short and spans are few; else None."""
    return Grid(start, end, fine_cells.STEP_S) if end - start <= FINE_RANGE_NS and fine_cells.may_be_read(start, end, environment) else None


def read_fine(grid: Grid, environment: str | None, services: Sequence[str] | None) -> pa.Table:
    """What services served, in the steps of such a grid."""
    return served_model.of_cells(fine_cells.read(grid.first, grid.end, environment, services))


def read_past(start: int, end: int, environment: str | None, services: Sequence[str] | None) -> tuple[Grid, pa.Table]:
    """The points of a chart of a time that is past, and what was served in them as if all were one: to the end of its last stretch, as all of that is there."""
    asked = grid_of(Stream.CELLS, start, end, environment)
    grid = replace(asked, end=asked.first + asked.count * asked.step_ns)
    return grid, reading.served(grid.first, grid.end, environment, services, grid.cell_step, together=True)


def totals(
    window: Window, names: Sequence[str], environment: str | None, services: Sequence[str] | None, bounded: bool = False, quantiles: bool = True
) -> cell_series.Totals:
    """Of each of ``names`` in the minutes that begin in a window, read of some services or of all; see core.series.cells.totals."""
    start, step = window[0] - window[0] % MINUTE_NS, reading.finest_step(Stream.CELLS, window[0], environment)
    table = reading.served(start, window[1], environment, services, step, columns=None if quantiles else served_model.SUMS)
    return cell_series.totals(table, arrow.place_in(table["service"], names), len(names), bounded, quantiles)


Read = Callable[[int, int, int], pa.Table]
"""Rows of the stretches of so many s (0: minutes) that begin in [start, end) ns."""


def in_windows(windows: Sequence[Window], environment: str | None, read: Read) -> pa.Table:
    """What ``read`` finds in any of the windows, each row once: windows may overlap."""
    parts, end = [], 0
    for start, stop in sorted(windows):
        first = max(start - start % MINUTE_NS, end)
        if stop > first:
            parts.append(read(first, stop, reading.finest_step(Stream.CELLS, first, environment)))
            end = max(end, -(-stop // MINUTE_NS) * MINUTE_NS)
    return arrow.widest(parts)
