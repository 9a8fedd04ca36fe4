"""The latency sketch: counts in exponential buckets, mergeable in any order.

Source: OpenTelemetry metrics data model, "ExponentialHistogram". At scale s the base is
2**(2**-s), bucket i holds (base**i, base**(i+1)], upper bounds inclusive. At scale 5 a value
is known within (base-1)/(base+1) = 1.083 %. Zero has a bucket of its own.

Many sketches are held as flat arrays (owner, bucket, count), so that thousands are merged
and read in a few NumPy calls.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

SCALE = 5
_PER_OCTAVE = 2**SCALE
BASE = 2.0 ** (1 / _PER_OCTAVE)
RELATIVE_ERROR = (BASE - 1) / (BASE + 1)
ZERO_BUCKET = -(2**15)
MOST_CELLS_IN_TABLE = 4_000_000  # 32 MB

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]


def bucket_of(values: npt.ArrayLike) -> Ints:
    """Bucket index of each value (any unit, not negative); shape kept.

    Raises ValueError for negative or non-finite values.
    """
    given = np.asarray(values, dtype=np.float64)
    if given.size and (not np.isfinite(given).all() or given.min() < 0):
        raise ValueError("a latency must be finite and not negative")
    # frexp gives exact powers of two, where log2 of the whole value could round past a bound.
    mantissa, exponent = np.frexp(np.where(given > 0, given, 1.0))
    index = np.ceil(np.log2(mantissa) * _PER_OCTAVE).astype(np.int64) + exponent.astype(np.int64) * _PER_OCTAVE - 1
    return np.where(given > 0, index, ZERO_BUCKET)


def value_of(buckets: npt.ArrayLike) -> Floats:
    """The value that stands for each bucket, shape kept: at most RELATIVE_ERROR from any value in it."""
    index = np.asarray(buckets, dtype=np.int64)
    lower = np.exp2(np.where(index == ZERO_BUCKET, 0, index) / _PER_OCTAVE)
    return np.where(index == ZERO_BUCKET, 0.0, lower * 2 * BASE / (1 + BASE))


def merge(owners: Ints, buckets: Ints, counts: Floats) -> tuple[Ints, Ints, Floats]:
    """Adds the counts of equal (owner, bucket); sorted by owner, then bucket. Same shape in and out: (n,)."""
    if not len(owners):
        return owners, buckets, counts
    order = np.lexsort((buckets, owners))
    owners, buckets, counts = owners[order], buckets[order], counts[order]
    first = np.r_[True, (np.diff(owners) != 0) | (np.diff(buckets) != 0)]
    starts = np.flatnonzero(first)
    return owners[first], buckets[first], np.add.reduceat(counts, starts)


def filled(owners: Ints, buckets: Ints, counts: Floats, groups: int) -> tuple[Ints, Ints, Floats]:
    """The filled buckets of each group with their counts, sorted by group, then bucket."""
    # The zero bucket sits far below the rest; pull it next to them to keep the table narrow.
    lowest = int(buckets[buckets != ZERO_BUCKET].min(initial=0)) - 1
    column = np.where(buckets == ZERO_BUCKET, 0, buckets - lowest)
    width = int(column.max()) + 1
    if groups * width > MOST_CELLS_IN_TABLE:
        return merge(owners, buckets, counts)
    table = np.bincount(owners * width + column, weights=counts, minlength=groups * width).astype(float)
    at = np.flatnonzero(table)
    owner, column = np.divmod(at, width)
    return owner, np.where(column == 0, ZERO_BUCKET, column + lowest), table[at]


def quantiles(owners: Ints, buckets: Ints, counts: Floats, groups: int, wanted: npt.ArrayLike) -> Floats:
    """Quantiles of each group by inverted CDF (the smallest value with at least a share q at or below).

    ``owners`` are group numbers 0 … groups−1 of each (bucket, count). ``wanted`` holds k shares, or
    k of each group, shape (groups, k); the result has shape (groups, k), NaN where a group is
    empty or the share is NaN.
    """
    given = np.atleast_1d(np.asarray(wanted, dtype=np.float64))
    shares = np.broadcast_to(given, (groups, given.shape[-1]))
    result = np.full(shares.shape, np.nan)
    if not len(owners):
        return result
    # One running sum over the buckets, group behind group: a quantile is one look-up in it. Memory goes by what is
    # filled, not by groups times buckets; few groups are counted in a table all the same, which is faster than sorting.
    owners, buckets, counts = filled(owners, buckets, counts, groups)
    cumulative = np.cumsum(counts)
    last = np.searchsorted(owners, np.arange(groups), side="right")
    ends = np.r_[0.0, cumulative][last]
    before = np.r_[0.0, ends[:-1]]
    totals = ends - before
    hair = 1e-12 * max(cumulative[-1], 1.0)  # so that float sums do not step into the next bucket
    wanted_sum = np.maximum(shares * totals[:, None] - hair, hair) + before[:, None]
    at = np.minimum(np.searchsorted(cumulative, wanted_sum), np.maximum(last - 1, 0)[:, None])
    known = (totals > 0)[:, None] & ~np.isnan(shares)
    result[known] = value_of(buckets[at[known]])
    return result
