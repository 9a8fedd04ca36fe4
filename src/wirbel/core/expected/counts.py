"""How improbable a count is, by what chance makes of its mean: records of a quiet log, requests of a service that is seldom asked.

Of counts that are mostly none, one or two, medians and the ranks of residuals say nothing; of a series that has just begun, they say little.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy import special

from wirbel.core.stats.counts import negative_binomial_quantile

Floats = npt.NDArray[np.float64]
FEW, SHARE = 20.0, 0.1  # records, than which so many of the counts have fewer
JUMPS = 5.0  # records, of which one more or less is no jump
WHOLE = 1e-3  # of a record, that a count may be away from a whole number of them
PARTS = 20  # of a history, each of which tells how counts scatter: what went wrong in a few of them counts for nothing
LIKE_HISTORY = 20.0  # counts that stand for what is known before any
USUAL_MORE = 0.1  # variance beyond chance, in squares of the mean, of what nothing is known of
LEAST_UNIT = 0.05  # of a record: how regular a sender is taken to be at most


@dataclass(frozen=True)
class NegativeBinomial:
    """Counts in ``unit`` scatter as by chance, and by ``more`` squares of their mean.

    The unit is what one record counts for; of one that is sent more regularly than by chance, a part of that.
    ``usual`` is their mean; ``least`` of it is always expected, as what was never seen is not impossible.
    """

    unit: float
    more: float
    usual: float  # records
    least: float  # units

    @classmethod
    def of(cls, counts: Floats, expected: Floats) -> NegativeBinomial:
        """By moments, from counts and what was expected of each, both of shape (points,); NaN where something is not known."""
        known = np.isfinite(counts) & np.isfinite(expected)
        unit = _unit(counts[known])
        c, m = counts[known] / unit, expected[known] / unit
        usual = float(c.mean()) if len(c) else 0.0
        n, parts = float(len(c)), max(1, min(PARTS, len(c) // PARTS))
        places = np.linspace(0, len(c), parts, endpoint=False, dtype=np.int64)
        scatter, mean, square = (np.add.reduceat(v, places) if len(c) else np.zeros(1) for v in ((c - m) ** 2, m, m**2))
        with np.errstate(divide="ignore", invalid="ignore"):
            by_chance = _median(scatter / mean, 1.0)
            more = _median((scatter - mean) / square, 0.0)
        regular = (n * by_chance + LIKE_HISTORY) / (n + LIKE_HISTORY)
        if regular < 1:
            unit, more = unit * max(regular, LEAST_UNIT), 0.0
        return cls(unit, (n * max(more, 0.0) + LIKE_HISTORY * USUAL_MORE) / (n + LIKE_HISTORY), usual, 0.5 / (n + 1))

    def chances(self, counts: Floats, expected: Floats) -> tuple[Floats, Floats]:
        """The probability of so high a count, and of so low a one, elementwise; half of that of the very number counts (mid-p; Lancaster, JASA 56, 1961).

        By the incomplete beta function; NaN where something is not known.
        """
        known = np.isfinite(counts) & np.isfinite(expected)
        c, mean = np.where(known, counts, 0.0) / self.unit, self._mean(np.where(known, expected, 0.0))
        above = (self._at_least(c, mean) + self._at_least(c + 1, mean)) / 2
        return np.where(known, above, np.nan), np.where(known, 1 - above, np.nan)

    def quantile(self, expected: Floats, share: float) -> Floats:
        """The least count that is not exceeded with probability ``share``, elementwise; NaN where nothing is expected."""
        mean = self._mean(expected)
        return negative_binomial_quantile(share, 1 / self.more, 1 / (1 + self.more * mean)) * self.unit

    def _mean(self, expected: Floats) -> Floats:
        return np.maximum(expected / self.unit, self.least)

    def _at_least(self, c: Floats, mean: Floats) -> Floats:
        share = self.more * mean / (1 + self.more * mean)
        return np.asarray(np.where(c <= 0, 1.0, special.betainc(np.maximum(c, 1e-300), 1 / self.more, share)))


def tell_most_by_mean(in_records: Floats, is_young: bool) -> bool:
    """Whether counts, as :func:`records` has them, are whole numbers, and often fewer than FEW or of a series of which little is known."""
    return bool(_are_whole(in_records) and (is_young or np.quantile(in_records, SHARE) < FEW))


def records(counts: Floats) -> Floats:
    """As how many records counts, shape (points,), all known, have come."""
    return counts / _unit(counts)


def _unit(counts: Floats) -> float:
    """What one record counts for: more than one where only some are recorded."""
    steps = np.diff(np.unique(np.r_[0.0, np.round(counts, 6)]))
    unit = max(float(steps.min()), 1.0) if len(steps) else 1.0
    return unit if _are_whole(counts / unit) else 1.0


def _are_whole(numbers: Floats) -> np.bool_:
    return np.all(np.abs(numbers - np.rint(numbers)) < WHOLE * np.maximum(numbers, 1.0))


def _median(values: Floats, otherwise: float) -> float:
    told = values[np.isfinite(values)]
    return float(np.median(told)) if len(told) else otherwise
