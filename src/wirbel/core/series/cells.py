"""Cells added up: totals of groups and windows, and series over the points of a chart."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow, sketch
from wirbel.core.cells import MINUTE_NS
from wirbel.core.series import percentiles
from wirbel.core.series.grid import Grid
from wirbel.core.signals import spans
from wirbel.core.stats.intervals import percentile_bounds

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
CELL_COLUMNS = ["minute", "service", "operation", "kind", "entry", "outcome", "peer", "peer_kind", "rows", "count", "total", "buckets", "bucket_counts"]


@dataclass(frozen=True)
class Totals:
    """Sums of groups; all of shape (groups,), or (groups, points) in a chart; quantiles have one more axis, s: see :meth:`percentile`."""

    rows: Floats
    count: Floats
    client_errors: Floats
    failed: Floats
    total: Floats
    quantiles: Floats
    low: Floats | None = None  # 95 % bounds of the quantiles, NaN where the sample is too small to tell
    high: Floats | None = None

    def percentile(self, name: str) -> Floats:
        """A percentile by its name, s. Shape of the sums; raises KeyError."""
        return self.quantiles[..., percentiles.place(name)]

    def bounds(self, name: str) -> tuple[Floats, Floats] | None:
        """Its 95 % bounds, if they were asked for."""
        if self.low is None or self.high is None:
            return None
        return self.low[..., percentiles.place(name)], self.high[..., percentiles.place(name)]

    @property
    def mean(self) -> Floats:
        with np.errstate(divide="ignore", invalid="ignore"):
            return self.total / self.count


def of_kind(table: pa.Table, kinds: Sequence[int]) -> pa.Table:
    """Cells of spans of some kinds (OTLP span kinds)."""
    return table.filter(pc.is_in(table["kind"], value_set=pa.array(kinds, pa.int8())))


def entries(table: pa.Table) -> pa.Table:
    """Cells of work that begins in its service: requests served, messages, jobs."""
    return table.filter(table["entry"])


def totals(table: pa.Table, group: Ints, groups: int, bounded: bool = False) -> Totals:
    """Adds cells up by group number (one a row of ``table``); with ``bounded``, quantiles get their bounds."""
    count, outcome = arrow.numbers(table["count"]), arrow.numbers(table["outcome"])

    def add(values: Floats) -> Floats:
        return np.bincount(group, weights=values, minlength=groups).astype(float)

    rows = add(arrow.numbers(table["rows"]).astype(float))
    shares = tuple(percentiles.SHARES.values())
    wanted = np.broadcast_to(shares, (groups, len(shares)))
    if bounded:
        wanted = np.concatenate([wanted, *percentile_bounds(rows, shares)], axis=1)
    buckets = pc.list_flatten(table["buckets"])
    owner = np.repeat(group, pc.list_value_length(table["buckets"]).to_numpy())
    read = sketch.quantiles(owner, arrow.numbers(buckets).astype(np.int64), arrow.numbers(pc.list_flatten(table["bucket_counts"])), groups, wanted)
    middle, *bounds = np.split(read, wanted.shape[1] // len(shares), axis=1)
    low, high = bounds or (None, None)
    return Totals(
        rows=rows,
        count=add(count),
        client_errors=add(np.where(outcome == spans.CLIENT_ERROR, count, 0.0)),
        failed=add(np.where(outcome == spans.ERROR, count, 0.0)),
        total=add(arrow.numbers(table["total"])),
        quantiles=middle,
        low=low,
        high=high,
    )


def by_point(table: pa.Table, grid: Grid, group: Ints | None = None, groups: int = 1) -> Totals:
    """Totals for each (group, point); arrays of shape (groups, points), quantiles (groups, points, percentiles)."""
    base = grid.index(table)
    combined = base if group is None else group * grid.count + base
    flat = totals(table, combined, groups * grid.count)
    shape = (groups, grid.count)
    return Totals(
        rows=flat.rows.reshape(shape),
        count=flat.count.reshape(shape),
        client_errors=flat.client_errors.reshape(shape),
        failed=flat.failed.reshape(shape),
        total=flat.total.reshape(shape),
        quantiles=flat.quantiles.reshape(*shape, -1),
    )


def window_rows(table: pa.Table, window: tuple[int, int]) -> Ints:
    """Rows of the minutes that begin in the window. Windows are minutes long; a part of one belongs to its start."""
    minute = arrow.numbers(table["minute"])
    return np.flatnonzero((minute >= window[0] - window[0] % MINUTE_NS) & (minute < window[1]))


def in_window(table: pa.Table, window: tuple[int, int]) -> pa.Table:
    """Cells of the minutes that begin in the window: see :func:`window_rows`."""
    return table.take(pa.array(window_rows(table, window)))


def window_seconds(window: tuple[int, int]) -> float:
    """How long a window is, s, from the start of its first minute."""
    return (window[1] - (window[0] - window[0] % MINUTE_NS)) / 1e9
