"""Per-minute series and window totals from cells."""

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
        add(np.where(outcome == spans.REFUSED, count, 0.0)),
        add(np.where(outcome == spans.FAILED, count, 0.0)),
        add(arrow.numbers(table["total"])),
        middle,
        *bounds,
    )


@dataclass(frozen=True)
class Minutes:
    """A grid of minutes that covers [start, end) ns."""

    start: int
    end: int

    @property
    def first(self) -> int:
        return self.start - self.start % MINUTE_NS

    @property
    def count(self) -> int:
        return -(-(self.end - self.first) // MINUTE_NS)

    @property
    def times(self) -> Ints:
        return self.first + np.arange(self.count) * MINUTE_NS

    @property
    def covered_s(self) -> Floats:
        """Seconds of each minute that have passed: the last one may have just begun."""
        return np.minimum(self.end - self.times, MINUTE_NS) / 1e9

    def index(self, table: pa.Table) -> Ints:
        return (arrow.numbers(table["minute"]) - self.first) // MINUTE_NS


def by_minute(table: pa.Table, minutes: Minutes, group: Ints | None = None, groups: int = 1) -> Totals:
    """Totals for each (group, minute); arrays of shape (groups, minutes), quantiles (groups, minutes, 3)."""
    base = minutes.index(table)
    combined = base if group is None else group * minutes.count + base
    flat = totals(table, combined, groups * minutes.count)
    shape = (groups, minutes.count)
    return Totals(*(getattr(flat, name).reshape(shape) for name in ("rows", "count", "refused", "failed", "total")), flat.quantiles.reshape(*shape, -1))


def window_rows(table: pa.Table, window: tuple[int, int]) -> Ints:
    """Rows of the minutes that begin in the window. Windows are minutes long; a part of one belongs to its start."""
    minute = arrow.numbers(table["minute"])
    return np.flatnonzero((minute >= window[0] - window[0] % MINUTE_NS) & (minute < window[1]))


def in_window(table: pa.Table, window: tuple[int, int]) -> pa.Table:
    return table.take(pa.array(window_rows(table, window)))


def window_seconds(window: tuple[int, int]) -> float:
    return (window[1] - (window[0] - window[0] % MINUTE_NS)) / 1e9
