"""What is normal for one series: level, seasons, scatter and tail, learned from its own history.

Values are judged on a scale of their kind: latencies by their logarithm, rates and counts by one that is a root where they are small and a
logarithm where they are large, shares by their log-odds, levels as they are. What is slow (the level) is the median of the time before; what comes round (the season) is fitted once for the whole
history, as much of it as later days confirm.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Literal

import numpy as np
import numpy.typing as npt
import pandas as pd
from scipy import special, stats

from wirbel.core.errors import NotEnoughData
from wirbel.core.expected import seasons, shares
from wirbel.core.expected.seasons import BLOCK_S, DAY_S, HOUR_S, SECOND_NS, Season
from wirbel.core.expected.tails import Calibration
from wirbel.core.series.series import Kind

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
State = Literal["provisional", "seasonal"]

SMALLEST = 1e-6  # added before a logarithm: zero is a value
LOGARITHMIC: tuple[Kind, ...] = ("quantile", "mean")
COUNTED: tuple[Kind, ...] = ("rate", "count")
ANSCOMBE = 3 / 8  # added to a count
LARGE = 50.0  # count from about which on its scatter is in proportion to it, and its logarithm is judged
MEMORIES = ((DAY_S, 24), (8 * HOUR_S, 16), (2 * HOUR_S, 8), (HOUR_S / 2, 3))  # of the level, s and at least so many blocks: the longest that is not worse
YOUNG_S, YOUNG_MEMORY_S = 2 * DAY_S, 2 * HOUR_S  # a history of which it is not known what the day does; its level is followed closely
NOT_WORSE = 0.5  # of the mean absolute error: a long memory does not follow what goes wrong slowly
LEAST_BLOCKS = 3  # of a level
BLOCK_POINTS = 10
MINUTE_S = 60
UNREST_S = 8 * HOUR_S  # of which it is known how restless the series is of late
MOST_UNREST = (0.4, 3.0)  # times the usual
MEDIAN_Z = 0.6745  # of |z| where z is divided by 1.4826 × the median absolute deviation
LEAST_POINTS = 20  # before anything is said
ALIGNED_NS = 6 * HOUR_S * SECOND_NS  # before and after the first value, by which summaries are moved to it
HOURS = 24
FAR = 9.0  # times the usual step from one block to the next
LEAST_HOURS = 10  # from which it is learned what each hour does
LIKE_ALL = 200.0  # points of all hours that count with those of one, for its scatter
FLOOR = {"log": 0.02, "count": 0.02, "logit": 0.05, "utilization": 0.05, "as it is": 0.0}  # of the scatter: a perfectly steady series still may move
FEW_LEVELS, UNITS, MOST_OF_LIMIT = 16, 1.5, 0.2
"""What is used of a limit by whole units, such as connections of a small pool, takes few values: so many units more or less are little, but no more than this share of the limit."""
SAMPLING = 0.5  # of the variance, that falls with the number of records
MOST_INFLATED = 50.0


@dataclass(frozen=True)
class Scale:
    """How values of a kind are judged, and back; of steps of ``step_s`` seconds."""

    name: Literal["log", "count", "logit", "utilization", "as it is"]
    step_s: float = 1.0
    prior: float = 0.5  # share of what nothing is known of

    @classmethod
    def of(cls, kind: Kind, step_s: float, prior: float = 0.5) -> Scale:
        if kind in COUNTED:
            return cls("count", step_s if kind == "rate" else 1.0)
        if kind in LOGARITHMIC:
            return cls("log", step_s)
        return cls("logit" if kind == "share" else "utilization" if kind == "utilization" else "as it is", step_s, prior)

    def judged(self, values: Floats, samples: Floats) -> Floats:
        """NaN stays NaN. A share is drawn to what is usual by half a record, so that none and all are finite, and few records tell little.

        What is used of a limit is drawn to one half likewise: nothing and all of it are finite, and a little more or less of them is little. Of a count, the inverse hyperbolic sine of its root: the scatter of a negative binomial count is the same at any height (Anscombe, Biometrika 35, 1948).
        """
        if self.name == "log":
            return np.log(SMALLEST + np.maximum(values, 0.0))
        if self.name == "count":
            return 2 * np.arcsinh(np.sqrt((np.maximum(values, 0.0) * self.step_s + ANSCOMBE) / LARGE))
        if self.name == "logit":
            n = np.maximum(samples, 1.0)
            share = (np.clip(values, 0.0, 1.0) * n + 0.5) / (n + 0.5 / self.prior)
            return special.logit(share)
        if self.name == "utilization":
            return special.logit((np.clip(values, 0.0, 1.0) + 0.5) / 2)
        return values

    def back(self, judged: Floats) -> Floats:
        if self.name == "log":
            return np.maximum(np.exp(np.minimum(judged, 700.0)) - SMALLEST, 0.0)
        if self.name == "count":
            return np.maximum(np.sinh(np.clip(judged, 0.0, 600.0) / 2) ** 2 * LARGE - ANSCOMBE, 0.0) / self.step_s
        if self.name == "logit":
            return special.expit(judged)
        return np.clip(2 * special.expit(judged) - 0.5, 0.0, 1.0) if self.name == "utilization" else judged


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
    has_trend: bool = False  # its level is carried on as it rises and falls
    is_floored: bool = False  # it scatters less than what matters
    prior: float = 0.5  # the share of all records of the history
    more_than_chance: float = 1.0  # how many times as much as by chance a share scatters

    @property
    def scale(self) -> Scale:
        return Scale.of(self.kind, self.step_s, self.prior)

    @property
    def unrest_memory(self) -> int:
        """Blocks of which it is known how restless the series is."""
        return max(2 * LEAST_BLOCKS, round(UNREST_S / block_s(self.step_s)))

    @property
    def follows(self) -> bool:
        """Whether its level goes with what lasts for some hours."""
        return self.memory * block_s(self.step_s) < DAY_S

    @property
    def kept_blocks(self) -> int:
        """Of which the level is known."""
        return 2 * half_of(self.memory) if self.has_trend else self.memory

    def levels(self, medians: Floats) -> Floats:
        """The level at each block by those before it, shape (blocks,)."""
        return (levels_on_trend if self.has_trend else levels_before)(medians, self.memory)

    def restless(self, medians: Floats) -> Floats:
        """The median of distances from the level at each block by those before it, shape (blocks,)."""
        return levels_before(medians, self.unrest_memory)

    def level(self, kept: Sequence[float]) -> float:
        """The level after blocks of these medians; NaN where they are too few."""
        if len(kept) < LEAST_BLOCKS:
            return np.nan
        half = half_of(self.memory)
        if not self.has_trend:
            return float(np.median(kept))
        late = np.median(kept[-half:])
        early = kept[-2 * half : -half]
        return float(on_trend(np.asarray(late), np.asarray(np.median(early)), half)) if len(early) >= LEAST_BLOCKS else float(late)

    def seasonal(self, times: Ints) -> Floats:
        """What comes round, on the judged scale, without the level; shape (times,)."""
        return _base(self.season, self.coefficients, times, self.zone) + self.hour[seasons.hour_bin(times)]

    def spread(self, times: Ints, samples: Floats) -> Floats:
        """The usual scatter at each time, for so many records behind a value."""
        usual = self.scatter[_hour(seasons.phases(times, self.zone))]
        # The scale of a count has its sampling in it.
        return usual if self.kind in COUNTED else usual * inflation(samples, self.typical_n)

    def factors(self, restless: Floats) -> Floats:
        """How many times its usual scatter the series has, by medians of its residuals; elementwise, 1 where they are not known."""
        least, most = MOST_UNREST
        return np.where(np.isfinite(restless), np.clip(restless / MEDIAN_Z, 1.0 if self.is_floored else least, most), 1.0)

    @property
    def is_of_records(self) -> bool:
        """Whether it is a share of so many records, and not one of which no number is known."""
        return self.kind == "share" and self.typical_n > 1

    def chances(self, z: Floats, values: Floats, samples: Floats, location: Floats) -> tuple[Floats, Floats]:
        """The probabilities of so high and of so low a value, elementwise; ``z`` is its residual, ``location`` what was expected on the judged scale."""
        if self.is_of_records:
            return shares.chances(values, samples, self.scale.back(location), self.more_than_chance)
        return self.calibration.above(z), self.calibration.below(z)

    def band(self, location: Floats, spread: Floats, share: float) -> tuple[Floats, Floats]:
        """Between which so much of what is normal lies, in the series' own unit."""
        low, high = (self.calibration.quantile(q) for q in ((1 - share) / 2, (1 + share) / 2))
        return self.scale.back(location + low * spread), self.scale.back(location + high * spread)


def _base(season: Season, coefficients: Floats, times: Ints, zone: str) -> Floats:
    """What comes round each day and week: nothing, or looked up for each minute of them that there is."""
    if not season.day:
        return np.zeros(len(times))
    at = seasons.phases(times, zone)
    minute, of_point = np.unique(np.rint(at.week * seasons.WEEK_S).astype(np.int64) // MINUTE_S, return_inverse=True)
    once = np.zeros(len(minute), np.int64)
    once[of_point] = np.arange(len(times))
    design = seasons.design(season, seasons.Phases(at.day[once], at.week[once]))
    # Row by row: the last bits of a matrix product depend on how many rows it has, and so would what is found.
    found = (design * coefficients).sum(axis=1) - coefficients[0]
    return np.asarray(found[of_point], np.float64)


def _hour(at: seasons.Phases) -> Ints:
    return np.minimum((at.day * HOURS).astype(np.int64), HOURS - 1)


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
    return np.asarray(pd.Series(medians).rolling(memory, min_periods=min(LEAST_BLOCKS, memory)).median().shift(1).to_numpy(), np.float64)


def levels_on_trend(medians: Floats, memory: int) -> Floats:
    """The same with the trend of this time carried on, shape (blocks,): the median of its later half, and as much again as it rose since the earlier half."""
    half = half_of(memory)
    late = levels_before(medians, half)
    early = np.r_[np.full(half, np.nan), late][: len(late)]
    return np.where(np.isfinite(early), on_trend(late, early, half), late)


def half_of(memory: int) -> int:
    """Blocks of which a trend has one median."""
    return max(memory // 2, LEAST_BLOCKS)


def on_trend(late: Floats, early: Floats, half: int) -> Floats:
    """Where a line through the medians of two halves, in blocks ``half`` apart, is at the next block; elementwise."""
    return late + (late - early) * (half + 1) / (2 * half)


@dataclass(frozen=True)
class Learned:
    """A profile, and what it says of the history that it was learned from: on the judged scale, of shape (points,); medians of the blocks in their order."""

    profile: Profile
    location: Floats
    z: Floats
    quiet: Floats  # the values without their season; NaN of summaries
    medians: Floats  # of the blocks of the same, and of summaries
    restless: Floats  # of their distance from the level, in usual scatters
    last_block: int


def fit(times: Ints, values: Floats, kind: Kind, samples: Floats | None = None, zone: str = "UTC") -> Profile:
    """What is normal for a series of regular ``times`` (ns; a step may be missing).

    ``values`` and ``samples`` (records behind each value) have the shape of ``times``; NaN is what is not known. Raises NotEnoughData
    where fewer than LEAST_POINTS are known.
    """
    n = np.ones(len(times)) if samples is None else samples
    return learn(times, values, n, kind, zone).profile


def learn(times: Ints, values: Floats, n: Floats, kind: Kind, zone: str, moved: Floats | float = 0.0) -> Learned:
    """The same with what it says of the history; ``moved`` is added to the values on the judged scale. All of shape (points,). Raises NotEnoughData.

    Values of which the records (``n``) are not known are summaries of longer stretches: what comes round is learned from them as well, and the level
    where it was before; how values scatter, and how far their summaries are from them, is told by the others.
    """
    own = np.isfinite(values) & np.isfinite(n)
    known = np.flatnonzero(own)
    if len(known) < LEAST_POINTS:
        raise NotEnoughData(f"{len(known)} values are known; at least {LEAST_POINTS} are needed to say what is normal.")
    step_s = float(np.median(np.diff(times[known[0] :]))) / SECOND_NS
    prior = shares.usual(values[known], n[known]) if kind == "share" and np.median(n[known]) > 1 else 0.5
    scale, typical = Scale.of(kind, step_s, prior), float(np.median(n[known]))
    n = np.where(own, n, typical)
    y = np.where(np.isfinite(values), scale.judged(values, n), np.nan) + moved
    slow = _Slow.of(times, y, step_s, zone, kind in COUNTED)
    season, memory = slow.choose()
    coefficients = slow.coefficients(season)
    base = _base(season, coefficients, times, zone)
    y = _aligned(times, y, base, own)
    residual = y - base - slow.level(y - base, memory)
    hour = _hour_pattern(times, np.where(own, residual, np.nan), step_s)
    if not hour.any() and not own.all():
        hour = _hour_pattern(*_spread_out(times, residual, np.isfinite(y) & ~own, step_s), step_s)
    residual = np.where(own, residual, np.nan)
    seasonal = base + hour[seasons.hour_bin(times)]
    residual = residual - hour[seasons.hour_bin(times)]
    floor = _floor(scale, values[known])
    scatter = _scatter(times, residual, floor, zone, seasonal=season.day > 0)
    state: State = "seasonal" if season.day else "provisional"
    made = Profile(kind, step_s, zone, state, season, coefficients, hour, memory, scatter, typical, Calibration.of(np.zeros(2)), slow.has_trend, prior=prior)
    medians, level = slow.medians_of(y - seasonal), slow.level(y - seasonal, memory)
    usual = made.spread(times, n)
    z = np.where(own, (y - seasonal - level) / usual, np.nan)
    restless = slow.medians_of(np.abs(z))
    made = replace(made, is_floored=bool(floor and np.median(scatter) <= floor))
    z = z / slow.per_point(made.factors(made.restless(restless)))
    known_z = z[np.isfinite(z)]
    calibration = Calibration.of(known_z, at_least_normal=made.is_floored) if len(known_z) >= LEAST_POINTS else Calibration.of(NORMAL)
    made = replace(made, calibration=calibration)
    if kind == "share":
        made = replace(made, more_than_chance=shares.more_than_chance(np.where(own, values, np.nan), n, scale.back(seasonal + level)))
    return Learned(made, seasonal + level, z, np.where(own, y - seasonal, np.nan), medians, restless, int(slow.blocks[-1]))


def _spread_out(times: Ints, values: Floats, summaries: npt.NDArray[np.bool_], step_s: float) -> tuple[Ints, Floats]:
    """Each summary as all the steps that it was made of."""
    first, told = times[summaries], values[summaries]
    step_ns = round(step_s * SECOND_NS)
    count = int(np.median(np.diff(first))) // step_ns if len(first) > 1 else 1
    return (first[:, None] + np.arange(count) * step_ns).ravel(), np.repeat(told, count)


def _aligned(times: Ints, y: Floats, base: Floats, own: npt.NDArray[np.bool_]) -> Floats:
    """Summaries moved to where the series' own values go on: of few records a quantile of ten minutes is not that of one."""
    summaries = np.isfinite(y) & ~own
    if not summaries.any():
        return y
    begin, quiet = times[np.argmax(own)], y - base
    before, after = summaries & (times >= begin - ALIGNED_NS), own & (times < begin + ALIGNED_NS)
    offset = float(np.median(quiet[after]) - np.median(quiet[before])) if before.any() else 0.0
    return np.where(summaries, y + offset, y)


NORMAL = stats.norm.ppf((np.arange(LEAST_POINTS) + 0.5) / LEAST_POINTS)  # residuals of which nothing is known yet


@dataclass(frozen=True)
class _Slow:
    """A series by blocks, to choose what of its season and memory other days confirm."""

    blocks: Ints
    medians: Floats
    of_point: Ints  # the block that each point is in, by its place
    step_s: float
    phases: seasons.Phases
    has_trend: bool
    far: float  # see :func:`_far`
    designs: dict[Season, Floats] = field(default_factory=dict)

    @classmethod
    def of(cls, times: Ints, y: Floats, step_s: float, zone: str, is_count: bool) -> _Slow:
        block = blocks_of(times, step_s)
        blocks, medians = block_medians(block, y)
        length = int(block_s(step_s) * SECOND_NS)
        medians = medians - _within_hour(blocks, medians, length)
        middle = blocks * length + length // 2
        # People come and go with the day, of which nothing is known yet.
        is_young = len(blocks) * block_s(step_s) < YOUNG_S
        return cls(blocks, medians, block - blocks[0], step_s, seasons.phases(middle, zone), is_count and is_young, _far(medians))

    def levels(self, medians: Floats, memory: int) -> Floats:
        return (levels_on_trend if self.has_trend else levels_before)(medians, memory)

    def coefficients(self, season: Season, but: slice = slice(0)) -> Floats:
        """Fitted on all blocks but those."""
        used = np.isfinite(self.medians)
        used[but] = False
        return seasons.regress(self.design(season), np.where(used, self.medians, 0.0), used.astype(np.float64))

    def design(self, season: Season) -> Floats:
        """Columns of the regression, of the middle of each block; of each season once."""
        if season not in self.designs:
            self.designs[season] = seasons.design(season, self.phases)
        return self.designs[season]

    def choose(self) -> tuple[Season, int]:
        """The season whose error on what it was not learned from is clearly the least, and the longest memory that is not worse."""
        length = block_s(self.step_s)
        parts = [slice(round(begin / length), round(end / length)) for begin, end in seasons.held_out(len(self.blocks) * length)]
        most = YOUNG_MEMORY_S if len(self.blocks) * length < YOUNG_S else DAY_S
        least = YOUNG_MEMORY_S if self.has_trend else 0.0  # of less a trend would be noise
        memories = list(dict.fromkeys(max(blocks, round(memory_s / length)) for memory_s, blocks in MEMORIES if least <= memory_s <= most))
        chosen, quiet, lowest = seasons.NONE, [self.medians] * len(parts), np.inf
        for alike in seasons.candidates(len(self.blocks) * length, self.step_s):
            season = self._likeliest(alike)
            without = [self.medians - self.design(season) @ self.coefficients(season, part) for part in parts] if season.day else quiet
            # A short memory follows what a season would foretell.
            squared = self._squared(self._errors(without, parts, memories[0]))
            if squared < (1 - seasons.GAIN) * lowest:
                chosen, quiet, lowest = season, without, squared
        allowed = 0.0 if most < DAY_S else NOT_WORSE
        errors = [float(np.mean(self._errors(quiet, parts, memory))) for memory in memories]
        return chosen, next(memory for memory, error in zip(memories, errors, strict=True) if error <= (1 + allowed) * min(errors))

    def _errors(self, quiet: Sequence[Floats], parts: Sequence[slice], memory: int) -> Floats:
        """How far the blocks of each part, without the season learned from the others, are from their level; of those that are known."""
        errors = []
        for of_part, part in zip(quiet, parts, strict=True):
            needed = max(part.start - 2 * memory, 0)  # blocks before those that are judged, of which their level is
            lately = of_part[needed : part.stop]
            errors.append(np.abs(lately - self.levels(lately, memory))[part.start - needed :])
        error = np.concatenate(errors)
        return error[np.isfinite(error)] if np.isfinite(error).any() else np.full(1, np.inf)

    def _likeliest(self, alike: Sequence[Season]) -> Season:
        """Of seasons of as many coefficients, the one that leaves the least where it is fitted to a third of the blocks."""
        if len(alike) == 1:
            return alike[0]
        some = np.flatnonzero(np.isfinite(self.medians))[::3]
        at, y = seasons.Phases(self.phases.day[some], self.phases.week[some]), self.medians[some]
        common = seasons.design(replace(alike[0], off_from=None), at)
        left = []
        for season in alike:
            x = np.hstack([common, seasons.apart(season, at, common)])
            left.append(self._squared(np.abs(y - x @ np.linalg.solve(x.T @ x + seasons.RIDGE * np.eye(x.shape[1]), x.T @ y))))
        return alike[int(np.argmin(left))]

    def _squared(self, errors: Floats) -> float:
        """Their mean square: a season that is left out is seen in the hours in which it matters. What is farther off than ``far`` counts as that."""
        return float(np.mean(np.minimum(errors, self.far) ** 2))

    def medians_of(self, values: Floats) -> Floats:
        """Of values at the points, by block."""
        return block_medians(self.of_point, values)[1]

    def level(self, quiet: Floats, memory: int) -> Floats:
        """The level at each point, of values without their season."""
        return self.per_point(self.levels(self.medians_of(quiet), memory))

    def per_point(self, of_blocks: Floats) -> Floats:
        """What is known of each block, at each of its points."""
        return of_blocks[self.of_point]


def _far(medians: Floats) -> float:
    """The farthest error that counts: what went wrong once tells little of what comes round."""
    steps = np.abs(np.diff(medians))
    known = steps[np.isfinite(steps)]
    usual = float(np.median(known)) if len(known) else 0.0
    return FAR * usual or np.inf


def _within_hour(blocks: Ints, medians: Floats, length: int) -> Floats:
    """What blocks that are parts of an hour do in each hour, shape (blocks,): beside it little would be seen of days and weeks."""
    parts = round(HOUR_S * SECOND_NS / length)
    if parts < 3 or len(blocks) < LEAST_HOURS * parts:
        return np.zeros(len(blocks))
    away = medians - pd.Series(medians).rolling(parts, center=True, min_periods=parts // 2).mean().to_numpy()
    found = _medians(np.stack([np.where(blocks % parts == part, away, np.nan) for part in range(parts)]))
    return np.nan_to_num(found - _medians(found))[blocks % parts]


def _hour_pattern(times: Ints, residual: Floats, step_s: float) -> Floats:
    """As much of the first part of the history as the rest confirms: none where it does not."""
    nothing = np.zeros(seasons.HOUR_BINS)
    trained = round(len(times) * seasons.TRAINED)
    if step_s > HOUR_S / 12 or len(times) < 2 or (times[-1] - times[0]) / SECOND_NS < LEAST_HOURS * HOUR_S:
        return nothing
    early = seasons.hour_pattern(times[:trained], residual[:trained])
    late = residual[trained:]
    if not np.isfinite(late).any():
        return nothing
    with_it, without = (float(np.nanmean(np.abs(late - p))) for p in (early[seasons.hour_bin(times[trained:])], 0.0))
    return seasons.hour_pattern(times, residual) if with_it < (1 - seasons.HOUR_GAIN) * without else nothing


def _floor(scale: Scale, values: Floats) -> float:
    """The scatter on the judged scale that a series of such values has at least."""
    levels = np.unique(np.round(values, 6))
    if scale.name != "utilization" or not 1 < len(levels) <= FEW_LEVELS:
        return FLOOR[scale.name]
    little = np.array([0.0, min(UNITS * float(np.diff(levels).min()), MOST_OF_LIMIT)])
    return max(FLOOR[scale.name], float(np.diff(scale.judged(little, np.ones(2)))[0]))


def _scatter(times: Ints, residual: Floats, floor: float, zone: str, seasonal: bool) -> Floats:
    """1.4826 × the median absolute residual, by hour of the day where the day has a season; an hour with few counts with all."""
    size = np.abs(residual)
    known = np.isfinite(size)
    whole = max(1.4826 * float(np.median(size[known])) if known.any() else 0.0, floor)
    if whole == 0.0:
        # More than half of the values are the level itself: what the others do is all that is known.
        whole = float(np.sqrt(np.mean(size[known] ** 2))) if known.any() else 0.0
    whole = max(whole, 1e-9)
    found = np.full(HOURS, whole)
    if seasonal:
        hour = _hour(seasons.phases(times, zone))
        for h in range(HOURS):
            mine = size[(hour == h) & known]
            own = 1.4826 * float(np.median(mine)) if len(mine) else whole
            found[h] = np.sqrt((len(mine) * own**2 + LIKE_ALL * whole**2) / (len(mine) + LIKE_ALL))
    return np.maximum(found, floor)
