"""Histograms as sent, read as latency sketches whose resolution is stated.

An exponential histogram becomes a sketch exactly, where its own buckets are as fine as the sketch's; an
explicit one does not say where in a bucket its values lie. So three sketches are made: values
spread evenly over their bucket, all at its lower bound, and all at its upper bound. Whatever is
merged afterwards, a true quantile lies between those of the last two.

Source: OpenTelemetry metrics data model, "Histogram", "ExponentialHistogram" and "Resets and gaps".
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow, sketch
from wirbel.core.signals import points

Ints = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]
LEAST_SHARE = 2.0**-10  # of its upper bound, as which the lower bound 0 of a bucket is read
OPEN_ENDED = 2.0**10  # times its lower bound, as which the upper bound of the last bucket is read if no maximum was sent


@dataclass(frozen=True)
class Sketches:
    """Sparse sketches of many rows: (owner, bucket, count), values placed in one way."""

    owners: Ints
    buckets: Ints
    counts: Floats

    def of_groups(self, group: Ints) -> Sketches:
        """Sketches of groups of owners (−1: left out), merged."""
        owners = group[self.owners]
        kept = owners >= 0
        return Sketches(*sketch.merge(owners[kept], self.buckets[kept], self.counts[kept]))

    def quantiles(self, groups: int, wanted: npt.ArrayLike) -> Floats:
        """As sketch.quantiles: shape (groups, k)."""
        return sketch.quantiles(self.owners, self.buckets, self.counts, groups, wanted)


@dataclass(frozen=True)
class Placed:
    """The same histograms with values spread over their buckets, at the lower bounds and at the upper bounds."""

    spread: Sketches
    low: Sketches
    high: Sketches


@dataclass(frozen=True)
class _Buckets:
    """Buckets (low, high] with counts, of rows of a table, and the sketch's buckets that each begins and ends in."""

    row: Ints
    low: Floats
    high: Floats
    begin: Ints
    end: Ints
    count: Floats

    def where(self, kept: npt.NDArray[np.bool_]) -> _Buckets:
        return _Buckets(*(getattr(self, name)[kept] for name in _NAMES))


_NAMES = ("row", "low", "high", "begin", "end", "count")


def increases(table: pa.Table) -> Placed:
    """What each row of histograms adds to its series since the row before it, as sketches owned by row numbers.

    ``table`` in the order of points.combine, of kinds histogram and exponential. Of a cumulative
    series, the first row adds nothing (it may have counted for long); after a restart the count
    begins at zero. Values below zero are no latencies and are left out.
    """
    found = _concat([_explicit(table), _exponential(table)])
    first_of_next = _taken_from(table)
    counted = _adds(table)
    return Placed(*(_differences(place(found), counted, first_of_next) for place in (_spread, _at_low, _at_high)))


def _taken_from(table: pa.Table) -> Ints:
    """For each row, the row from whose count its own is taken away; −1 if it is the last of its series, or delta."""
    number, _ = points.series_of(table)
    rows = table.num_rows
    follows = np.r_[number[1:] == number[:-1], False]
    cumulative = arrow.numbers(table["temporality"]) == points.CUMULATIVE
    return np.where(follows & cumulative & ~points.before_restart(table, number), np.arange(rows) + 1, -1)


def _adds(table: pa.Table) -> npt.NDArray[np.bool_]:
    """Rows that add something: all but the first of each cumulative series."""
    number, _ = points.series_of(table)
    first = np.r_[True, number[1:] != number[:-1]][: table.num_rows]
    return ~first | (arrow.numbers(table["temporality"]) == points.DELTA)


def _differences(placed: Sketches, counted: npt.NDArray[np.bool_], taken_from: Ints) -> Sketches:
    own = counted[placed.owners]
    later = taken_from[placed.owners]
    less = later >= 0
    owners = np.concatenate([placed.owners[own], later[less]])
    buckets = np.concatenate([placed.buckets[own], placed.buckets[less]])
    counts = np.concatenate([placed.counts[own], -placed.counts[less]])
    owners, buckets, counts = sketch.merge(owners, buckets, counts)
    kept = counts > 1e-9
    return Sketches(owners[kept], buckets[kept], counts[kept])


def _explicit(table: pa.Table) -> _Buckets:
    rows = np.flatnonzero(
        (arrow.numbers(table["kind"]) == points.HISTOGRAM) & pc.greater(pc.list_value_length(table["buckets"]), 0).fill_null(False).to_numpy()
    )
    part = table.take(pa.array(rows))
    bounds, counts = (arrow.numbers(pc.list_flatten(part[name])).astype(np.float64) for name in ("bounds", "buckets"))
    lengths = pc.list_value_length(part["buckets"]).to_numpy().astype(np.int64)
    row = np.repeat(np.arange(len(rows)), lengths)
    place = np.arange(len(row)) - np.repeat(np.cumsum(lengths) - lengths, lengths)
    last = place == lengths[row] - 1
    high = np.full(len(row), np.nan)
    high[~last] = bounds
    low = np.where(place > 0, np.r_[np.nan, high[:-1]] if len(high) else high, 0.0)
    most = part["high"].fill_null(np.nan).to_numpy()[row]
    low = np.maximum(low, 0.0)
    high = np.where(last, np.where(np.isfinite(most) & (most > low), most, np.maximum(low, 1e-9) * OPEN_ENDED), high)
    end = sketch.bucket_of(np.maximum(high, 0.0))
    above = np.where(low > 0, low, high * LEAST_SHARE) * (1 + 1e-9)  # the lower bound itself belongs to the bucket before
    begin = np.minimum(sketch.bucket_of(np.maximum(above, 0.0)), end)
    return _Buckets(rows[row], low, high, begin, end, counts).where((counts > 0) & (high > 0))


def _exponential(table: pa.Table) -> _Buckets:
    rows = np.flatnonzero((arrow.numbers(table["kind"]) == points.EXPONENTIAL) & table["count"].is_valid().to_numpy())
    part = table.take(pa.array(rows))
    counts = arrow.numbers(pc.list_flatten(part["buckets"])).astype(np.float64)
    lengths = pc.list_value_length(part["buckets"]).fill_null(0).to_numpy().astype(np.int64)
    row = np.repeat(np.arange(len(rows)), lengths)
    index = np.arange(len(row)) - np.repeat(np.cumsum(lengths) - lengths, lengths) + part["offset"].fill_null(0).to_numpy()[row]
    scale = part["scale"].fill_null(0).to_numpy().astype(np.int64)[row]
    finer, coarser = np.maximum(scale - sketch.SCALE, 0), np.maximum(sketch.SCALE - scale, 0)
    begin = (index >> finer) << coarser  # exact: the bounds of coarser buckets are bounds of finer ones
    end = begin + (1 << coarser) - 1
    low, high = np.exp2(begin / 2**sketch.SCALE), np.exp2((end + 1) / 2**sketch.SCALE)
    zeros = part["zeros"].fill_null(0).to_numpy().astype(np.float64)
    none, at_zero = np.zeros(len(rows)), np.full(len(rows), sketch.ZERO_BUCKET)
    whole = _concat([_Buckets(rows[row], low, high, begin, end, counts), _Buckets(rows, none, none, at_zero, at_zero, zeros)])
    return whole.where((whole.count > 0) & np.isfinite(whole.high))


def _concat(parts: list[_Buckets]) -> _Buckets:
    return _Buckets(*(np.concatenate([getattr(part, name) for part in parts]) for name in _NAMES))


def _spread(found: _Buckets) -> Sketches:
    size = found.end - found.begin + 1
    owner = np.repeat(np.arange(len(size)), size)
    bucket = np.arange(len(owner)) - np.repeat(np.cumsum(size) - size, size) + found.begin[owner]
    low, high = found.low[owner], found.high[owner]
    upper = np.minimum(np.exp2((bucket + 1) / 2**sketch.SCALE), high)
    lower = np.where(bucket == found.begin[owner], low, np.exp2(bucket / 2**sketch.SCALE))
    with np.errstate(invalid="ignore", divide="ignore"):
        share = np.where(size[owner] == 1, 1.0, np.maximum(upper - lower, 0.0) / (high - low))
    return Sketches(*sketch.merge(found.row[owner], bucket, found.count[owner] * share))


def _at_low(found: _Buckets) -> Sketches:
    return Sketches(*sketch.merge(found.row, np.where(found.low > 0, found.begin, sketch.ZERO_BUCKET), found.count))


def _at_high(found: _Buckets) -> Sketches:
    return Sketches(*sketch.merge(found.row, found.end, found.count))
