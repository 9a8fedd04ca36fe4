"""A series by blocks of some minutes: what is slow in it is known of their middles, and the level at each by those before it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import bottleneck
import numpy as np
import numpy.typing as npt

from wirbel.core.expected.calendar import SECOND_NS
from wirbel.core.expected.scale import Scale
from wirbel.core.expected.seasons import BLOCK_S

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
LEAST_BLOCKS = 3  # of a level
BLOCK_POINTS = 10
PARTS = 2.0**20  # of one: sums of whole parts are exact, in whatever order they are added


def block_s(step_s: float) -> float:
    """Seconds that are one block: a whole number of steps, and not many."""
    return step_s * min(max(1, round(BLOCK_S / step_s)), BLOCK_POINTS)


def blocks_of(times: Ints, step_s: float) -> Ints:
    """The number of the block that each time lies in; blocks begin at whole multiples of their length."""
    return times // int(block_s(step_s) * SECOND_NS)


def block_medians(block: Ints, values: Floats) -> Floats:
    """The median of each block from the first to the last, shape (blocks,); NaN where nothing is known."""
    return medians(_rows(block, values))


def _rows(block: Ints, values: Floats) -> Floats:
    """One row a block, filled up with NaN: points of a block are next to each other."""
    first, count = int(block[0]), int(block[-1] - block[0]) + 1
    start = np.searchsorted(block, first + np.arange(count))
    width = int(np.diff(np.r_[start, len(block)]).max())
    table = np.full((count, width), np.nan)
    table[block - first, np.arange(len(block)) - start[block - first]] = values
    return table


def medians(table: Floats) -> Floats:
    """Along the last axis of a table of shape (..., values), of what is known; NaN where nothing is."""
    ordered = np.sort(table, axis=-1)  # NaN last
    n = np.isfinite(table).sum(axis=-1)
    low, high = (np.take_along_axis(ordered, np.maximum(k, 0)[..., None], -1)[..., 0] for k in ((n - 1) // 2, n // 2))
    return np.where(n > 0, (low + np.where(n > 0, high, 0.0)) / 2, np.nan)


@dataclass(frozen=True)
class Middles:
    """What stands for a block, and for the blocks of a memory: medians. Where values are ``counts``, of that scale, their means: the
    median of small ones is none or one, and tells little of how many there are."""

    counts: Scale | None = None

    def of_blocks(self, block: Ints, y: Floats, quiet: Floats) -> Floats:
        """Of each block from the first to the last, shape (blocks,), without its season; NaN where nothing is known.

        ``y`` as it is judged and ``quiet`` without its season, of the points, NaN where one does not count.
        """
        return block_medians(block, quiet) if self.counts is None else self._means(self.counts, _rows(block, y), _rows(block, quiet))

    def of_one(self, y: Floats, quiet: Floats) -> Floats:
        """The same of the points of one block: one value, or none."""
        if not np.isfinite(quiet).any():
            return np.zeros(0)
        return medians(quiet[None]) if self.counts is None else self._means(self.counts, y[None], quiet[None])

    @staticmethod
    def _means(scale: Scale, y: Floats, quiet: Floats) -> Floats:
        known = np.isfinite(y) & np.isfinite(quiet)
        count = known.sum(axis=-1)
        total, seasonal = (in_parts(np.where(known, v, 0.0)).sum(axis=-1) for v in (scale.back(y), y - quiet))
        with np.errstate(invalid="ignore"):
            found = in_parts(scale.judged(total / count, count) - seasonal / count)
        return np.where(count > 0, found, np.nan)

    def levels_before(self, middles: Floats, memory: int) -> Floats:
        """The level at each block, shape (blocks,): of the ``memory`` blocks before it; NaN where fewer than LEAST_BLOCKS of them are known."""
        if self.counts is None:
            return levels_before(middles, memory)
        known = np.isfinite(middles)
        count, total = (np.r_[0.0, np.cumsum(np.where(known, v, 0.0))] for v in (1.0, middles))
        first = np.maximum(np.arange(len(middles)) - memory, 0)
        count, total = count[:-1] - count[first], total[:-1] - total[first]
        with np.errstate(invalid="ignore"):
            return np.where(count >= min(LEAST_BLOCKS, memory), total / count, np.nan)

    def level(self, kept: Sequence[float]) -> float:
        """The level after blocks of these middles."""
        return float(np.median(kept) if self.counts is None else np.sum(kept) / len(kept))


def in_parts(values: Floats) -> Floats:
    """Rounded to whole PARTS, elementwise."""
    return np.asarray(np.rint(values * PARTS) / PARTS)


def levels_before(medians: Floats, memory: int) -> Floats:
    """The level at each block, shape (blocks,): the median of the ``memory`` blocks before it; NaN where fewer than LEAST_BLOCKS of them are known."""
    before = np.r_[np.nan, medians[:-1]] if len(medians) else medians
    window = min(memory, len(before))
    least = min(LEAST_BLOCKS, memory)
    return bottleneck.move_median(before, window, least) if window >= least else np.full(len(before), np.nan)


def levels_on_trend(medians: Floats, memory: int) -> Floats:
    """The same with the trend of this time carried on, shape (blocks,): the median of its later half, and as much again as it rose since the earlier half."""
    half = half_of(memory)
    late = levels_before(medians, half)
    early = np.r_[np.full(half, np.nan), late][: len(late)]
    return np.where(np.isfinite(early), on_trend(late, early, half), late)


def half_of(memory: int) -> int:
    """Blocks of which a trend has one median."""
    return max(memory // 2, LEAST_BLOCKS)


def on_trend(late: Floats, early: Floats, half: int) -> Floats:
    """Where a line through the medians of two halves, in blocks ``half`` apart, is at the next block; elementwise."""
    return late + (late - early) * (half + 1) / (2 * half)
