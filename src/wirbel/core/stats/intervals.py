"""Intervals for shares, percentiles and means of weighted samples."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from scipy import stats

Floats = npt.NDArray[np.float64]


def wilson(successes: npt.ArrayLike, trials: npt.ArrayLike, level: float = 0.95) -> tuple[Floats, Floats]:
    """Wilson score interval of shares, elementwise; (0, 1) where nothing was tried.

    Source: Wilson, "Probable inference, the law of succession, and statistical inference", 1927.
    """
    k, n = np.asarray(successes, float), np.asarray(trials, float)
    z = stats.norm.ppf(0.5 + level / 2)
    with np.errstate(divide="ignore", invalid="ignore"):
        p = k / n
        centre = (p + z**2 / (2 * n)) / (1 + z**2 / n)
        half = z / (1 + z**2 / n) * np.sqrt(p * (1 - p) / n + z**2 / (4 * n**2))
    low = np.where(n > 0, np.clip(centre - half, 0, 1), 0.0)
    high = np.where(n > 0, np.clip(centre + half, 0, 1), 1.0)
    return np.where(k == 0, 0.0, low), np.where((k == n) & (n > 0), 1.0, high)


def percentile_ranks(n: int, share: float, level: float = 0.95) -> tuple[int, int] | None:
    """Order statistics (1-based ranks) that enclose a quantile with at least ``level``; None if n is too small.

    Distribution free: the number of values below the quantile is binomial (common practice;
    see Hahn and Meeker, Statistical Intervals, ch. 5).
    """
    if n < 1:
        return None
    tail = (1 - level) / 2
    low = int(stats.binom.ppf(tail, n, share))
    high = int(stats.binom.ppf(1 - tail, n, share)) + 1
    return (low, high) if low >= 1 and high <= n else None


def poisson_weights(rows: int, repeats: int, seed: int) -> npt.NDArray[np.float32]:
    """Weights of a Poisson bootstrap, shape (repeats, rows): each row is drawn Poisson(1) times."""
    return np.random.default_rng(seed).poisson(1.0, (repeats, rows)).astype(np.float32)
