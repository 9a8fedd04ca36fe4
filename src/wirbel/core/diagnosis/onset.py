"""When a level changed: one change point, a step or a ramp, beside drift that needs no cause.

Values are replaced by their weighted mid-ranks, so that a heavy tail cannot pretend to be a step and equal
values tell nothing by their order. Means of short stretches are then a level plus drift plus sampling noise (see
core/stats/drift.py) plus a step, or a ramp, that begins at one of the stretches; each place has its
likelihood, and the interval holds the most likely places until they add up to 95 %. A second look cuts the time
around the best places finer.

Sources: Pettitt 1979 (ranks); Smith 1975 (posterior of a change point); Harville 1977 (restricted likelihood).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy import linalg

from wirbel.core.stats.drift import correlation

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]

MIN_REQUESTS = 20
MIN_REQUESTS_EACH_SIDE = 5
COARSE = 90  # stretches of the first look
FINE = 50  # stretches into which the likely places are cut in the second
LEVEL = 0.95
RAMPS_S = (0.0, 300.0, 900.0, 1800.0)  # s until the new level is reached; 0: a step
STEP_PRIOR = 0.7  # of the shapes, before looking; the ramps share the rest
PENALTY = 6.0  # of twice the log-likelihood, beside 2 log n: places and shapes were tried to find the best
LASTING = (0.01, 0.03, 0.1, 0.3, 1.0)  # how long drift lasts, of all the time looked at
NOISE = (0.1, 0.5, 2.0, 10.0, 1000.0)  # sampling noise of an ordinary stretch of the first look, beside the drift's variance
LEAST_LIKELY = 0.01  # of the best: rarer kinds of noise are left out of the second look


@dataclass(frozen=True)
class Onset:
    """Time of a change, ns since 1970, its 95 % interval, and the step in units of its standard error (negative: downwards).

    ``takes_s`` is how long the level took to change: 0 for a step.
    """

    at: int
    low: int
    high: int
    size: float
    takes_s: float = 0.0


@dataclass(frozen=True)
class _Stretches:
    """Mean mid-rank, effective size, and first and last time (s) of the requests of each stretch; shape (stretches,)."""

    mean: Floats
    size: Floats
    first: Floats
    last: Floats
    count: Ints

    @property
    def middle(self) -> Floats:
        return (self.first + self.last) / 2


@dataclass(frozen=True)
class _Look:
    """How likely each place is: log-likelihoods (kinds of noise, shapes, places), steps and their errors, and those without any change."""

    places: Ints
    likelihood: Floats
    step: Floats
    none: Floats
    kinds: list[tuple[float, float]]


def find(times: Ints, values: Floats, weight: Floats | None = None) -> Onset | None:
    """The change of level of ``values`` (n,) with adjusted counts ``weight`` (n,) at ``times`` (n,) ns; None if none is clear."""
    if len(values) < MIN_REQUESTS or values.min() == values.max():
        return None
    order = np.argsort(times, kind="stable")
    ns, value = times[order], values[order]
    counts = np.ones(len(ns)) if weight is None else weight[order]
    seconds = (ns - ns[0]) / 1e9
    if not seconds[-1]:
        return None
    rank = _mid_ranks(value, counts)
    edges = np.linspace(0, seconds[-1], COARSE + 1)[1:-1]
    held = _cut(seconds, rank, counts, edges)
    look = _look(held, [(lasting * seconds[-1], noise * float(held.size.mean())) for lasting in LASTING for noise in NOISE])
    if look is None or not _is_clear(look, len(held.mean)):
        return None
    likely = _likely(look)
    low, high = held.first[likely[0] - 1], held.last[likely[-1]]
    margin = (high - low) / 4
    finer = np.linspace(max(low - margin, 0), min(high + margin, seconds[-1]), FINE)
    edges = np.sort(np.r_[edges[(edges < finer[0]) | (edges > finer[-1])], finer])
    fine = _cut(seconds, rank, counts, edges)
    again = _look(fine, _likely_kinds(look))
    held, look = (held, look) if again is None else (fine, again)
    likely = _likely(look)
    _, shape, best = np.unravel_index(int(look.likelihood.argmax()), look.likelihood.shape)

    def at(second: float) -> int:
        return int(ns[np.searchsorted(seconds, second)])

    # A change may lie inside the stretch before or after the place that fits best, so both count whole.
    return Onset(
        at(held.first[look.places[best]]),
        at(held.first[likely[0] - 1]),
        at(held.last[likely[-1]]),
        float(look.step[int(look.likelihood[:, shape, best].argmax()), shape, best]),
        RAMPS_S[int(shape)],
    )


def of_rate(times: Ints, weight: Floats, start: int, end: int) -> Onset | None:
    """The change of a rate: events at ``times`` (n,) ns with adjusted counts ``weight`` in [start, end) ns; None if none is clear."""
    if len(times) < MIN_REQUESTS:
        return None
    edges = np.linspace(start, end, 2 * COARSE + 1)
    place = np.clip(np.searchsorted(edges, times, side="right") - 1, 0, 2 * COARSE - 1)
    count = np.bincount(place, weights=weight, minlength=2 * COARSE).astype(float)
    middle = ((edges[:-1] + edges[1:]) / 2).astype(np.int64)
    found = find(middle, count)
    half = int(edges[1] - edges[0]) // 2
    return found and Onset(found.at - half, found.low - half, found.high + half, found.size, found.takes_s)


def _mid_ranks(values: Floats, weight: Floats) -> Floats:
    """Share of the weight below each value, and half of that at it, less one half: shape (n,); equal values have equal ranks."""
    distinct, code = np.unique(values, return_inverse=True)
    held = np.bincount(code, weights=weight, minlength=len(distinct))
    rank = (np.cumsum(held) - held / 2) / held.sum() - 0.5
    return np.asarray(rank[code])


def _cut(seconds: Floats, rank: Floats, weight: Floats, edges: Floats) -> _Stretches:
    place = np.searchsorted(edges, seconds, side="right")
    begins = np.flatnonzero(np.r_[True, np.diff(place) != 0])
    ends = np.r_[begins[1:], len(place)] - 1
    total, squares = np.add.reduceat(weight, begins), np.add.reduceat(weight**2, begins)
    mean = np.add.reduceat(weight * rank, begins) / total
    return _Stretches(mean, total**2 / squares, seconds[begins], seconds[ends], ends - begins + 1)


def _look(held: _Stretches, kinds: list[tuple[float, float]]) -> _Look | None:
    """Likelihood of a change beginning with each stretch; None if there are too few of them.

    ``kinds`` of noise: how long drift lasts (s), and the variance of one request beside that of the drift.
    """
    count = len(held.mean)
    seen = np.cumsum(held.count)
    places = np.flatnonzero((seen[:-1] >= MIN_REQUESTS_EACH_SIDE) & (seen[-1] - seen[:-1] >= MIN_REQUESTS_EACH_SIDE)) + 1
    places = places[(places >= 2) & (places <= count - 2)]
    if count < 8 or not len(places):
        return None
    since = held.middle[:, None] - held.first[places][None, :]
    shapes = np.stack([np.where(since >= 0, 1.0 if not ramp else np.clip((since + 1e-9) / ramp, 0, 1), 0.0) for ramp in RAMPS_S])
    candidates = np.moveaxis(shapes, 0, 1).reshape(count, -1)
    prior = np.log(np.r_[STEP_PRIOR, np.full(len(RAMPS_S) - 1, (1 - STEP_PRIOR) / (len(RAMPS_S) - 1))])
    likelihood, step, none = [], [], []
    for lasting, noise in kinds:
        covariance = (correlation(held.middle, lasting) + np.diag(noise / held.size)) / (1 + noise)
        root = linalg.cholesky(covariance, lower=True, check_finite=False)
        white = linalg.solve_triangular(root, np.column_stack([np.ones(count), held.mean, candidates]), lower=True, check_finite=False)
        ones, value, shape = white[:, 0], white[:, 1], white[:, 2:]
        level = float(ones @ ones)
        value = value - ones * (ones @ value) / level
        shape = shape - np.outer(ones, (ones @ shape) / level)
        whole, size, along = float(value @ value), np.maximum((shape**2).sum(axis=0), 1e-12), value @ shape
        rest = np.maximum(whole - along**2 / size, 1e-12 * whole + 1e-300)
        log_determinant = 2 * float(np.log(np.diag(root)).sum())
        likelihood.append((-0.5 * log_determinant - count / 2 * np.log(rest)).reshape(len(RAMPS_S), -1) + prior[:, None])
        step.append((along / size / np.sqrt(rest / max(count - 2, 1) / size)).reshape(len(RAMPS_S), -1))
        none.append(-0.5 * log_determinant - count / 2 * np.log(max(whole, 1e-300)))
    return _Look(places, np.array(likelihood), np.array(step), np.array(none), kinds)


def _is_clear(look: _Look, count: int) -> bool:
    """Whether the best change is worth having looked everywhere for it."""
    return bool(2 * (look.likelihood.max() - look.none.max()) > 2 * np.log(count) + PENALTY)


def _posterior(look: _Look) -> Floats:
    """Of each place: shape (places,), adding up to one."""
    share = np.exp(look.likelihood - look.likelihood.max()).sum(axis=(0, 1))
    return np.asarray(share / share.sum())


def _likely(look: _Look) -> Ints:
    """The stretches with which the change begins with 95 %, in order of time."""
    share = _posterior(look)
    order = np.argsort(-share, kind="stable")
    chosen = order[: int(np.searchsorted(np.cumsum(share[order]), LEVEL)) + 1]
    return np.asarray(np.sort(look.places[chosen]))


def _likely_kinds(look: _Look) -> list[tuple[float, float]]:
    best = look.likelihood.max(axis=(1, 2))
    return [look.kinds[int(kind)] for kind in np.flatnonzero(best >= best.max() + np.log(LEAST_LIKELY))]

