"""Metric samples as series: gauges as means, sums as rates or levels, histograms as percentiles with their bounds."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from wirbel.core import arrow
from wirbel.core.series.grid import Grid
from wirbel.core.series.percentiles import HEADLINE, SHARES
from wirbel.core.series.series import Kind, Series
from wirbel.core.signals import histograms, points
from wirbel.core.signals.attributes import plain_dict
from wirbel.core.topology.graph import EntityId

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
MOST_PARTS = 8  # values of a label that get a row of their own
PERCENTILES = ("p50", HEADLINE)
VAGUE = 1.0  # width of a percentile's bounds, over its value, from which it tells nothing


@dataclass(frozen=True)
class Measured:
    """The series of a metric, in the order in which they are told; what their values are, and what limits them."""

    series: list[Series]
    meaning: str
    note: str | None = None


def measure(table: pa.Table, grid: Grid, entity: EntityId, by: str | None = None) -> Measured:
    """Series of one metric that ``entity`` sends, from its samples in the order of signals.points.combine, all of one kind of instrument.

    With ``by``, a row for each value of this label, those with most samples first, MOST_PARTS at most. ``table`` may begin
    before ``grid``: what a cumulative sample adds is seen against the one before it.
    """
    rows, parts = _parts_of(table, by)
    return _MEASURE[int(arrow.numbers(table["kind"])[0])](_Samples(table, grid, entity, parts, rows))


def _parts_of(table: pa.Table, by: str | None) -> tuple[Ints, list[str]]:
    """The part that each row belongs to (−1: beyond the bound), and their names."""
    if by is None:
        return np.zeros(table.num_rows, np.int64), [""]
    code, texts = arrow.codes(table["labels"])
    values = [str(plain_dict(text).get(by, f"no {by}")) for text in texts]
    names = sorted(set(values))
    place = np.array([names.index(value) for value in values])[code]
    busiest = np.argsort(-np.bincount(place, minlength=len(names)), kind="stable")[:MOST_PARTS]
    part = np.full(len(names), -1)
    part[busiest] = np.arange(len(busiest))
    return part[place], [names[i] for i in busiest]


@dataclass(frozen=True)
class _Samples:
    """Samples with the cell (part and point; −1: none) that each belongs to."""

    table: pa.Table
    grid: Grid
    entity: EntityId
    parts: list[str]
    part: Ints
    cell: Ints = field(init=False)

    def __post_init__(self) -> None:
        point = (arrow.numbers(self.table["time"]) - self.grid.first) // self.grid.step_ns
        object.__setattr__(self, "cell", np.where((self.part >= 0) & (point >= 0), self.part * self.grid.count + point, -1))

    @property
    def cells(self) -> int:
        return len(self.parts) * self.grid.count

    def add(self, values: Floats) -> Floats:
        """Sums by part and point."""
        kept = self.cell >= 0
        return np.bincount(self.cell[kept], values[kept], self.cells).astype(float).reshape(len(self.parts), -1)

    def column(self, name: str, missing: float) -> Floats:
        return np.asarray(self.table[name].fill_null(missing).to_numpy(), np.float64)

    def series(self, name: str, kind: Kind, values: Floats, samples: Floats, bounds: tuple[Floats, Floats] | None = None) -> Series:
        unit = (self.table["unit"][0].as_py() or "1") + ("/s" if kind == "rate" else "")
        low, high = bounds or (None, None)
        return Series([self.entity] * len(self.parts), name, unit, kind, self.grid, values, samples, low, high, self.parts)

    def mean(self, total: Floats, count: Floats) -> Series:
        counted = self.add(count)
        with np.errstate(invalid="ignore", divide="ignore"):
            return self.series("mean", "mean", self.add(total) / counted, counted)


def _gauge(given: _Samples) -> Measured:
    value = given.column("value", np.nan)
    known = np.isfinite(value)
    count = np.where(known, given.column("count", 1), 0.0)  # of a summary: how many it is the mean of
    return Measured([given.mean(np.where(known, value, 0.0) * count, count)], "mean")


def _sum(given: _Samples) -> Measured:
    table = given.table
    if not table["monotonic"][0].as_py() and arrow.numbers(table["temporality"])[0] == points.CUMULATIVE:
        return _level(given)
    seen = given.add(np.ones(table.num_rows))
    rate = np.where(seen > 0, given.add(points.increases(table)) / given.grid.covered_s, np.nan)
    return Measured([given.series("rate", "rate", rate, seen)], "per second")


def _level(given: _Samples) -> Measured:
    """What goes up and down: the mean of each series that was sent, added up over those of a part."""
    number, _ = points.series_of(given.table)
    kept = given.cell >= 0
    key, own = np.unique(number[kept] * given.cells + given.cell[kept], return_inverse=True)
    means = np.bincount(own, given.column("value", 0.0)[kept]) / np.bincount(own)
    seen = given.add(np.ones(given.table.num_rows))
    level = np.where(seen > 0, np.bincount(key % given.cells, means, given.cells).reshape(seen.shape), np.nan)
    return Measured([given.series("level", "level", level, seen)], "level, all series together")


def _summary(given: _Samples) -> Measured:
    mean = given.mean(points.increases(given.table, "total"), points.increases(given.table, "count"))
    return Measured([mean], "mean", "Quantiles of a summary cannot be put together from several senders or times; the mean can.")


def _histogram(given: _Samples) -> Measured:
    mean = given.mean(points.increases(given.table, "total"), points.increases(given.table, "count"))
    placed = histograms.increases(given.table)
    shares = [SHARES[name] for name in PERCENTILES]
    middle, low, high = (
        sketches.of_groups(given.cell).quantiles(given.cells, shares).reshape(len(given.parts), -1, len(shares))
        for sketches in (placed.spread, placed.low, placed.high)
    )
    with np.errstate(invalid="ignore", divide="ignore"):
        vague = np.nanmedian((high - low) / middle) > VAGUE if np.isfinite(middle).any() else False
    if vague:
        return Measured([mean], "mean", "The sender's buckets are too wide to tell percentiles; the mean is exact.")
    told = [given.series(name, "quantile", middle[..., k], mean.sample_size, (low[..., k], high[..., k])) for k, name in enumerate(PERCENTILES)]
    return Measured([mean, *told], "mean and percentiles", "Percentiles lie between the bounds of the sender's buckets, which are shown.")


_MEASURE: dict[int, Callable[[_Samples], Measured]] = {
    points.GAUGE: _gauge,
    points.SUM: _sum,
    points.HISTOGRAM: _histogram,
    points.EXPONENTIAL: _histogram,
    points.SUMMARY: _summary,
}
