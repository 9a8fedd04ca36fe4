"""How improbable a share of so many records is: failures of requests, hits of a cache."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from scipy import special

Floats = npt.NDArray[np.float64]
SMALLEST = 1e-9  # share: what was never seen is not impossible
USED = 0.98  # of the squared residuals of a history, by size: the largest may be what is looked for
OF_USED = float(special.chdtr(3, special.chdtri(1, 1 - USED)) / USED)  # their mean by chance, where that of all is 1


def usual(share: Floats, samples: Floats) -> float:
    """The share of all records of shares of so many each, both of shape (points,); with half a record more of each kind, neither none nor all."""
    return float(np.sum(share * samples) + 0.5) / (float(np.sum(samples)) + 1.0)


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


def _at_least(count: Floats, n: Floats, p: Floats, more: float) -> Floats:
    inside = (count > 0) & (count <= n)
    least, rest = np.where(inside, count, 1.0) / more, np.where(inside, n - count + 1, 1.0) / more
    return np.asarray(np.where(count <= 0, 1.0, np.where(inside, special.betainc(least, rest, p), 0.0)))
