"""When a level changed: one change point, a step or a ramp, beside drift that needs no cause.

Values are replaced by their weighted mid-ranks, so that a heavy tail cannot pretend to be a step and equal
values tell nothing by their order. Means of short stretches are then a level plus drift plus sampling noise (see
core/stats/drift.py) plus a step, or a ramp, that begins at one of the stretches; each place has its
likelihood, and the interval holds the most likely places until they add up to 95 %. A second look cuts the time
around the best places finer.

Sources: Pettitt 1979 (ranks); Smith 1975 (posterior of a change point); Harville 1977 (restricted likelihood).
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar

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
TAIL = 0.1  # of the values, that are told from the others where ranks show nothing
RAMPS_S = (0.0, 300.0, 900.0, 1800.0)  # s until the new level is reached; 0: a step
STEP_PRIOR = 0.7  # of the shapes, before looking; the ramps share the rest
PENALTY = 6.0  # of twice the log-likelihood, beside 2 log n: places and shapes were tried to find the best
LASTING = (0.01, 0.03, 0.1, 0.3, 1.0)  # how long drift lasts, of all the time looked at
NOISE = (0.1, 0.5, 2.0, 10.0, 1000.0)  # sampling noise of an ordinary stretch of the first look, beside the drift's variance
LEAST_LIKELY = 0.05  # of the best: rarer kinds of noise are left out of the second look


@dataclass(frozen=True)
class Onset:
    """Time of a change, ns since 1970, its 95 % interval, and the step in units of its standard error (negative: downwards).

    ``takes_s`` is how long the level took to change: 0 for a step.
    """

    _GRADUAL_NS: ClassVar[int] = 5 * 60 * 10**9

    at: int
    low: int
    high: int
    size: float
    takes_s: float = 0.0

    @property
    def is_gradual(self) -> bool:
        """It did not happen at once, or cannot be shown to have."""
        return self.takes_s > 0 or self.high - self.low >= self._GRADUAL_NS


@dataclass(frozen=True)
class _Stretches:
    """Mean of each column, effective size, and first and last time (s) of the requests of each stretch; shape (stretches, …)."""

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
    """How likely each place is: log-likelihoods and steps in their errors (kinds of noise, columns, shapes, places), and without any change (kinds, columns)."""

    places: Ints
    likelihood: Floats
    step: Floats
    none: Floats
    kinds: list[tuple[float, float]]

    def of(self, column: int) -> _Look:
        here = slice(column, column + 1)
        return _Look(self.places, self.likelihood[:, here], self.step[:, here], self.none[:, here], self.kinds)


def find(times: Ints, values: Floats, weight: Floats | None = None) -> Onset | None:
    """The change of level of ``values`` (n,) with adjusted counts ``weight`` (n,) at ``times`` (n,) ns; None if none is clear.

    Where the ranks show none, the share of values in the highest tenth is asked: what befalls few requests, but hard,
    hardly moves the ranks.
    """
    return find_all(times, values[:, None], weight)[0]


def find_all(times: Ints, values: Floats, weight: Floats | None = None) -> list[Onset | None]:
    """As :func:`find` for each column of ``values`` (n, columns) of the same requests."""
    columns = values.shape[1]
    found: list[Onset | None] = [None] * columns
    if len(values) < MIN_REQUESTS:
        return found
    order = np.argsort(times, kind="stable")
    ns, value = times[order], values[order]
    counts = np.ones(len(ns)) if weight is None else weight[order]
    seconds = (ns - ns[0]) / 1e9
    if not seconds[-1]:
        return found
    changing = np.flatnonzero(value.min(axis=0) < value.max(axis=0))
    if not len(changing):
        return found
    ranks = [_mid_ranks(value[:, column], counts) for column in changing]
    tails = [(value[:, column] > np.quantile(value[:, column], 1 - TAIL, method="inverted_cdf", weights=counts)).astype(float) for column in changing]
    told = np.stack([*ranks, *tails], axis=1)
    edges = np.linspace(0, seconds[-1], COARSE + 1)[1:-1]
    held = _cut(seconds, told, counts, edges)
    look = _look(held, [(lasting * seconds[-1], noise * float(held.size.mean())) for lasting in LASTING for noise in NOISE])
    if look is None:
        return found
    for place, column in enumerate(changing):
        clear = next((at for at in (place, place + len(changing)) if _is_clear(look.of(at), len(held.size))), None)
        if clear is not None:
            found[column] = _refined(ns, told[:, [clear]], counts, edges, _column(held, clear), look.of(clear))
    return found


def _column(held: _Stretches, column: int) -> _Stretches:
    return replace(held, mean=held.mean[:, [column]])


def _refined(ns: Ints, value: Floats, counts: Floats, edges: Floats, held: _Stretches, look: _Look) -> Onset:
    """A second look that cuts the likely places finer, and what is far from them coarser."""
    seconds = (ns - ns[0]) / 1e9
    likely = _likely(look)
    low, high = held.first[likely[0] - 1], held.last[likely[-1]]
    margin = (high - low) / 4
    finer = np.linspace(max(low - margin, 0), min(high + margin, seconds[-1]), FINE)
    far = edges[::2]
    fine = _cut(seconds, value, counts, np.sort(np.r_[far[(far < finer[0]) | (far > finer[-1])], finer]))
    again = _look(fine, _likely_kinds(look))
    held, look = (held, look) if again is None else (fine, again)
    likely = _likely(look)
    kind, _, shape, best = np.unravel_index(int(look.likelihood.argmax()), look.likelihood.shape)

    def at(second: float) -> int:
        return int(ns[np.searchsorted(seconds, second)])

    takes_s = RAMPS_S[int(shape)]
    # A change may lie inside the stretch before or after the place that fits best, so both count whole; and a
    # slow rise is hard to tell from a quick one within it.
    last = min(held.last[likely[-1]] + takes_s / 2, seconds[-1])
    return Onset(at(held.first[look.places[best]]), at(held.first[likely[0] - 1]), at(last), float(look.step[kind, 0, shape, best]), takes_s)


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


def _cut(seconds: Floats, values: Floats, weight: Floats, edges: Floats) -> _Stretches:
    place = np.searchsorted(edges, seconds, side="right")
    begins = np.flatnonzero(np.r_[True, np.diff(place) != 0])
    ends = np.r_[begins[1:], len(place)] - 1
    total, squares = np.add.reduceat(weight, begins), np.add.reduceat(weight**2, begins)
    mean = np.add.reduceat(weight[:, None] * values, begins, axis=0) / total[:, None]
    return _Stretches(mean, total**2 / squares, seconds[begins], seconds[ends], ends - begins + 1)


def _look(held: _Stretches, kinds: list[tuple[float, float]]) -> _Look | None:
    """Likelihood of a change beginning with each stretch; None if there are too few of them.

    ``kinds`` of noise: how long drift lasts (s), and the variance of one request beside that of the drift.
    """
    count, columns = held.mean.shape
    seen = np.cumsum(held.count)
    places = np.flatnonzero((seen[:-1] >= MIN_REQUESTS_EACH_SIDE) & (seen[-1] - seen[:-1] >= MIN_REQUESTS_EACH_SIDE)) + 1
    places = places[(places >= 2) & (places <= count - 2)]
    if count < 8 or not len(places):
        return None
    since = held.middle[:, None] - held.first[places][None, :]
    shapes = np.stack([np.where(since >= 0, 1.0 if not ramp else np.clip((since + 1e-9) / ramp, 0, 1), 0.0) for ramp in RAMPS_S])
    candidates = np.moveaxis(shapes, 0, 1).reshape(count, -1)
    given = np.column_stack([np.ones(count), held.mean, candidates])
    prior = np.log(np.r_[STEP_PRIOR, np.full(len(RAMPS_S) - 1, (1 - STEP_PRIOR) / (len(RAMPS_S) - 1))])
    likelihood, step, none = [], [], []
    for lasting, noise in kinds:
        covariance = (correlation(held.middle, lasting) + np.diag(noise / held.size)) / (1 + noise)
        root = linalg.cholesky(covariance, lower=True, check_finite=False)
        white = linalg.solve_triangular(root, given, lower=True, check_finite=False)
        ones, rest = white[:, 0], white[:, 1:]
        rest = rest - np.outer(ones, (ones @ rest) / float(ones @ ones))  # around one level
        value, shape = rest[:, :columns], rest[:, columns:]
        whole, size, along = (value**2).sum(axis=0)[:, None], np.maximum((shape**2).sum(axis=0), 1e-12), value.T @ shape
        left = np.maximum(whole - along**2 / size, 1e-12 * whole + 1e-300)
        log_determinant = 2 * float(np.log(np.diag(root)).sum())
        likelihood.append((-0.5 * log_determinant - count / 2 * np.log(left)).reshape(columns, len(RAMPS_S), -1) + prior[:, None])
        step.append((along / np.sqrt(size * left / max(count - 2, 1))).reshape(columns, len(RAMPS_S), -1))
        none.append(-0.5 * log_determinant - count / 2 * np.log(np.maximum(whole[:, 0], 1e-300)))
    return _Look(places, np.array(likelihood), np.array(step), np.array(none), kinds)


def _is_clear(look: _Look, count: int) -> bool:
    """Whether the best change is worth having looked everywhere for it."""
    return bool(2 * (look.likelihood.max() - look.none.max()) > 2 * np.log(count) + PENALTY)


def _posterior(look: _Look) -> Floats:
    """Of each place: shape (places,), adding up to one."""
    share = np.exp(look.likelihood - look.likelihood.max()).sum(axis=(0, 1, 2))
    return np.asarray(share / share.sum())


def _likely(look: _Look) -> Ints:
    """The stretches with which the change begins with 95 %, in order of time."""
    share = _posterior(look)
    order = np.argsort(-share, kind="stable")
    chosen = order[: int(np.searchsorted(np.cumsum(share[order]), LEVEL)) + 1]
    return np.asarray(np.sort(look.places[chosen]))


def _likely_kinds(look: _Look) -> list[tuple[float, float]]:
    best = look.likelihood.max(axis=(1, 2, 3))
    return [look.kinds[int(kind)] for kind in np.flatnonzero(best >= best.max() + np.log(LEAST_LIKELY))]
