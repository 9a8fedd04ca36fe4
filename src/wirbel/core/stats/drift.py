"""How much a level wanders by itself: intervals that hold although neighbouring minutes are alike.

Requests a minute apart are slow together and fast together, so that resampling them one by one makes
intervals several times too narrow. Here the means of short stretches are a level plus a mean-reverting
drift (Ornstein–Uhlenbeck, the continuous AR(1)) plus sampling noise that falls with the number of
requests. How long the drift lasts and how large it is beside the noise is not known from an hour or
two, so the answer is averaged over a grid of both, weighted by restricted likelihood.

Sources: Harville 1977 (restricted likelihood); Box, Jenkins and Reinsel, Time Series Analysis, ch. 3
(AR(1)); O'Hagan 1978 (averaging over what a Gaussian process leaves open). docs/methods.md has how its
coverage compares with resampling requests and with resampling blocks of time (Künsch 1989).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TypeAlias

import numpy as np
import numpy.typing as npt
from scipy import linalg, sparse, special

Floats = npt.NDArray[np.float64]
Bools = npt.NDArray[np.bool_]
Values: TypeAlias = Floats | sparse.csr_array
"""One row a request, one column a measure; most parts of a request are in few requests, so sparse will do."""

MOST_STRETCHES = 60  # of a reference: more change little and cost much
LASTING = 7  # grid of how long a drift lasts, from one stretch to three times all that is known
NOISE = (0.0, 0.03, 0.1, 0.3, 1.0, 3.0, 10.0, 100.0)  # grid of sampling noise beside the drift's variance
FEWEST = 5  # stretches, to say anything about drift
_HALVINGS = 48  # of an interval that holds a quantile


@dataclass(frozen=True)
class Stretches:
    """Means of requests over short stretches of time.

    ``mean`` (stretches, columns); ``size`` effective number of requests (Kish) and ``weight`` adjusted count of
    each; ``middle`` their times, s.
    """

    mean: Floats
    size: Floats
    weight: Floats
    middle: Floats

    def __len__(self) -> int:
        return len(self.size)


def stretches(time_s: Floats, values: Values, weight: Floats, most: int = MOST_STRETCHES) -> Stretches:
    """Cuts requests at ``time_s`` (n,) with ``values`` (n, columns) into at most ``most`` stretches of equal length; empty ones are left out."""
    start, end = float(time_s.min()), float(time_s.max())
    wide = max((end - start) / most, 1e-9)
    place = np.minimum(((time_s - start) / wide).astype(np.int64), most - 1)
    total = np.bincount(place, weights=weight, minlength=most)
    squares = np.bincount(place, weights=weight**2, minlength=most)
    used = np.flatnonzero(total > 0)
    into = sparse.csr_array((weight, (place, np.arange(len(place)))), shape=(most, len(place)))[used]
    sums = into @ values
    sums = sums.toarray() if sparse.issparse(sums) else np.asarray(sums)
    middle = np.bincount(place, weights=weight * time_s, minlength=most)[used] / total[used]
    return Stretches(sums / total[used, None], total[used].astype(float) ** 2 / squares[used], total[used].astype(float), middle)


def correlation(middle: Floats, lasting: float) -> Floats:
    """exp(−|Δt| / lasting) of times ``middle`` (n,): shape (n, n)."""
    return np.exp(-np.abs(middle[:, None] - middle[None, :]) / lasting)


def effective_size(weight: Floats) -> float:
    """How many requests of equal weight tell as much as those of ``weight``, shape (n,) (Kish 1965): (Σw)² / Σw²."""
    return float(weight.sum() ** 2 / max((weight**2).sum(), 1e-300))


@dataclass(frozen=True)
class Difference:
    """Focus less reference for each column, with its interval and two-sided p of there being none; shapes (columns,)."""

    delta: Floats
    low: Floats
    high: Floats
    p: Floats


def difference(time_s: Floats, values: Values, weight: Floats, in_focus: Bools, level: float = 0.95) -> Difference:
    """Difference of weighted means of ``values`` (n, columns) of requests at ``time_s`` (n,), focus less reference.

    Drift is learnt from the reference; the focus, which may hold anything, adds only its own sampling
    noise. The reference must have requests, and so must the focus; with fewer than five stretches of
    reference only sampling noise is counted.
    """
    before, after = (Part.of(time_s[rows], values[rows], weight[rows]) for rows in (~in_focus, in_focus))
    delta = after.mean - before.mean
    scale, share, degrees = _scales(before, after)
    return Difference(
        delta,
        delta + _quantile(scale, share, degrees, (1 - level) / 2),
        delta + _quantile(scale, share, degrees, (1 + level) / 2),
        np.minimum(1.0, 2 * (1 - _cdf(np.abs(delta), scale, share, degrees))),
    )


@dataclass(frozen=True)
class Part:
    """One window's requests: weighted mean and the variance that sampling alone gives it, and its stretches."""

    mean: Floats
    sampling: Floats
    stretches: Stretches

    @classmethod
    def of(cls, time_s: Floats, values: Values, weight: Floats) -> Part:
        mean = np.asarray(weight @ values) / weight.sum()
        squares = np.asarray(weight @ (values * values if sparse.issparse(values) else values**2)) / weight.sum()
        size = effective_size(weight)
        return cls(mean, np.maximum(squares - mean**2, 0) / max(size - 1, 1), stretches(time_s, values, weight))


def _scales(before: Part, after: Part) -> tuple[Floats, Floats, float]:
    """Standard errors (grid, columns), their weights (grid, columns) and degrees of freedom of the mixture of Student's t."""
    known = before.stretches
    if len(known) < FEWEST:
        alone = np.sqrt(before.sampling + after.sampling)
        return alone[None, :], np.ones((1, len(alone))), max(effective_size(known.weight) - 1, 1.0)
    middle = np.r_[known.middle, after.stretches.middle]
    contrast = np.r_[-known.weight / known.weight.sum(), after.stretches.weight / after.stretches.weight.sum()]
    count, degrees = len(known), len(known) - 1
    noisy = known.size.mean() / known.size
    first, all_known = np.diff(np.sort(known.middle)).min(initial=np.inf), np.ptp(known.middle)
    likelihood, scale = [], []
    for lasting in np.geomspace(max(first, all_known / 60), 3 * max(all_known, first), LASTING):
        alike = correlation(middle, lasting)
        own = alike[:count, :count]
        wandered = float(contrast @ alike @ contrast)
        for noise in NOISE:
            residual, log_determinant = _residual(own + np.diag(noise * noisy + 1e-9), known.mean)
            variance = residual / degrees
            sampled = noise * float((contrast[:count] ** 2) @ noisy)
            likelihood.append(-0.5 * log_determinant - degrees / 2 * np.log(np.maximum(residual, 1e-300)))
            scale.append(np.sqrt(variance * (wandered + sampled) + after.sampling))
    odds = np.array(likelihood)
    share = np.exp(odds - odds.max(axis=0))
    return np.array(scale), share / share.sum(axis=0), float(degrees)


def _residual(covariance: Floats, mean: Floats) -> tuple[Floats, float]:
    """Generalised sum of squares around one level for each column, and log |V| + log |X'V⁻¹X| of the restricted likelihood."""
    root = linalg.cholesky(covariance, lower=True, check_finite=False)
    white = linalg.solve_triangular(root, np.column_stack([np.ones(len(mean)), mean]), lower=True, check_finite=False)
    ones, values = white[:, 0], white[:, 1:]
    weight = float(ones @ ones)
    rest = values - np.outer(ones, (ones @ values) / weight)
    return (rest**2).sum(axis=0), 2 * float(np.log(np.diag(root)).sum()) + float(np.log(weight))


def _cdf(at: Floats, scale: Floats, share: Floats, degrees: float) -> Floats:
    """Probability that a mixture of centred Student's t is below ``at`` (columns,)."""
    with np.errstate(divide="ignore", invalid="ignore"):
        standard = np.where(scale > 0, at / scale, np.where(at > 0, np.inf, np.where(at < 0, -np.inf, 0.0)))
    return np.asarray((share * special.stdtr(degrees, standard)).sum(axis=0))


def _quantile(scale: Floats, share: Floats, degrees: float, probability: float) -> Floats:
    """Quantile of the mixture for each column, by halving."""
    widest = scale.max(axis=0) * abs(special.stdtrit(degrees, min(probability, 1 - probability) / 4)) + 1e-300
    low, high = -widest, widest
    for _ in range(_HALVINGS):
        middle = (low + high) / 2
        below = _cdf(middle, scale, share, degrees) < probability
        low, high = np.where(below, middle, low), np.where(below, high, middle)
    return (low + high) / 2
