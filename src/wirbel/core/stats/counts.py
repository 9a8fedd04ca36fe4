"""Distributions of counts: what a web server needs of ``scipy.stats``, from ``scipy.special``.

Importing ``scipy.stats`` takes each process 0.4 s and 45 MB; the tests compare with it.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from scipy import special

Floats = npt.NDArray[np.float64]
NEGLIGIBLE = 1e-12  # of a tail, that is left out of it


def binomial_quantile(share: float, n: Floats, p: Floats) -> Floats:
    """The least count of ``n`` that is not exceeded with probability ``share``, elementwise."""
    return _least(share, special.bdtrik(share, n, p), lambda k: special.betainc(n - k, k + 1, 1 - p))


def negative_binomial_quantile(share: float, r: Floats | float, p: Floats) -> Floats:
    """The same of the failures before the ``r``-th success of probability ``p``, where r need not be whole; elementwise."""
    return _least(share, special.nbdtrik(share, r, p), lambda k: special.betainc(r, k + 1, p))


def _least(share: float, about: Floats, cumulative) -> Floats:  # type: ignore[no-untyped-def]
    """The count at which a distribution reaches ``share``; ``about`` is where its continuation does."""
    k = np.ceil(np.nan_to_num(about, nan=0.0))
    less = np.maximum(k - 1, 0.0)
    return np.where(np.isnan(about), np.nan, np.where(cumulative(less) >= share, less, k))


def beta_binomial_at_least(count: Floats, n: Floats, a: Floats, b: Floats) -> Floats:
    """The probability of ``count`` or more of ``n`` whose share is Beta(a, b) distributed; all of shape (k,).

    The terms of the tail are added from the first on, each by its ratio to the one before (Skellam, JRSS B 10, 1948).
    """
    j = np.clip(count, 0.0, n)
    term = np.exp(-np.log1p(n) - special.betaln(j + 1, n - j + 1) + special.betaln(j + a, n - j + b) - special.betaln(a, b))
    total, left = term.copy(), np.flatnonzero(j < n)
    while len(left):
        k = j[left]
        term[left] *= (n[left] - k) * (k + a[left]) / ((k + 1) * (n[left] - k - 1 + b[left]))
        total[left] += term[left]
        j[left] += 1
        left = left[(j[left] < n[left]) & (term[left] > NEGLIGIBLE * total[left])]
    return np.minimum(np.where(count <= 0, 1.0, total), 1.0)
