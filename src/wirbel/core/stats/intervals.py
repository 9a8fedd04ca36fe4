"""Intervals for shares and percentiles."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from scipy import special

from wirbel.core.stats.counts import binomial_quantile

Floats = npt.NDArray[np.float64]


def wilson(successes: npt.ArrayLike, trials: npt.ArrayLike, level: float = 0.95) -> tuple[Floats, Floats]:
    """Wilson score interval of shares, elementwise; (0, 1) where nothing was tried.

    Source: Wilson, "Probable inference, the law of succession, and statistical inference", 1927. Written out here, as importing
    statsmodels for it takes a web server 0.4 s and 24 MB, and scipy has it for single shares only; the tests compare with that.
    """
    k, n = np.asarray(successes, float), np.asarray(trials, float)
    tried = np.where(n > 0, n, 1.0)
    share, z2 = k / tried, special.ndtri((1 - level) / 2) ** 2 / tried
    middle, half = share + z2 / 2, np.sqrt(z2 * (share * (1 - share) + z2 / 4))
    low, high = (middle - half) / (1 + z2), (middle + half) / (1 + z2)
    return np.where((k == 0) | (n == 0), 0.0, low), np.where((k == n) | (n == 0), 1.0, high)


def percentile_bounds(n: npt.ArrayLike, shares: npt.ArrayLike, level: float = 0.95) -> tuple[Floats, Floats]:
    """The shares whose order statistics enclose a quantile with at least ``level``.

    For sample sizes ``n`` of shape (g,) and ``shares`` of shape (k,): two arrays of shape (g, k), rank
    divided by n; NaN on the side that the sample is too small to bound. Distribution free: the
    number of values below the quantile is binomial (common practice; see Hahn and Meeker,
    Statistical Intervals, ch. 5).
    """
    count = np.asarray(n, np.float64)[:, None]
    share = np.asarray(shares, np.float64)[None, :]
    tail = (1 - level) / 2
    with np.errstate(divide="ignore", invalid="ignore"):
        low = binomial_quantile(tail, count, share)
        high = binomial_quantile(1 - tail, count, share) + 1
        return np.where(low >= 1, low / count, np.nan), np.where(high <= count, high / count, np.nan)
