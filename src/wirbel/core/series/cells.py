"""Cells added up: totals of groups and windows, and series over the points of a chart."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields
from functools import cached_property

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow, sketch
from wirbel.core.cells import MINUTE_NS
from wirbel.core.series import percentiles
from wirbel.core.series.grid import Grid
from wirbel.core.series.percentiles import HEADLINE
from wirbel.core.series.series import Kind, Series, since_first
from wirbel.core.signals import spans
from wirbel.core.signals.spans import Outcome
from wirbel.core.stats.intervals import percentile_bounds, wilson
from wirbel.core.topology.graph import EntityId

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
CELL_COLUMNS = ["minute", "service", "operation", "kind", "entry", "outcome", "peer", "peer_kind", "rows", "count", "total", "buckets", "bucket_counts"]


@dataclass(frozen=True)
class Totals:
    """Sums of groups; all of shape (groups,), or (groups, points) in a chart; quantiles have one more axis, s: see :meth:`percentile`."""

    sample_size: Floats
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

    def rows(self, groups: Sequence[int]) -> Totals:
        """Those of some groups, in that order."""
        return Totals(*(None if sums is None else sums[groups] for sums in (getattr(self, one.name) for one in fields(self))))  # type: ignore[arg-type]

    def of(self, outcome: Outcome | None) -> Floats:
        """Requests of an outcome; all of them for None."""
        return {
            None: self.count,
            "ok": self.count - self.failed - self.client_errors,
            "client error": self.client_errors,
            "error": self.failed,
        }[outcome]

    @cached_property
    def failed_bounds(self) -> tuple[Floats, Floats]:
        """95 % interval (Wilson's) of the share that failed, by what was seen, not by what it stands for."""
        return wilson(np.nan_to_num(self.failed_share) * self.sample_size, self.sample_size)

    @property
    def failed_share(self) -> Floats:
        """Share of requests that failed; NaN where there is none."""
        with np.errstate(divide="ignore", invalid="ignore"):
            return self.failed / self.count

    @property
    def mean(self) -> Floats:
        with np.errstate(divide="ignore", invalid="ignore"):
            return self.total / self.count


def shares_of_rise(now: Totals, before: Totals, whole_now: Totals, whole_before: Totals) -> Floats:
    """What each group adds to the rise of the mean duration of all of them, as a share of it, shape (groups,): the shares add up to one.

    ``whole_now`` and ``whole_before`` are the totals of all, one group each. NaN where the mean did not rise, or one is not known.
    """
    with np.errstate(divide="ignore", invalid="ignore"):
        rise = float(whole_now.mean[0] - whole_before.mean[0])
        parts = now.total / whole_now.count[0] - before.total / whole_before.count[0]
    return parts / rise if rise > 0 else np.full(len(parts), np.nan)


def of_kind(table: pa.Table, kinds: Sequence[int]) -> pa.Table:
    """Cells of spans of some kinds (OTLP span kinds)."""
    return table.filter(pc.is_in(table["kind"], value_set=pa.array(kinds, pa.int8())))


def entries(table: pa.Table) -> pa.Table:
    """Cells of work that begins in its service: requests served, messages, jobs."""
    return table.filter(table["entry"])


def entry_services(table: pa.Table) -> list[str]:
    """Services that no other instrumented service calls: where people come in. All, if there is none such."""
    serving = set(entries(table)["service"].unique().to_pylist())
    asked = table.filter(pc.equal(table["peer_kind"], "service"))["peer"].unique().to_pylist()
    answering = set(of_kind(table, [spans.SERVER])["service"].unique().to_pylist())
    # People wait for answers; consumers and jobs count only where nothing answers anybody.
    return sorted(answering - set(asked)) or sorted(serving - set(asked)) or sorted(serving)


def totals(table: pa.Table, group: Ints, groups: int, bounded: bool = False, quantiles: bool = True) -> Totals:
    """Adds cells, or what services served, up by group number (one a row of ``table``; −1: none); with ``bounded``, quantiles get their bounds.

    Quantiles are most of the work; where nobody wants them, they and what durations add up to are NaN.
    """
    count = arrow.numbers(table["count"])
    client_errors, failed = _went_wrong(table, count)
    mine = group >= 0
    chosen = group[mine]

    def add(values: Floats) -> Floats:
        return np.bincount(chosen, weights=values[mine], minlength=groups).astype(float)

    rows = add(arrow.numbers(table["rows"]).astype(float))
    shares = tuple(percentiles.SHARES.values())
    wanted = np.broadcast_to(shares, (groups, len(shares)))
    if bounded:
        wanted = np.concatenate([wanted, *percentile_bounds(rows, shares)], axis=1)
    read = sketch.quantiles(*exploded(table, group), groups, wanted) if quantiles else np.full(wanted.shape, np.nan)
    middle, *bounds = np.split(read, wanted.shape[1] // len(shares), axis=1)
    low, high = bounds or (None, None)
    return Totals(
        sample_size=rows,
        count=add(count),
        client_errors=add(client_errors),
        failed=add(failed),
        total=add(arrow.numbers(table["total"])) if quantiles else np.full(groups, np.nan),
        quantiles=middle,
        low=low,
        high=high,
    )


def exploded(table: pa.Table, group: Ints) -> tuple[Ints, Ints, Floats]:
    """The filled buckets of all rows, one by one: the group of each, shape (buckets,), its index and its count. Of rows of group −1 none, nor of those without a sketch."""
    owner = np.repeat(group, arrow.numbers(pc.list_value_length(table["buckets"]).fill_null(0)))
    buckets, counts = (arrow.numbers(pc.list_flatten(table[name])) for name in ("buckets", "bucket_counts"))
    mine = owner >= 0
    return (owner, buckets.astype(np.int64), counts) if mine.all() else (owner[mine], buckets[mine].astype(np.int64), counts[mine])


def _went_wrong(table: pa.Table, count: Floats) -> tuple[Floats, Floats]:
    """Client errors and failures in each row: cells are of one outcome, what services served (core.served) has them counted."""
    if "failed" in table.column_names:
        return arrow.numbers(table["client_errors"]), arrow.numbers(table["failed"])
    outcome = arrow.numbers(table["outcome"])
    return np.where(outcome == spans.CLIENT_ERROR, count, 0.0), np.where(outcome == spans.ERROR, count, 0.0)


@dataclass(frozen=True)
class OverTime:
    """Totals of entities at each point of a grid, shape (entities, points), and the series that they make."""

    entities: Sequence[EntityId]
    grid: Grid
    totals: Totals

    def latency(self, percentile: str = HEADLINE) -> Series:
        """A percentile of durations, s; NaN where nothing was asked for. Raises KeyError for a name that is none."""
        return self._series(percentile, "s", "quantile", self.totals.percentile(percentile), self.totals.sample_size)

    def rate(self, outcome: Outcome | None = None) -> Series:
        """Requests a second, all or those of an outcome. Zero where there is none, but NaN before the first: then nobody may have sent yet."""
        values, samples = since_first(self.totals.of(outcome) / self.grid.covered_s, self.totals.sample_size)
        return self._series(outcome or "requests", "{request}/s", "rate", values, samples)

    def failed_share(self) -> Series:
        """Share of requests that failed; NaN where nothing was asked for."""
        return self._series("failed share", "1", "share", self.totals.failed_share, self.totals.sample_size)

    def _series(self, name: str, unit: str, kind: Kind, values: Floats, samples: Floats) -> Series:
        return Series(self.entities, name, unit, kind, self.grid, values, samples)


def by_point(table: pa.Table, grid: Grid, entities: Sequence[EntityId], group: Ints | None = None) -> OverTime:
    """Cells of ``entities`` over the points of ``grid``; ``group``, shape (rows of ``table``,), is the entity of each (−1: none), the first if not given."""
    return OverTime(entities, grid, by_step(table, grid.index(table), grid.count, len(entities), group))


def by_step(table: pa.Table, step: Ints, steps: int, entities: int, group: Ints | None = None) -> Totals:
    """Cells added up by entity and step, shape (entities, steps): ``step`` of each row, and the entity of each as in :func:`by_point`."""
    shape = (entities, steps)
    flat = totals(table, step if group is None else np.where(group < 0, -1, group * steps + step), entities * steps)
    return Totals(
        sample_size=flat.sample_size.reshape(shape),
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
