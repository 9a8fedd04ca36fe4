"""When a level changed: one change point by least squares, with a likelihood interval."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]
MINIMUM_EACH_SIDE = 5
CHI2_95 = 3.841  # 95 % point of chi-squared with one degree of freedom


@dataclass(frozen=True)
class Onset:
    """Time of a change, ns since 1970, its 95 % interval, and the step in units of the noise."""

    at: int
    low: int
    high: int
    size: float


def find(times: npt.NDArray[np.int64], values: Floats) -> Onset | None:
    """The best single change of mean in ``values`` (n,) observed at ``times`` (n,) ns; None if none is clear.

    Ranks are used instead of values, so that a heavy tail cannot pretend to be a step (the
    criterion is then that of Pettitt 1979). The interval holds the splits that are not
    significantly worse than the best: twice the log-likelihood within the chi-squared bound.
    """
    count = len(values)
    if count < 4 * MINIMUM_EACH_SIDE:
        return None
    order = np.argsort(times, kind="stable")
    times = times[order]
    ranks = np.argsort(np.argsort(values[order], kind="stable")).astype(float)
    ranks -= ranks.mean()
    split = np.arange(MINIMUM_EACH_SIDE, count - MINIMUM_EACH_SIDE)
    before = np.cumsum(ranks)[split - 1]
    explained = before**2 * count / (split * (count - split))
    whole = float(ranks @ ranks)
    best = int(np.argmax(explained))
    remaining = whole - explained
    likelihood = count * np.log(np.maximum(remaining, 1e-12 * whole) / whole)
    noise = np.sqrt(max(remaining[best], 1e-12 * whole) / count)
    k = int(split[best])
    size = float(-before[best] * (1 / k + 1 / (count - k)) / noise) if noise > 0 else 0.0
    if -likelihood[best] < 2 * np.log(count) + 10:  # a penalty for having looked everywhere
        return None
    near = np.flatnonzero(likelihood <= likelihood[best] + CHI2_95)
    # The change lies between the last request before and the first after it.
    return Onset(int(times[k]), int(times[split[near[0]] - 1]), int(times[split[near[-1]]]), size)
