"""Series over time and window totals from cells."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow, sketch
from wirbel.core.cells import MINUTE_NS
from wirbel.core.signals import spans
from wirbel.core.stats.intervals import percentile_bounds
from wirbel.store import reading
from wirbel.store.models import Stream

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
QUANTILES = (0.5, 0.95, 0.99)
CELL_COLUMNS = ["minute", "service", "operation", "kind", "entry", "outcome", "peer", "peer_kind", "rows", "count", "total", "buckets", "bucket_counts"]


@dataclass(frozen=True)
class Totals:
    """Sums of groups; all of shape (groups,), quantiles (groups, 3) in s."""

    rows: Floats
    count: Floats
    refused: Floats
    failed: Floats
    total: Floats
    quantiles: Floats
    low: Floats | None = None  # 95 % bounds of the quantiles, NaN where the sample is too small to tell
    high: Floats | None = None

    @property
    def mean(self) -> Floats:
        with np.errstate(divide="ignore", invalid="ignore"):
            return self.total / self.count


def of_kind(table: pa.Table, kinds: Sequence[int]) -> pa.Table:
    return table.filter(pc.is_in(table["kind"], value_set=pa.array(kinds, pa.int8())))


def entries(table: pa.Table) -> pa.Table:
    """Cells of work that begins in its service: requests served, messages, jobs."""
    return table.filter(table["entry"])


def totals(table: pa.Table, group: Ints, groups: int, bounded: bool = False) -> Totals:
    """Adds cells up by group number (one a row of ``table``); with ``bounded``, quantiles get their bounds."""
    count, outcome = arrow.numbers(table["count"]), arrow.numbers(table["outcome"])

    def add(values: Floats) -> Floats:
        return np.bincount(group, weights=values, minlength=groups)

    rows = add(arrow.numbers(table["rows"]).astype(float))
    wanted = np.broadcast_to(QUANTILES, (groups, len(QUANTILES)))
    if bounded:
        wanted = np.concatenate([wanted, *percentile_bounds(rows, QUANTILES)], axis=1)
    buckets = pc.list_flatten(table["buckets"])
    owner = np.repeat(group, pc.list_value_length(table["buckets"]).to_numpy())
    read = sketch.quantiles(owner, arrow.numbers(buckets).astype(np.int64), arrow.numbers(pc.list_flatten(table["bucket_counts"])), groups, wanted)
    middle, *bounds = np.split(read, wanted.shape[1] // len(QUANTILES), axis=1)
    return Totals(
        rows,
        add(count),
        add(np.where(outcome == spans.CLIENT_ERROR, count, 0.0)),
        add(np.where(outcome == spans.ERROR, count, 0.0)),
        add(arrow.numbers(table["total"])),
        middle,
        *bounds,
    )


DAY_S = 24 * 3600
STEPS = ((1.5 * DAY_S, 60), (6 * DAY_S, 600), (float("inf"), 3600))  # widest range (s) that is shown in steps of so many s


@dataclass(frozen=True)
class Grid:
    """Points of a chart that cover [start, end) ns: minutes, or longer stretches where the range is wide."""

    start: int
    end: int
    finest: int = 60  # s, of what is still kept

    @property
    def step(self) -> int:
        """Seconds from one point to the next."""
        return max(self.finest, next(step for widest, step in STEPS if (self.end - self.start) / 1e9 <= widest))

    @property
    def step_ns(self) -> int:
        return self.step * 10**9

    @property
    def cell_step(self) -> int:
        """As reading.cells wants it: 0 for the minutes themselves."""
        return 0 if self.step == 60 else self.step

    @property
    def first(self) -> int:
        return self.start - self.start % self.step_ns

    @property
    def count(self) -> int:
        return -(-(self.end - self.first) // self.step_ns)

    @property
    def times(self) -> Ints:
        return self.first + np.arange(self.count) * self.step_ns

    @property
    def covered_s(self) -> Floats:
        """Seconds of each stretch that have passed: the last one may have just begun."""
        return np.minimum(self.end - self.times, self.step_ns) / 1e9

    def index(self, table: pa.Table) -> Ints:
        return (arrow.numbers(table["minute"]) - self.first) // self.step_ns

    def inside(self, window: tuple[int, int]) -> Ints:
        """Points that begin in the window and are at least half over."""
        times = self.times
        return np.flatnonzero((times >= window[0] - window[0] % self.step_ns) & (times < window[1]) & (self.covered_s >= self.step / 2))


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


def by_point(table: pa.Table, grid: Grid, group: Ints | None = None, groups: int = 1) -> Totals:
    """Totals for each (group, point); arrays of shape (groups, points), quantiles (groups, points, 3)."""
    base = grid.index(table)
    combined = base if group is None else group * grid.count + base
    flat = totals(table, combined, groups * grid.count)
    shape = (groups, grid.count)
    return Totals(*(getattr(flat, name).reshape(shape) for name in ("rows", "count", "refused", "failed", "total")), flat.quantiles.reshape(*shape, -1))


def window_rows(table: pa.Table, window: tuple[int, int]) -> Ints:
    """Rows of the minutes that begin in the window. Windows are minutes long; a part of one belongs to its start."""
    minute = arrow.numbers(table["minute"])
    return np.flatnonzero((minute >= window[0] - window[0] % MINUTE_NS) & (minute < window[1]))


def in_window(table: pa.Table, window: tuple[int, int]) -> pa.Table:
    return table.take(pa.array(window_rows(table, window)))


def window_seconds(window: tuple[int, int]) -> float:
    return (window[1] - (window[0] - window[0] % MINUTE_NS)) / 1e9
