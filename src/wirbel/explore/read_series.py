"""Cells read for the points of a chart, for what teaches its bands, and for windows."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc
from django.db.models import Sum

from wirbel.core import cells
from wirbel.core.cells import MINUTE_NS
from wirbel.core.expected.band import WINDOW_S
from wirbel.core.series import cells as cell_series
from wirbel.core.series.grid import Grid
from wirbel.core.signals import spans
from wirbel.core.topology.graph import EntityId
from wirbel.store import reading
from wirbel.store.block_work import Window
from wirbel.store.models import Block, Stream
from wirbel.store.scan import Where, scan

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]

FINE_S = 10  # steps of a short range
FINE_RANGE_NS = 40 * MINUTE_NS  # the longest range that is drawn so
MOST_FINE_SPANS = 200_000  # that are read for it; with more, minutes tell as much and cost less
_OF_SPANS = [
    *dict.fromkeys(
        [*(name for name in cells.KEYS.names if name not in ("minute", "entry")), "start", "duration", "weight", "trace_id", "span_id", "parent_id", "is_root"]
    )
]


def grid_of(stream: str, start: int, end: int, environment: str | None) -> Grid:
    """Points as fine as the width and what is kept allow."""
    return Grid(start, end, max(reading.finest_step(stream, start, environment), 60))


def aligned(window: tuple[int, int], environment: str | None) -> tuple[int, int]:
    """The window widened to whole stretches, where cells are kept only in stretches longer than a minute."""
    step_ns = reading.finest_step(Stream.CELLS, window[0], environment) * 10**9
    return (window[0] - window[0] % step_ns, window[1] + -window[1] % step_ns) if step_ns else window


Choose = Callable[[pa.Table], pa.Table]


@dataclass(frozen=True)
class Drawn:
    """Cells for the points of ``grid``, and in minutes for windows; those of ``past`` teach what is expected."""

    grid: Grid
    points: pa.Table
    past: Grid
    taught: pa.Table
    minutes: pa.Table

    def over_time(self, choose: Choose, entities: Sequence[EntityId], column: str | None = None) -> tuple[cell_series.OverTime, cell_series.OverTime]:
        """Chosen cells of entities over the points, and over the time that teaches; ``column`` has the entity's name, with one entity none is needed."""

        def found(table: pa.Table, grid: Grid) -> cell_series.OverTime:
            chosen = choose(table)
            if column is None:
                return cell_series.by_point(chosen, grid, entities)
            group = pc.index_in(chosen[column], value_set=pa.array([entity.name for entity in entities], pa.string())).fill_null(-1).to_numpy()
            known = np.flatnonzero(group >= 0)
            return cell_series.by_point(chosen.take(pa.array(known)), grid, entities, group[known].astype(np.int64))

        points = found(self.points, self.grid)
        return points, points if self.past == self.grid else found(self.taught, self.past)


def read(
    start: int, end: int, windows: Sequence[tuple[int, int]], environment: str | None, columns: Sequence[str], services: Sequence[str] | None = None
) -> Drawn:
    """What a chart over [start, end) and windows inside it need: from spans where the range is short and they are few, else from cells."""
    grid = grid_of(Stream.CELLS, start, end, environment)
    if grid.step > 60:
        drawn = reading.cells(grid.first, grid.end, environment, services, columns, grid.cell_step)
        return Drawn(grid, drawn, grid, drawn, _minutes(windows, environment, columns, services))
    past = Grid(grid.first - WINDOW_S * 10**9, end)
    taught = reading.cells(past.first, end, environment, services, columns)
    inside = taught.filter(pc.greater_equal(taught["minute"], grid.first))
    if not _may_be_fine(start, end, environment):
        return Drawn(grid, inside, past, taught, inside)
    fine = Grid(start, end, FINE_S)
    return Drawn(fine, _fine(fine, environment, columns, services), past, taught, inside)


def read_past(start: int, end: int, environment: str | None, services: Sequence[str] | None) -> tuple[Grid, pa.Table]:
    """The points and the cells of a chart of a time that is past: to the end of its last stretch, as all of that is there."""
    asked = grid_of(Stream.CELLS, start, end, environment)
    grid = replace(asked, end=asked.first + asked.count * asked.step_ns)
    return grid, reading.cells(grid.first, grid.end, environment, services, cell_series.CELL_COLUMNS, grid.cell_step)


def _minutes(windows: Sequence[tuple[int, int]], environment: str | None, columns: Sequence[str], services: Sequence[str] | None) -> pa.Table:
    parts, end = [], 0
    for start, stop in sorted(windows):  # windows may overlap: no minute twice
        first = max(start - start % MINUTE_NS, end)
        if stop > first:
            step = reading.finest_step(Stream.CELLS, first, environment)
            parts.append(reading.cells(first, stop, environment, services, columns, step))
            end = max(end, -(-stop // MINUTE_NS) * MINUTE_NS)
    return pa.concat_tables(parts) if parts else cells.CELL_SCHEMA.empty_table()


def _may_be_fine(start: int, end: int, environment: str | None) -> bool:
    """Whether spans of a range are few, and all there."""
    if end - start > FINE_RANGE_NS:
        return False
    detail = reading.detail(Stream.SPANS, start, end, environment)
    held = Block.objects.filter(stream=Stream.SPANS, step=0, time_to__gte=start, time_from__lt=end)
    return detail.thinned_until is None and (held.aggregate(rows=Sum("rows"))["rows"] or 0) <= MOST_FINE_SPANS


@dataclass(frozen=True)
class FineCells:
    """Work of a scan: cells in steps of so many ns."""

    step_ns: int
    services: tuple[str, ...] | None

    def __call__(self, table: pa.Table, window: Window | None) -> pa.Table:
        # Until it is packed, a span that was sent twice is there twice.
        once = spans.deduplicate(table)
        return cells.derive(reading.Rows("start", self.services)(once, window), self.step_ns)


def _fine(grid: Grid, environment: str | None, columns: Sequence[str], services: Sequence[str] | None) -> pa.Table:
    of = None if services is None else tuple(services)
    parts = scan(Where(Stream.SPANS, grid.first, grid.end, environment, fresh=True), _OF_SPANS, FineCells(grid.step_ns, of), small=True)
    wanted = list(dict.fromkeys([*columns, "minute", "environment", "service"]))
    return (pa.concat_tables(parts) if parts else cells.CELL_SCHEMA.empty_table()).select(wanted)
