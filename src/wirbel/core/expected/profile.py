"""What is normal for one series: level, seasons, scatter and tail, learned from its own history.

Values are judged on a scale of their kind: latencies, rates and counts by their logarithm, shares by their log-odds, levels as they
are. What is slow (the level) is the median of the time before; what comes round (the season) is fitted once for the whole
history, as much of it as later days confirm.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
import numpy.typing as npt
from scipy import stats

from wirbel.core.errors import NotEnoughData
from wirbel.core.expected import seasons
from wirbel.core.expected.seasons import BLOCK_S, DAY_S, HOUR_S, SECOND_NS, Season
from wirbel.core.expected.tails import Calibration
from wirbel.core.series.series import Kind

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
State = Literal["provisional", "seasonal"]

SMALLEST = 1e-6  # added before a logarithm: zero is a value
LOGARITHMIC: tuple[Kind, ...] = ("rate", "count", "quantile", "mean")
MEMORIES = ((DAY_S, 24), (8 * HOUR_S, 16), (2 * HOUR_S, 8), (HOUR_S / 2, 3))  # of the level, s and at least so many blocks: the longest that is not worse
NOT_WORSE = 0.5  # of the mean absolute error: a long memory does not follow what goes wrong slowly
LEAST_BLOCKS = 3  # of a level
BLOCK_POINTS = 10
UNREST_S = 8 * HOUR_S  # of which it is known how restless the series is of late
MOST_UNREST = (0.4, 3.0)  # times the usual
MEDIAN_Z = 0.6745  # of |z| where z is divided by 1.4826 × the median absolute deviation
LEAST_POINTS = 20  # before anything is said
HOURS = 24
LIKE_ALL = 200.0  # points of all hours that count with those of one, for its scatter
FLOOR = {"log": 0.02, "logit": 0.05, "as it is": 0.0}  # of the scatter: a perfectly steady series still may move
SAMPLING = 0.5  # of the variance, that falls with the number of records
MOST_INFLATED = 50.0


@dataclass(frozen=True)
class Scale:
    """How values of a kind are judged, and back."""

    name: Literal["log", "logit", "as it is"]

    @classmethod
    def of(cls, kind: Kind) -> Scale:
        return cls("log" if kind in LOGARITHMIC else "logit" if kind == "share" else "as it is")

    def judged(self, values: Floats, samples: Floats) -> Floats:
        """NaN stays NaN. A share is drawn to one half by half a record, so that none and all are finite."""
        if self.name == "log":
            return np.log(SMALLEST + np.maximum(values, 0.0))
        if self.name == "logit":
            n = np.maximum(samples, 1.0)
            share = (np.clip(values, 0.0, 1.0) * n + 0.5) / (n + 1.0)
            return np.log(share / (1 - share))
        return values

    def back(self, judged: Floats) -> Floats:
        if self.name == "log":
            return np.maximum(np.exp(np.minimum(judged, 700.0)) - SMALLEST, 0.0)
        return 1 / (1 + np.exp(-judged)) if self.name == "logit" else judged


@dataclass(frozen=True)
class Profile:
    """What is normal for a series; of a step of ``step_s`` seconds. ``scatter`` is by hour of the local day, shape (24,)."""

    kind: Kind
    step_s: float
    zone: str
    state: State
    season: Season
    coefficients: Floats
    hour: Floats
    memory: int  # blocks of the level
    scatter: Floats
    typical_n: float
    calibration: Calibration

    @property
    def scale(self) -> Scale:
        return Scale.of(self.kind)

    @property
    def unrest_memory(self) -> int:
        """Blocks of which it is known how restless the series is."""
        return max(2 * LEAST_BLOCKS, round(UNREST_S / block_s(self.step_s)))

    def seasonal(self, times: Ints) -> Floats:
        """What comes round, on the judged scale, without the level; shape (times,)."""
        found = seasons.design(self.season, times, self.zone) @ self.coefficients - self.coefficients[0]
        return np.asarray(found + self.hour[seasons.hour_bin(times)])

    def spread(self, times: Ints, samples: Floats) -> Floats:
        """The usual scatter at each time, for so many records behind a value."""
        day, _, _ = seasons.phases(times, self.zone)
        return self.scatter[np.minimum((day * HOURS).astype(np.int64), HOURS - 1)] * inflation(samples, self.typical_n)

    def band(self, location: Floats, spread: Floats, share: float) -> tuple[Floats, Floats]:
        """Between which so much of what is normal lies, in the series' own unit."""
        low, high = (self.calibration.quantile(q) for q in ((1 - share) / 2, (1 + share) / 2))
        return self.scale.back(location + low * spread), self.scale.back(location + high * spread)


def block_s(step_s: float) -> float:
    """Seconds of which one median is taken: a whole number of steps, and not many."""
    return step_s * min(max(1, round(BLOCK_S / step_s)), BLOCK_POINTS)


def inflation(samples: Floats, typical: float) -> Floats:
    """How much more than usual each value scatters that has so many records behind it, elementwise: half of the variance is sampling."""
    ratio = np.clip(typical / np.maximum(samples, 1.0), 0.25, MOST_INFLATED)
    return np.asarray(np.sqrt(1 - SAMPLING + SAMPLING * ratio))


def blocks_of(times: Ints, step_s: float) -> Ints:
    """The number of the block that each time lies in; blocks begin at whole multiples of their length."""
    return times // int(block_s(step_s) * SECOND_NS)


def block_medians(block: Ints, values: Floats) -> tuple[Ints, Floats]:
    """The numbers of all blocks from the first to the last, and the median of each; NaN where nothing is known."""
    first, count = int(block[0]), int(block[-1] - block[0]) + 1
    # Points of a block are next to each other: one row a block, filled up with NaN.
    start = np.searchsorted(block, first + np.arange(count))
    width = int(np.diff(np.r_[start, len(block)]).max())
    table = np.full((count, width), np.nan)
    table[block - first, np.arange(len(block)) - start[block - first]] = values
    return first + np.arange(count), _medians(table)


def _medians(table: Floats) -> Floats:
    """Along the last axis, of what is known; NaN where nothing is."""
    ordered = np.sort(table, axis=-1)  # NaN last
    n = np.isfinite(table).sum(axis=-1)
    low, high = (np.take_along_axis(ordered, np.maximum(k, 0)[..., None], -1)[..., 0] for k in ((n - 1) // 2, n // 2))
    return np.where(n > 0, (low + np.where(n > 0, high, 0.0)) / 2, np.nan)


def levels_before(medians: Floats, memory: int) -> Floats:
    """The level at each block, shape (blocks,): the median of the ``memory`` blocks before it; NaN where fewer than LEAST_BLOCKS of them are known."""
    padded = np.concatenate([np.full(memory, np.nan), medians])[:-1] if len(medians) else medians
    table = np.lib.stride_tricks.sliding_window_view(padded, memory)
    return np.where(np.isfinite(table).sum(axis=1) >= min(LEAST_BLOCKS, memory), _medians(table), np.nan)


def fit(times: Ints, values: Floats, kind: Kind, samples: Floats | None = None, zone: str = "UTC") -> Profile:
    """What is normal for a series of regular ``times`` (ns; a step may be missing).

    ``values`` and ``samples`` (records behind each value) have the shape of ``times``; NaN is what is not known. Raises NotEnoughData
    where fewer than LEAST_POINTS are known.
    """
    n = np.ones(len(times)) if samples is None else samples
    return fit_judged(times, np.where(np.isfinite(values), Scale.of(kind).judged(values, n), np.nan), n, kind, zone)


def fit_judged(times: Ints, y: Floats, n: Floats, kind: Kind, zone: str) -> Profile:
    """The same of values as they are judged (Scale), with the records behind each, all of shape (points,). Raises NotEnoughData."""
    known = np.flatnonzero(np.isfinite(y))
    if len(known) < LEAST_POINTS:
        raise NotEnoughData(f"{len(known)} values are known; at least {LEAST_POINTS} are needed to say what is normal.")
    times, y, n = times[known[0] : known[-1] + 1], y[known[0] : known[-1] + 1], n[known[0] : known[-1] + 1]
    step_s = float(np.median(np.diff(times))) / SECOND_NS
    slow = _Slow.of(times, y, step_s, zone)
    season, memory = slow.choose()
    coefficients = slow.coefficients(season, len(slow.blocks))
    quiet = y - (seasons.design(season, times, zone) @ coefficients - coefficients[0])
    residual = quiet - slow.level(quiet, times, memory)
    hour = _hour_pattern(times, residual, step_s)
    residual = residual - hour[seasons.hour_bin(times)]
    typical = float(np.median(n[np.isfinite(y)]))
    scatter = _scatter(times, residual, Scale.of(kind), zone, seasonal=season.day > 0)
    made = Profile(
        kind, step_s, zone, "seasonal" if season.day else "provisional", season, coefficients, hour, memory, scatter, typical, Calibration.of(np.zeros(2))
    )
    z = residual / made.spread(times, n)
    z = z / unrest(times, z, made)
    known_z = z[np.isfinite(z)]
    return replace(made, calibration=Calibration.of(known_z if len(known_z) >= LEAST_POINTS else NORMAL))


NORMAL = stats.norm.ppf((np.arange(LEAST_POINTS) + 0.5) / LEAST_POINTS)  # residuals of which nothing is known yet


def unrest(times: Ints, z: Floats, profile: Profile) -> Floats:
    """How many times its usual scatter a series has of late, shape (points,), from the blocks before each point; 1 where too little is known."""
    block = blocks_of(times, profile.step_s)
    blocks, medians = block_medians(block, np.abs(z))
    found = levels_before(medians, profile.unrest_memory)[block - blocks[0]] / MEDIAN_Z
    return np.where(np.isfinite(found), np.clip(found, *MOST_UNREST), 1.0)


@dataclass(frozen=True)
class _Slow:
    """A series by blocks, to choose what of its season and memory later days confirm."""

    times: Ints  # of the middle of each block
    blocks: Ints
    medians: Floats
    step_s: float
    zone: str

    @classmethod
    def of(cls, times: Ints, y: Floats, step_s: float, zone: str) -> _Slow:
        blocks, medians = block_medians(blocks_of(times, step_s), y)
        length = int(block_s(step_s) * SECOND_NS)
        return cls(blocks * length + length // 2, blocks, medians, step_s, zone)

    def coefficients(self, season: Season, count: int) -> Floats:
        """Fitted on the first so many blocks."""
        used = np.isfinite(self.medians[:count])
        x = seasons.design(season, self.times[:count], self.zone)
        return seasons.regress(x, np.where(used, self.medians[:count], 0.0), used.astype(np.float64))

    def choose(self) -> tuple[Season, int]:
        """The season whose error on the later part of the history is clearly the least, and the longest memory that is not worse."""
        trained = round(len(self.blocks) * seasons.TRAINED)
        length = block_s(self.step_s)
        memories = list(dict.fromkeys(max(least, round(memory_s / length)) for memory_s, least in MEMORIES))
        errors: dict[tuple[Season, int], float] = {}
        for season in seasons.candidates(len(self.blocks) * length, self.step_s):
            found = self.coefficients(season, trained if season.day else len(self.blocks))
            quiet = self.medians - seasons.design(season, self.times, self.zone) @ found
            for memory in memories:
                error = np.abs(quiet - levels_before(quiet, memory))[trained:]
                errors[season, memory] = float(np.nanmean(error)) if np.isfinite(error).any() else np.inf
        chosen = seasons.NONE
        best = {season: min(errors[season, memory] for memory in memories) for season in {season for season, _ in errors}}
        for season in seasons.candidates(len(self.blocks) * length, self.step_s):
            if best[season] < (1 - seasons.GAIN) * best[chosen]:
                chosen = season
        memory = next(memory for memory in memories if errors[chosen, memory] <= (1 + NOT_WORSE) * best[chosen])
        return chosen, memory

    def level(self, quiet: Floats, times: Ints, memory: int) -> Floats:
        """The level at each point, of values without their season."""
        block = blocks_of(times, self.step_s)
        blocks, medians = block_medians(block, quiet)
        found = levels_before(medians, memory)
        return found[block - blocks[0]]


def _hour_pattern(times: Ints, residual: Floats, step_s: float) -> Floats:
    """As much of the first part of the history as the rest confirms: none where it does not."""
    nothing = np.zeros(seasons.HOUR_BINS)
    trained = round(len(times) * seasons.TRAINED)
    if step_s > HOUR_S / 12 or (times[-1] - times[0]) / SECOND_NS < 10 * HOUR_S:
        return nothing
    early = seasons.hour_pattern(times[:trained], residual[:trained])
    late = residual[trained:]
    with_it, without = (float(np.nanmean(np.abs(late - p))) for p in (early[seasons.hour_bin(times[trained:])], 0.0))
    return seasons.hour_pattern(times, residual) if with_it < (1 - seasons.GAIN) * without else nothing


def _scatter(times: Ints, residual: Floats, scale: Scale, zone: str, seasonal: bool) -> Floats:
    """1.4826 × the median absolute residual, by hour of the day where the day has a season; an hour with few counts with all."""
    size = np.abs(residual)
    known = np.isfinite(size)
    whole = max(1.4826 * float(np.median(size[known])) if known.any() else 0.0, FLOOR[scale.name])
    if whole == 0.0:
        # More than half of the values are the level itself: what the others do is all that is known.
        whole = float(np.sqrt(np.mean(size[known] ** 2))) if known.any() else 0.0
    whole = max(whole, 1e-9)
    found = np.full(HOURS, whole)
    if seasonal:
        day, _, _ = seasons.phases(times, zone)
        hour = np.minimum((day * HOURS).astype(np.int64), HOURS - 1)
        for h in range(HOURS):
            mine = size[(hour == h) & known]
            own = 1.4826 * float(np.median(mine)) if len(mine) else whole
            found[h] = np.sqrt((len(mine) * own**2 + LIKE_ALL * whole**2) / (len(mine) + LIKE_ALL))
    return np.maximum(found, FLOOR[scale.name])
