"""How improbable a share of so many records is: failures of requests, hits of a cache."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from scipy import special

from wirbel.core.stats.counts import binomial_quantile

Floats = npt.NDArray[np.float64]
SMALLEST = 1e-9  # share: what was never seen is not impossible
USED = 0.98  # of the squared residuals of a history, by size: the largest may be what is looked for
PARTS, ENOUGH = 20, 10.0  # of a history, each of which tells the odds: so many at most, and so many records of the rarer kind expected in each
FEW = 8  # records, of which a share takes few values
MOST_LIFT = float(np.log(2))  # what went wrong in a short history may be more
OF_USED = float(special.chdtr(3, special.chdtri(1, 1 - USED)) / USED)  # their mean by chance, where that of all is 1


def are_of_records(share: Floats, samples: Floats) -> bool:
    """Whether ``samples`` tell how many records each share is of, both of shape (points,): where none is told each is one, of which a share is none or all."""
    return bool((samples > 1).any() or np.isin(share, (0.0, 1.0)).all())


def usual(share: Floats, samples: Floats) -> float:
    """The share of all records of shares of so many each, both of shape (points,); with half a record more of each kind, neither none nor all."""
    return float(np.sum(share * samples) + 0.5) / (float(np.sum(samples)) + 1.0)


def lift(share: Floats, samples: Floats, expected: Floats) -> float:
    """How much higher the log odds of records are than those ``expected`` of them, all of shape (points,), NaN where something is not known.

    The middle of shares of few records is not their mean: of one request a minute of which a fifth fails, none fails in most minutes. The
    median of PARTS of the history, as what went wrong in a few of them counts for nothing.
    """
    known = np.isfinite(share) & np.isfinite(expected) & (samples > 0)
    n, of_kind, foretold = samples[known], share[known] * samples[known], expected[known] * samples[known]
    if not len(n):
        return 0.0
    parts = int(np.clip(min(foretold.sum(), n.sum() - foretold.sum()) // ENOUGH, 1, min(PARTS, len(n))))
    n, of_kind, foretold = (np.add.reduceat(v, np.linspace(0, len(v), parts, endpoint=False, dtype=np.int64)) for v in (n, of_kind, foretold))
    odds, those = (special.logit((v + 0.5) / (n + 1)) for v in (of_kind, foretold))
    return float(np.clip(np.median(odds - those), -MOST_LIFT, MOST_LIFT))


def more_than_chance(share: Floats, samples: Floats, expected: Floats) -> float:
    """How many times as much as by chance shares of ``samples`` records scatter about what was ``expected``; 1 at least. All of shape (points,).

    The design effect of clustered records: the mean squared Pearson residual (Rao and Scott, Biometrics 48, 1992).
    """
    known = np.isfinite(share) & np.isfinite(expected) & (samples > 0)
    p = np.clip(expected[known], SMALLEST, 1 - SMALLEST)
    squares = np.sort((share[known] - p) ** 2 * samples[known] / (p * (1 - p)))
    kept = squares[: max(int(len(squares) * USED), min(len(squares), 1))]
    return max(float(kept.mean()) / OF_USED if len(kept) else 1.0, 1.0)


def chances(share: Floats, samples: Floats, expected: Floats, more: float) -> tuple[Floats, Floats]:
    """The probability of so high a share, and of so low a one, elementwise; half of that of the very number counts (mid-p; Lancaster, JASA 56, 1961).

    Binomial, by the incomplete beta function, of the records that are left when they are divided by ``more`` (Rao and Scott): close to
    a beta-binomial of the same scatter. NaN where something is not known.
    """
    known = np.isfinite(share) & np.isfinite(expected) & (samples > 0)
    n = np.where(known, samples, 1.0)
    count, p = np.where(known, share, 0.0) * n, np.clip(np.where(known, expected, 0.5), SMALLEST, 1 - SMALLEST)
    above = (_at_least(count, n, p, more) + _at_least(count + 1, n, p, more)) / 2
    return np.where(known, above, np.nan), np.where(known, 1 - above, np.nan)


def usual_bits(samples: Floats, expected: Floats, more: float) -> tuple[Floats, Floats]:
    """What shares tell on average where nothing is wrong, by :func:`chances` upwards and downwards, as a share of log2(e), the bits of continuous values; elementwise.

    Few records tell less: of one that fails in two of five cases 0.9 bits in the place of 1.4.
    """
    n = np.maximum(np.rint(np.nan_to_num(samples) / more), 1.0)
    p = np.clip(np.nan_to_num(expected, nan=0.5), SMALLEST, 1 - SMALLEST)
    high, low = np.ones(p.shape), np.ones(p.shape)
    for size in np.unique(n[n <= FEW]).astype(np.int64):
        those, k = n == size, np.arange(size + 1)[:, None]
        likely = special.binom(size, k) * p[those] ** k * (1 - p[those]) ** (size - k)
        above = np.cumsum(likely[::-1], axis=0)[::-1] - likely / 2
        high[those], low[those] = (special.rel_entr(likely, likely * chance).sum(axis=0) for chance in (above, 1 - above))
    return high, low


def quantile(expected: Floats, samples: Floats, more: float, chance: float) -> Floats:
    """The least share of ``samples`` records that is not exceeded with probability ``chance``, elementwise: of those that are left as in :func:`chances`."""
    known = np.isfinite(expected) & (samples > 0)
    n = np.maximum(np.rint(np.where(known, samples, 1.0) / more), 1.0)
    found = binomial_quantile(chance, n, np.clip(np.where(known, expected, 0.5), SMALLEST, 1 - SMALLEST)) / n
    return np.where(known, np.minimum(found, 1.0), np.nan)


def gained(share: Floats, samples: Floats, expected: Floats, more: float, sign: float) -> Floats:
    """Twice the log likelihood ratio that all records from each point on were of one share higher (``sign`` 1; −1: lower) than ``expected``; 0 where theirs is not. All of shape (points,).

    The statistic of a change point in binomial data (Hinkley and Hinkley, Biometrika 57, 1970), with the records divided as in :func:`chances`.
    """
    known = np.isfinite(share) & np.isfinite(expected) & (samples > 0)
    n = np.where(known, samples, 0.0) / more
    all_n, of_kind, foretold = (np.cumsum(v[::-1])[::-1] for v in (n, n * np.where(known, share, 0.0), n * np.where(known, expected, 0.0)))
    q, p = (np.clip(v / np.maximum(all_n, SMALLEST), SMALLEST, 1 - SMALLEST) for v in (of_kind, foretold))
    ratio = special.rel_entr(q, p) + special.rel_entr(1 - q, 1 - p)
    return np.asarray(np.where(sign * (q - p) > 0, 2 * all_n * ratio, 0.0))


def between(one: float, other: float) -> float:
    """The share at which records, however many, are as likely by one share as by the other (Wald, Sequential Analysis, 1947, chapter 5)."""
    p, q = (float(np.clip(share, SMALLEST, 1 - SMALLEST)) for share in (one, other))
    return float((np.log1p(-p) - np.log1p(-q)) / (special.logit(q) - special.logit(p)))


def beyond(share: float, samples: float, expected: float, more: float) -> float:
    """The probability that of so many records a larger share is of a kind than ``share``, where it is ``expected``: binomial as in :func:`chances`."""
    n = np.array([max(round(samples), 1)], np.float64)
    return float(_at_least(np.floor(share * n) + 1, n, np.clip([expected], SMALLEST, 1 - SMALLEST), more)[0])


def _at_least(count: Floats, n: Floats, p: Floats, more: float) -> Floats:
    inside = (count > 0) & (count <= n)
    least, rest = np.where(inside, count, 1.0) / more, np.where(inside, n - count + 1, 1.0) / more
    return np.asarray(np.where(count <= 0, 1.0, np.where(inside, special.betainc(least, rest, p), 0.0)))
