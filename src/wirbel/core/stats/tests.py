"""Tests over many 2×2 tables at once, and control of false discoveries."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy import special

Floats = npt.NDArray[np.float64]
TABLES = 2_000  # that are judged exactly at a time
ALIKE = 1e-7  # of a probability, that is rounding
SMALL_EXPECTATION = 5.0  # below it the chi-squared approximation is not trusted (common practice)


def association(a: Floats, b: Floats, c: Floats, d: Floats) -> Floats:
    """Two-sided p of each table [[a, b], [c, d]]: Fisher's exact test where a cell's expectation is small, else the G-test.

    All of shape (n,), counts.
    """
    a, b, c, d = (np.asarray(x, float) for x in (a, b, c, d))
    total = a + b + c + d
    with np.errstate(divide="ignore", invalid="ignore"):
        g = np.zeros_like(a)
        least = np.full_like(a, np.inf)
        for seen, row, column in ((a, a + b, a + c), (b, a + b, b + d), (c, c + d, a + c), (d, c + d, b + d)):
            expected = row * column / total
            g += 2 * np.where(seen > 0, seen * np.log(seen / expected), 0.0)
            least = np.minimum(least, expected)
    p = special.chdtrc(1, np.maximum(g, 0))
    small = np.flatnonzero(least < SMALL_EXPECTATION)
    for some in (small[first : first + TABLES] for first in range(0, len(small), TABLES)):
        p[some] = fisher_exact(a[some], b[some], c[some], d[some])
    return np.asarray(p)


def fisher_exact(a: Floats, b: Floats, c: Floats, d: Floats) -> Floats:
    """Two-sided p of Fisher's exact test of each table [[a, b], [c, d]], all of shape (n,) and whole numbers.

    The sum of the probabilities of all tables of the same margins that are no likelier (Fisher, Statistical Methods for Research Workers, 1934).
    Importing ``scipy.stats`` for it takes each process half a second and 45 MB; the tests compare with it.
    """
    row, column, total = a + b, a + c, a + b + c + d
    first = np.maximum(0.0, row + column - total)
    size = (np.minimum(row, column) - first + 1).astype(np.int64)
    start = np.cumsum(size) - size
    of = np.repeat(np.arange(len(a)), size)
    cell = first[of] + np.arange(len(of)) - start[of]
    chances = _hypergeometric(cell, row[of], column[of], total[of])
    seen = _hypergeometric(a, row, column, total)
    return np.minimum(np.add.reduceat(np.where(chances <= seen[of] * (1 + ALIKE), chances, 0.0), start), 1.0)


def _hypergeometric(cell: Floats, row: Floats, column: Floats, total: Floats) -> Floats:
    """The probability of the first cell of tables of such margins, elementwise."""
    ways = _log_choose(row, cell) + _log_choose(total - row, column - cell) - _log_choose(total, column)
    return np.asarray(np.exp(ways))


def _log_choose(n: Floats, k: Floats) -> Floats:
    return np.asarray(special.gammaln(n + 1) - special.gammaln(k + 1) - special.gammaln(n - k + 1))


def stratified_association(a: Floats, b: Floats, c: Floats, d: Floats) -> Floats:
    """Two-sided p of the tables [[a, b], [c, d]] of many strata at once; arguments of shape (n, strata).

    Cochran–Mantel–Haenszel with continuity correction (Mantel and Haenszel 1959): whether the rows
    differ within strata. With one stratum :func:`association` is used, which is exact for small counts.
    """
    if a.shape[1] == 1:
        return association(a[:, 0], b[:, 0], c[:, 0], d[:, 0])
    total = a + b + c + d
    with np.errstate(divide="ignore", invalid="ignore"):
        expected = np.where(total > 0, (a + b) * (a + c) / total, 0.0)
        variance = np.where(total > 1, (a + b) * (c + d) * (a + c) * (b + d) / (total**2 * (total - 1)), 0.0)
        off = np.abs((a - expected).sum(axis=1))
        spread = variance.sum(axis=1)
        statistic = np.where(spread > 0, np.maximum(off - 0.5, 0) ** 2 / spread, 0.0)
    return np.asarray(special.chdtrc(1, statistic))


@dataclass(frozen=True)
class Counts:
    """Counts of weighted records: Σ weight and Σ weight², of any one shape."""

    weight: Floats
    squares: Floats


def weighted_association(a: Counts, b: Counts, c: Counts, d: Counts) -> Floats:
    """Two-sided p of the tables [[a, b], [c, d]] of many strata at once, for records that stand for different numbers of others.

    Each of shape (n, strata). The score test of Mantel and Haenszel with the variance of weighted sampling
    (Binder 1983: each record counts with its own squared residual), so that a record that stands for a hundred
    is one observation and not a hundred. With equal weights it is the test without weights.
    """
    total = a.weight + b.weight + c.weight + d.weight
    with np.errstate(divide="ignore", invalid="ignore"):
        share = np.where(total > 0, (a.weight + c.weight) / total, 0.0)
        row = np.where(total > 0, (a.weight + b.weight) / total, 0.0)
    score = (a.weight - (a.weight + b.weight) * share).sum(axis=1)
    first = a.squares * (1 - share) ** 2 + b.squares * share**2
    second = c.squares * (1 - share) ** 2 + d.squares * share**2
    variance = ((1 - row) ** 2 * first + row**2 * second).sum(axis=1)
    whole = sum(x.weight.sum(axis=1) for x in (a, b, c, d))
    one = sum(x.squares.sum(axis=1) for x in (a, b, c, d)) / np.maximum(whole, 1e-300)  # an ordinary record's weight, for the continuity correction
    with np.errstate(divide="ignore", invalid="ignore"):
        statistic = np.where(variance > 0, np.maximum(np.abs(score) - one / 2, 0) ** 2 / variance, 0.0)
    return np.asarray(special.chdtrc(1, statistic))


def mark_association(weight: Floats, is_bad: Floats, both: Callable[[Floats], tuple[Floats, Floats]]) -> Floats:
    """Two-sided p of whether what bears a mark is bad more or less often than what bears another, of each mark, shape (marks,).

    ``weight`` and ``is_bad`` (0 or 1) have one entry a record; ``both`` sums such over the marks and over their siblings, shape (marks, strata)
    each. Equal weights are none: the tests that are exact for small counts will do.
    """
    if weight.min() == weight.max():
        bad, good = both(is_bad), both(1 - is_bad)
        return stratified_association(bad[0], good[0], bad[1], good[1])
    sums, squares = ((both(is_bad * x), both((1 - is_bad) * x)) for x in (weight, weight**2))
    (a, c), (b, d) = ((tuple(Counts(s, q) for s, q in zip(sums[row], squares[row], strict=True))) for row in (0, 1))
    return weighted_association(a, b, c, d)


def adjusted(p: npt.ArrayLike) -> Floats:
    """p-values, shape (n,), adjusted by Benjamini and Hochberg (1995) over all that were tried."""
    given = np.asarray(p, float)
    order = np.argsort(given)
    by_rank = given[order] * (given.size / np.arange(1, given.size + 1))
    found = np.empty_like(given)
    found[order] = np.minimum.accumulate(by_rank[::-1])[::-1]
    return np.minimum(found, 1.0)
