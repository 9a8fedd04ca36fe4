"""How improbable a residual is: ranks among those of before, and beyond them the tail by a generalised Pareto distribution."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy import special

Floats = npt.NDArray[np.float64]
TAIL = 0.03  # of the residuals, on each side, beyond which the tail is fitted
LEAST_TAIL = 15  # residuals in it, for a shape of its own
SHAPES = (-0.1, 0.35)  # that are believed
KEPT = 400  # quantiles that stand for the residuals


@dataclass(frozen=True)
class Tail:
    """P(residual > threshold + y) = share · (1 + shape · y / scale)^(−1/shape)."""

    threshold: float
    share: float
    shape: float
    scale: float


@dataclass(frozen=True)
class Calibration:
    """Residuals of a stretch in which nothing was wrong, as sorted quantiles (of levels (i + ½) / n), and both tails."""

    ordered: Floats
    upper: Tail
    lower: Tail  # of the residuals with the other sign

    @classmethod
    def of(cls, residuals: Floats, at_least_normal: bool = False) -> Calibration:
        """From residuals in the order in which they came or any other; those that are not known must be left out.

        ``at_least_normal``: they are taken to scatter no less than a normal distribution does.
        """
        ordered = np.sort(residuals)
        if at_least_normal:
            normal = special.ndtri((np.arange(len(ordered)) + 0.5) / len(ordered))
            ordered = np.where(normal > 0, np.maximum(ordered, normal), np.minimum(ordered, normal))
        return cls(_thinned(ordered), _tail(ordered), _tail(-ordered[::-1]))

    def above(self, z: Floats) -> Floats:
        """The probability of so high a residual, elementwise; NaN of what is not known."""
        return _beyond(self.ordered, self.upper, z)

    def below(self, z: Floats) -> Floats:
        """The probability of so low a residual, elementwise; NaN of what is not known."""
        return _beyond(-self.ordered[::-1], self.lower, -z)

    def quantile(self, share: float) -> float:
        """The residual beneath which so many lie."""
        if share > 1 - self.upper.share:
            return _far(self.upper, 1 - share)
        if share < self.lower.share:
            return -_far(self.lower, share)
        return float(np.interp(share, (np.arange(len(self.ordered)) + 0.5) / len(self.ordered), self.ordered))


def _thinned(ordered: Floats) -> Floats:
    if len(ordered) <= KEPT:
        return ordered
    return np.quantile(ordered, (np.arange(KEPT) + 0.5) / KEPT)


def _tail(ordered: Floats) -> Tail:
    """By probability-weighted moments (Hosking and Wallis, Technometrics 29, 1987)."""
    n = len(ordered)
    if n < 2:
        return Tail(0.0, 0.5, 0.0, 1.0)
    count = max(min(int(n * TAIL), n - 1), min(LEAST_TAIL, n // 4), 1)
    threshold = float(ordered[n - count - 1])
    excess = ordered[n - count :] - threshold
    mean = max(float(excess.mean()), 1e-9)
    if count < LEAST_TAIL:
        return Tail(threshold, count / n, 0.0, mean)
    # E[X (1 − F(X))], with plotting positions.
    second = float((excess * (1 - (np.arange(count) + 0.65) / count)).mean())
    shape = 2 - mean / (mean - 2 * second) if mean > 2 * second else SHAPES[1]
    shape = float(np.clip(shape, *SHAPES))
    return Tail(threshold, count / n, shape, mean * (1 - shape))


def _beyond(ordered: Floats, tail: Tail, z: Floats) -> Floats:
    n, known = len(ordered), np.isfinite(z)
    z = np.where(known, z, 0.0)
    # Of n that came before, the next is the highest with 1 / (n + 1) (Vovk, Gammerman and Shafer 2005).
    ranks = (n - np.searchsorted(ordered, z, side="left") + 1) / (n + 1)
    y = np.maximum(z - tail.threshold, 0.0) / tail.scale
    far = np.exp(-y) if abs(tail.shape) < 1e-06 else np.maximum(1 + tail.shape * y, 0.0) ** (-1 / tail.shape)
    found = np.where(z > tail.threshold, np.minimum(tail.share * far, tail.share), np.maximum(ranks, tail.share))
    return np.asarray(np.where(known, found, np.nan))


def _far(tail: Tail, p: float) -> float:
    ratio = tail.share / max(p, 1e-300)
    y = np.log(ratio) if abs(tail.shape) < 1e-6 else (ratio**tail.shape - 1) / tail.shape
    return float(tail.threshold + tail.scale * y)
