"""What is normal for one series: level, seasons, scatter and tail, learned from its own history.

Values are judged on a scale of their kind: latencies by their logarithm, rates and counts by one that is a root where they are small and a
logarithm where they are large, shares by their log-odds, levels as they are. What is slow (the level) is the median of the time before; what comes round (the season) is fitted once for the whole
history, as much of it as later days confirm.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import Literal

import bottleneck
import numpy as np
import numpy.typing as npt
from scipy import special

from wirbel.core.errors import NotEnoughData
from wirbel.core.expected import counts, pulses, seasons, shares
from wirbel.core.expected.blocks import LEAST_BLOCKS, Middles, block_medians, block_s, blocks_of, half_of, levels_before, levels_on_trend, medians, on_trend
from wirbel.core.expected.calendar import BY_UTC, DAY_S, HOUR_S, SECOND_NS, WEEK_S, Calendar, Phases
from wirbel.core.expected.counts import NegativeBinomial
from wirbel.core.expected.scale import COUNTED, Scale
from wirbel.core.expected.seasons import Season
from wirbel.core.expected.tails import Calibration
from wirbel.core.series.series import Kind

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
State = Literal["provisional", "steady", "seasonal", "weekly"]
"""What is known of its days: nothing yet, that they are alike at all hours, what each hour is like, and what the hours of days off are like too."""

MEMORIES = ((DAY_S, 24), (8 * HOUR_S, 16), (2 * HOUR_S, 8), (HOUR_S / 2, 3))  # of the level, s and at least so many blocks: the longest that is not worse
YOUNG_S, YOUNG_MEMORY_S = 2 * DAY_S, 2 * HOUR_S  # a history of which it is not known what the day does; its level is followed closely
RECORDS_OF_LEVEL = 120.0  # that tell a share, in the memory of its level: of fewer it would follow what goes wrong before that can be noticed
NOT_WORSE = 0.5  # of the mean absolute error: a long memory does not follow what goes wrong slowly
MINUTE_S = 60
UNREST_S = 8 * HOUR_S  # of which it is known how restless the series is of late
MOST_UNREST = (0.4, 3.0)  # times the usual
MEDIAN_Z = 0.6745  # of |z| where z is divided by 1.4826 × the median absolute deviation
MEAN_Z = 1.2533  # standard deviations in the mean size of what is normal
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
class Profile:
    """What is normal for a series; of a step of ``step_s`` seconds. ``scatter`` is by hour of the local day, shape (24,)."""

    kind: Kind
    step_s: float
    calendar: Calendar
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
    is_of_units: bool = False  # what matters is more than a unit of the few it is made of
    is_of_records: bool = False  # it is a share of so many records, and not one of which no number is known
    prior: float = 0.5  # the share of all records of the history
    lift: float = 0.0  # see core.expected.shares
    more_than_chance: float = 1.0  # how many times as much as by chance a share scatters
    counts: NegativeBinomial | None = None  # how they scatter, where their mean tells most
    pulses: Floats = field(default_factory=lambda: pulses.NONE)  # what jobs do at the same time of each day: see core.expected.pulses

    @property
    def scale(self) -> Scale:
        return Scale.of(self.kind, self.step_s, self.prior, self.lift)

    @property
    def middles(self) -> Middles:
        return Middles(None if self.counts is None else self.scale)

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

    def levels(self, of_blocks: Floats) -> Floats:
        """The level at each block by the middles of those before it, shape (blocks,)."""
        return levels_on_trend(of_blocks, self.memory) if self.has_trend else self.middles.levels_before(of_blocks, self.memory)

    def restless(self, of_blocks: Floats) -> Floats:
        """The median of distances from the level at each block by those before it, shape (blocks,)."""
        return levels_before(of_blocks, self.unrest_memory)

    def level(self, kept: Sequence[float]) -> float:
        """The level after blocks of these middles; NaN where they are too few."""
        if len(kept) < LEAST_BLOCKS:
            return np.nan
        half = half_of(self.memory)
        if not self.has_trend:
            return self.middles.level(kept)
        late = np.median(kept[-half:])
        early = kept[-2 * half : -half]
        return float(on_trend(np.asarray(late), np.asarray(np.median(early)), half)) if len(early) >= LEAST_BLOCKS else float(late)

    def seasonal(self, times: Ints) -> Floats:
        """What comes round, on the judged scale, without the level; shape (times,)."""
        in_hour = self.hour[seasons.hour_bin(times)]
        if not self.season.day and not len(self.pulses):
            return in_hour
        at = self.calendar.phases(times)
        return _base(self.season, self.coefficients, at) + in_hour + pulses.expected(self.pulses, at)

    def spread(self, times: Ints, samples: Floats) -> Floats:
        """The usual scatter at each time, for so many records behind a value."""
        return self.spread_at(self.calendar.phases(times), samples)

    def spread_at(self, at: Phases, samples: Floats) -> Floats:
        """The same at phases of the day, of shape (points,)."""
        # The scale of a count has its sampling in it.
        usual = self.scatter[_hour(at)]
        usual = usual if self.kind in COUNTED else usual * inflation(samples, self.typical_n)
        return pulses.widened(usual, self.pulses, at)

    def factors(self, restless: Floats) -> Floats:
        """How many times its usual scatter the series has, by medians of its residuals; elementwise, 1 where they are not known."""
        if self.counts is not None:  # its own scatter says so
            return np.ones_like(restless)
        least, most = MOST_UNREST
        return np.where(np.isfinite(restless), np.clip(restless / MEDIAN_Z, 1.0 if self.is_floored else least, most), 1.0)

    @property
    def is_by_record(self) -> bool:
        """Whether it is a share or count of so few records that one more or less is a jump."""
        return self.is_of_records or (self.counts is not None and self.counts.usual < counts.JUMPS)

    def chances(self, z: Floats, values: Floats, samples: Floats, location: Floats) -> tuple[Floats, Floats]:
        """The probabilities of so high and of so low a value, elementwise; ``z`` is its residual, ``location`` what was expected on the judged scale."""
        if self.is_of_records:
            return shares.chances(values, samples, self.scale.back(location), self.more_than_chance)
        if self.counts is not None:
            return self.counts.chances(*(self.scale.counted(v) for v in (values, self.scale.back(location))))
        return self.calibration.above(z), self.calibration.below(z)

    def usual_bits(self, samples: Floats, location: Floats) -> tuple[Floats | float, Floats | float]:
        """What values tell on average where nothing is wrong, by :meth:`chances`, as a share of what continuous ones do, elementwise."""
        return shares.usual_bits(samples, self.scale.back(location), self.more_than_chance) if self.is_of_records else (1.0, 1.0)

    def band(self, location: Floats, spread: Floats, samples: Floats, share: float) -> tuple[Floats, Floats]:
        """Between which so much of what is normal lies, in the series' own unit, elementwise; ``samples``: records behind each, 0 where none came."""
        if self.is_of_records:
            expected, behind = self.scale.back(location), np.where(samples > 0, samples, self.typical_n)
            least, most = (shares.quantile(expected, behind, self.more_than_chance, q) for q in ((1 - share) / 2, (1 + share) / 2))
            return least, most
        if self.counts is not None:
            expected = self.scale.counted(self.scale.back(location))
            least, most = (self.scale.per_unit(self.counts.quantile(expected, q)) for q in ((1 - share) / 2, (1 + share) / 2))
            return least, most
        low, high = (self.calibration.quantile(q) for q in ((1 - share) / 2, (1 + share) / 2))
        return self.scale.back(location + low * spread), self.scale.back(location + high * spread)


def _base(season: Season, coefficients: Floats, at: Phases) -> Floats:
    """What comes round each day and week: nothing, or looked up for each minute of them that there is."""
    if not season.day:
        return np.zeros(len(at.day))
    minute, of_point = np.unique(np.rint(seasons.week(season, at) * WEEK_S).astype(np.int64) // MINUTE_S, return_inverse=True)
    once = np.zeros(len(minute), np.int64)
    once[of_point] = np.arange(len(at.day))
    design = seasons.design(season, at.at(once))
    # Row by row: the last bits of a matrix product depend on how many rows it has, and so would what is found.
    found = (design * coefficients).sum(axis=1) - coefficients[0]
    return np.asarray(found[of_point], np.float64)


def _hour(at: Phases) -> Ints:
    return np.minimum((at.day * HOURS).astype(np.int64), HOURS - 1)


def inflation(samples: Floats, typical: float) -> Floats:
    """How much more than usual each value scatters that has so many records behind it, elementwise: half of the variance is sampling."""
    ratio = np.clip(typical / np.maximum(samples, 1.0), 0.25, MOST_INFLATED)
    return np.asarray(np.sqrt(1 - SAMPLING + SAMPLING * ratio))


@dataclass(frozen=True)
class Learned:
    """A profile, and what it says of the history that it was learned from: on the judged scale, of shape (points,); of the blocks in their order."""

    profile: Profile
    location: Floats
    z: Floats
    z_of_summaries: Floats  # NaN of its own values, as ``z`` is of summaries
    summary_points: int  # of a summary
    quiet: Floats  # the values without their season; NaN of summaries
    middles: Floats  # of the blocks of the same, and of summaries
    restless: Floats  # medians of their distance from the level, in usual scatters
    last_block: int


def fit(times: Ints, values: Floats, kind: Kind, samples: Floats | None = None, calendar: Calendar = BY_UTC) -> Profile:
    """What is normal for a series of regular ``times`` (ns; a step may be missing).

    ``values`` and ``samples`` (records behind each value) have the shape of ``times``; NaN is what is not known. Raises NotEnoughData
    where fewer than LEAST_POINTS are known.
    """
    n = np.ones(len(times)) if samples is None else samples
    return learn(times, values, n, kind, calendar).profile


def learn(times: Ints, values: Floats, n: Floats, kind: Kind, calendar: Calendar, moved: Floats | float = 0.0, with_untaught: Floats | None = None) -> Learned:
    """The same with what it says of the history; ``moved`` is added to the values on the judged scale. All of shape (points,). Raises NotEnoughData.

    ``with_untaught`` are the values with those that are to teach nothing else: that the same departs at the same time of each day is learned from them too.

    Values of which the records (``n``) are not known are summaries of longer stretches: what comes round is learned from them as well, and the level
    where it was before; how values scatter, and how far their summaries are from them, is told by the others.
    """
    own = np.isfinite(values) & np.isfinite(n)
    known = np.flatnonzero(own)
    if len(known) < LEAST_POINTS:
        raise NotEnoughData(f"{len(known)} values are known; at least {LEAST_POINTS} are needed to say what is normal.")
    step_s = float(np.median(np.diff(times[known[0] :]))) / SECOND_NS
    is_of_records = kind == "share" and shares.are_of_records(values[known], n[known])
    prior = shares.usual(values[known], n[known]) if is_of_records else 0.5
    scale, typical = Scale.of(kind, step_s, prior), float(np.median(n[known]))
    n = np.where(own, n, typical)
    y = np.where(np.isfinite(values), scale.judged(values, n), np.nan) + moved
    records = counts.records(scale.counted(values[known])) if kind in COUNTED else np.zeros(0)
    by_mean = kind in COUNTED and counts.tell_most_by_mean(records, (times[-1] - times[0]) / SECOND_NS < YOUNG_S)
    are_few = by_mean and records.mean() < counts.JUMPS
    # Of less a trend would be noise, and so would the mean of a few records; and it would follow a sender that falls silent.
    least_memory_s = _memory_of(times[known], n[known]) if is_of_records else YOUNG_MEMORY_S if are_few else 0.0
    slow = _Slow.of(times, y, step_s, calendar, kind in COUNTED, Middles(scale if by_mean else None), least_memory_s)
    season, memory = slow.choose()
    coefficients, at = slow.coefficients(season), calendar.phases(times)
    base = _base(season, coefficients, at)
    y = y if by_mean else _aligned(times, y, base, own)
    without_base = slow.middles_of(y, base)
    before = base + slow.per_point(slow.levels(without_base, memory))
    every = y if with_untaught is None else scale.judged(with_untaught, n) + moved
    # A level that follows closely would take a long pulse for itself.
    slowly = base + slow.per_point(slow.levels(without_base, max(memory, round(DAY_S / block_s(step_s)))))
    daily = pulses.learn(times, at, every - slowly) if pulses.may_be_seen(step_s) else pulses.NONE
    # What comes once a day tells nothing of what each hour does.
    hour = _what_the_hour_does(times, np.where(pulses.is_rare(daily, at), np.nan, y), before, own, step_s, scale if by_mean else None)
    in_hour = hour[seasons.hour_bin(times)]
    if hour.any() and len(daily):
        daily = pulses.learn(times, at, every - slowly - in_hour)
    in_hour = in_hour + pulses.expected(daily, at)
    residual, seasonal = np.where(own, y - before - in_hour, np.nan), base + in_hour
    middles = slow.middles_of(y, seasonal)
    level = slow.per_point(slow.levels(middles, memory))
    floor = _floor(scale, values[known])
    scatter = _scatter(_hour(at), residual, floor, season.day > 0, _scatter_by_mean if by_mean else _scatter_of)
    made = Profile(
        kind,
        step_s,
        calendar,
        _state(season, times),
        season,
        coefficients,
        hour,
        memory,
        scatter,
        typical,
        Calibration.of(np.zeros(2)),
        slow.has_trend,
        is_of_records=is_of_records,
        prior=prior,
        pulses=daily,
    )
    if by_mean:
        made = replace(made, counts=NegativeBinomial.of(*(scale.counted(v) for v in (np.where(own, values, np.nan), scale.back(seasonal + level)))))
    away = (y - seasonal - level) / made.spread_at(at, n)
    z = np.where(own, away, np.nan)
    restless = block_medians(slow.of_point, np.abs(z))
    is_floored = bool(floor and np.median(scatter) <= floor)
    made = replace(made, is_floored=is_floored, is_of_units=is_floored and floor > FLOOR[scale.name])
    z = z / slow.per_point(made.factors(made.restless(restless)))
    known_z = z[np.isfinite(z)]
    calibration = Calibration.of(known_z, at_least_normal=made.is_floored) if len(known_z) >= LEAST_POINTS else Calibration.of(NORMAL)
    made = replace(made, calibration=calibration)
    if is_of_records:
        told = np.where(own, values, np.nan)
        made = replace(made, lift=shares.lift(told, n, scale.back(seasonal + level)))
        made = replace(made, more_than_chance=shares.more_than_chance(told, n, made.scale.back(seasonal + level)))
    return Learned(
        profile=made,
        location=seasonal + level,
        z=z,
        z_of_summaries=np.where(own, np.nan, away),
        summary_points=_summary_points(times[np.isfinite(y) & ~own], step_s),
        quiet=np.where(own, y - seasonal, np.nan),
        middles=middles,
        restless=restless,
        last_block=int(slow.blocks[-1]),
    )


def _spread_out(times: Ints, values: Floats, summaries: npt.NDArray[np.bool_], step_s: float) -> tuple[Ints, Floats]:
    """Each summary as all the steps that it was made of."""
    first, told = times[summaries], values[summaries]
    count, step_ns = _summary_points(first, step_s), round(step_s * SECOND_NS)
    return (first[:, None] + np.arange(count) * step_ns).ravel(), np.repeat(told, count)


def _summary_points(times: Ints, step_s: float) -> int:
    """Steps that a summary stands for, by the times of all of them."""
    return max(1, int(np.median(np.diff(times))) // round(step_s * SECOND_NS)) if len(times) > 1 else 1


def _aligned(times: Ints, y: Floats, base: Floats, own: npt.NDArray[np.bool_]) -> Floats:
    """Summaries moved to where the series' own values go on: of few records a quantile of ten minutes is not that of one."""
    summaries = np.isfinite(y) & ~own
    if not summaries.any():
        return y
    begin, quiet = times[np.argmax(own)], y - base
    before, after = summaries & (times >= begin - ALIGNED_NS), own & (times < begin + ALIGNED_NS)
    offset = float(np.median(quiet[after]) - np.median(quiet[before])) if before.any() else 0.0
    return np.where(summaries, y + offset, y)


NORMAL = special.ndtri((np.arange(LEAST_POINTS) + 0.5) / LEAST_POINTS)  # residuals of which nothing is known yet


def _memory_of(times: Ints, records: Floats) -> float:
    """The shortest memory of the level (s) in which RECORDS_OF_LEVEL of a share's records come, or the longest there is."""
    pace = float(records.sum()) / (float(times[-1] - times[0]) / SECOND_NS)
    memories = [memory_s for memory_s, _ in reversed(MEMORIES)]
    return next((memory_s for memory_s in memories if pace * memory_s >= RECORDS_OF_LEVEL), memories[-1])


@dataclass(frozen=True)
class _Slow:
    """A series by blocks, to choose what of its season and memory other days confirm."""

    blocks: Ints
    of_blocks: Floats  # their middles
    of_point: Ints  # the block that each point is in, by its place
    step_s: float
    phases: Phases
    has_trend: bool
    least_memory_s: float
    far: float  # see :func:`_far`
    middles: Middles
    designs: dict[Season, Floats] = field(default_factory=dict)

    @classmethod
    def of(cls, times: Ints, y: Floats, step_s: float, calendar: Calendar, is_count: bool, middles: Middles, least_memory_s: float) -> _Slow:
        block = blocks_of(times, step_s)
        found = middles.of_blocks(block, y, y)
        blocks, length = block[0] + np.arange(len(found)), int(block_s(step_s) * SECOND_NS)
        found = found - _within_hour(blocks, found, length)
        middle = blocks * length + length // 2
        # People come and go with the day, of which nothing is known yet.
        is_young = len(blocks) * block_s(step_s) < YOUNG_S
        has_trend = is_count and is_young and middles.counts is None
        least = YOUNG_MEMORY_S if has_trend else least_memory_s
        return cls(blocks, found, block - blocks[0], step_s, calendar.phases(middle), has_trend, least, _far(found), middles)

    def levels(self, of_blocks: Floats, memory: int) -> Floats:
        return levels_on_trend(of_blocks, memory) if self.has_trend else self.middles.levels_before(of_blocks, memory)

    def coefficients(self, season: Season, but: slice = slice(0)) -> Floats:
        """Fitted on all blocks but those."""
        used = np.isfinite(self.of_blocks)
        used[but] = False
        return seasons.regress(self.design(season), np.where(used, self.of_blocks, 0.0), used.astype(np.float64))

    def design(self, season: Season) -> Floats:
        """Columns of the regression, of the middle of each block; of each season once."""
        if season not in self.designs:
            self.designs[season] = seasons.design(season, self.phases)
        return self.designs[season]

    def choose(self) -> tuple[Season, int]:
        """The season whose error on what it was not learned from is clearly the least, and the longest memory that is not worse."""
        length = block_s(self.step_s)
        parts = [slice(round(begin / length), round(end / length)) for begin, end in seasons.held_out(len(self.blocks) * length)]
        most = max(YOUNG_MEMORY_S, self.least_memory_s) if len(self.blocks) * length < YOUNG_S else DAY_S
        memories = list(dict.fromkeys(max(blocks, round(memory_s / length)) for memory_s, blocks in MEMORIES if self.least_memory_s <= memory_s <= most))
        chosen, quiet, errors, lowest = seasons.NONE, [self.of_blocks] * len(parts), np.zeros(0), np.inf
        for alike in seasons.candidates(len(self.blocks) * length, self.step_s):
            season = self._likeliest(alike)
            without = [self.of_blocks - self.design(season) @ self.coefficients(season, part) for part in parts] if season.day else quiet
            # A short memory follows what a season would foretell.
            found = self._errors(without, parts, memories[0])
            squared = self._squared(found)
            # Of a constant series of which none was held out nothing tells: the first, which is none, holds.
            if not len(errors) or squared < (1 - seasons.GAIN) * lowest:
                chosen, quiet, errors, lowest = season, without, found, squared
        allowed = 0.0 if most < DAY_S else NOT_WORSE
        means = [float(np.mean(of)) for of in (errors, *(self._errors(quiet, parts, memory) for memory in memories[1:]))]
        return chosen, next(memory for memory, mean in zip(memories, means, strict=True) if mean <= (1 + allowed) * min(means))

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
        some = np.flatnonzero(np.isfinite(self.of_blocks))[::3]
        at, y = self.phases.at(some), self.of_blocks[some]
        common = seasons.design(replace(alike[0], off_from=None), at)
        left = []
        for season in alike:
            x = np.hstack([common, seasons.apart(season, at, common)])
            left.append(self._squared(np.abs(y - x @ np.linalg.solve(x.T @ x + seasons.RIDGE * np.eye(x.shape[1]), x.T @ y))))
        return alike[int(np.argmin(left))]

    def _squared(self, errors: Floats) -> float:
        """Their mean square: a season that is left out is seen in the hours in which it matters. What is farther off than ``far`` counts as that."""
        return float(np.mean(np.minimum(errors, self.far) ** 2))

    def middles_of(self, y: Floats, seasonal: Floats) -> Floats:
        """Of values at the points without what is ``seasonal`` in them, by block."""
        return self.middles.of_blocks(self.of_point, y, y - seasonal)

    def per_point(self, of_blocks: Floats) -> Floats:
        """What is known of each block, at each of its points."""
        return of_blocks[self.of_point]


def _far(middles: Floats) -> float:
    """The farthest error that counts: what went wrong once tells little of what comes round."""
    steps = np.abs(np.diff(middles))
    known = steps[np.isfinite(steps)]
    usual = float(np.median(known)) if len(known) else 0.0
    return FAR * usual or np.inf


def _within_hour(blocks: Ints, middles: Floats, length: int) -> Floats:
    """What blocks that are parts of an hour do in each hour, shape (blocks,): beside it little would be seen of days and weeks."""
    parts = round(HOUR_S * SECOND_NS / length)
    if parts < 3 or len(blocks) < LEAST_HOURS * parts:
        return np.zeros(len(blocks))
    away = middles - _means_about(middles, parts)
    found = medians(np.stack([np.where(blocks % parts == part, away, np.nan) for part in range(parts)]))
    return np.nan_to_num(found - medians(found))[blocks % parts]


def _means_about(values: Floats, width: int) -> Floats:
    """Of the ``width`` values about each, shape (values,); NaN where less than half of them are known."""
    around = np.r_[np.full(width // 2, np.nan), values, np.full(width - 1 - width // 2, np.nan)]
    return np.asarray(bottleneck.move_mean(around, width, max(width // 2, 1))[width - 1 :])


def _what_the_hour_does(times: Ints, y: Floats, expected: Floats, own: npt.NDArray[np.bool_], step_s: float, counted: Scale | None) -> Floats:
    """On the judged scale, shape (60,): by the series' own values beyond what was ``expected``, else by its summaries. Of counts, on the scale of these (``counted``), by their means."""
    away = y - expected if counted is None else counted.back(y) - counted.back(expected)
    found = _hour_pattern(times, np.where(own, away, np.nan), step_s, counted is not None)
    if not found.any() and not own.all():
        found = _hour_pattern(*_spread_out(times, away, np.isfinite(y) & ~own, step_s), step_s, counted is not None)
    if counted is None or not found.any():
        return found
    mean = float(np.nanmean(np.where(own, counted.back(expected), np.nan)))
    at_mean = counted.judged(np.array([mean]), np.ones(1))
    return counted.judged(mean + found, np.ones(len(found))) - at_mean


def _hour_pattern(times: Ints, residual: Floats, step_s: float, by_means: bool) -> Floats:
    """As much of the first part of the history as the rest confirms: none where it does not."""
    nothing = np.zeros(seasons.HOUR_BINS)
    trained = round(len(times) * seasons.TRAINED)
    if step_s > HOUR_S / 12 or len(times) < 2 or (times[-1] - times[0]) / SECOND_NS < LEAST_HOURS * HOUR_S:
        return nothing
    early = seasons.hour_pattern(times[:trained], residual[:trained], by_means)
    late = residual[trained:]
    if not np.isfinite(late).any():
        return nothing
    size = np.square if by_means else np.abs
    with_it, without = (float(np.nanmean(size(late - p))) for p in (early[seasons.hour_bin(times[trained:])], 0.0))
    return seasons.hour_pattern(times, residual, by_means) if with_it < (1 - seasons.HOUR_GAIN) * without else nothing


def _state(season: Season, times: Ints) -> State:
    if season.off_from is not None:
        return "weekly"
    if season.day:
        return "seasonal"
    return "steady" if times[-1] - times[0] >= YOUNG_S * SECOND_NS else "provisional"


def _floor(scale: Scale, values: Floats) -> float:
    """The scatter on the judged scale that a series of such values has at least."""
    levels = np.unique(np.round(values, 6))
    if scale.name != "utilization" or not 1 < len(levels) <= FEW_LEVELS:
        return FLOOR[scale.name]
    little = np.array([0.0, min(UNITS * float(np.diff(levels).min()), MOST_OF_LIMIT)])
    return max(FLOOR[scale.name], float(np.diff(scale.judged(little, np.ones(2)))[0]))


def _scatter(hour: Ints, residual: Floats, floor: float, seasonal: bool, of: Callable[[Floats], float]) -> Floats:
    """The scatter of residuals, by hour of the day where the day has a season; an hour with few counts with all."""
    size = np.abs(residual)
    known = np.isfinite(size)
    whole = max(of(size[known]) if known.any() else 0.0, floor)
    if whole == 0.0:
        # More than half of the values are the level itself: what the others do is all that is known.
        whole = float(np.sqrt(np.mean(size[known] ** 2))) if known.any() else 0.0
    whole = max(whole, 1e-9)
    found = np.full(HOURS, whole)
    if seasonal:
        for h in range(HOURS):
            mine = size[(hour == h) & known]
            own = of(mine) if len(mine) else whole
            found[h] = np.sqrt((len(mine) * own**2 + LIKE_ALL * whole**2) / (len(mine) + LIKE_ALL))
    return np.maximum(found, floor)


def _scatter_of(sizes: Floats) -> float:
    """Of residuals of such sizes: 1.4826 × their median."""
    return 1.4826 * float(np.median(sizes))


def _scatter_by_mean(sizes: Floats) -> float:
    """The same of counts, most of which may be equal: by their mean."""
    return MEAN_Z * float(sizes.mean())
