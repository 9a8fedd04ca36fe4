"""Deviations of one series, point after point: each is judged by what was known before it, whether it is read live or from history.

A profile is learned from the past and learned again as it grows; between, only the level and how restless the series
is follow it, and neither learns from a deviation that is open. One that lasts for very long is taken for the new normal.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt
from scipy import stats

from wirbel.core.deviation import plain
from wirbel.core.deviation.accumulate import STAYS, Budget, Correlation, added
from wirbel.core.deviation.model import Deviation, Direction, Peak
from wirbel.core.errors import NotEnoughData
from wirbel.core.expected import profile as profiles
from wirbel.core.expected.profile import LEAST_BLOCKS, MEDIAN_Z, MOST_UNREST, Profile, Scale
from wirbel.core.expected.seasons import DAY_S, HOUR_S, SECOND_NS
from wirbel.core.series.series import Kind

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
Bools = npt.NDArray[np.bool_]
FIRST, FIRST_BLOCKS = 20, 6  # points that are known, and blocks that they are, before the first profile
GROWN = 1.5  # times its history, after which a profile is learned again, at the latest after a day
HISTORY_S, HISTORY_POINTS = 15 * DAY_S, 1_500  # that is learned from: the longer of both
QUIET_S, QUIET_POINTS, LOUD = 900, 3, 3  # after which a deviation has ended
ACCEPTED_S, ACCEPTED_POINTS = DAY_S, 60  # after which what lasts is the new normal
GAP_S, GAP_POINTS = 300, 3  # without a value, that are always allowed
BAND = 0.99
CLEARLY = 4.0  # times the bits that open a deviation, from which nothing is learned from it
YOUNG_S = 2 * DAY_S  # of history, in which everything teaches
CHI2 = float(stats.chi2.ppf(0.95, 1))


@dataclass(frozen=True)
class Found:
    """Deviations in order of their onset; what was expected of each point and its band (NaN while nothing is known), shape (times,)."""

    deviations: list[Deviation]
    expected: Floats
    low: Floats
    high: Floats
    profile: Profile | None  # the last


def find(times: Ints, values: Floats, kind: Kind = "level", samples: Floats | None = None, budget: Budget | None = None, zone: str = "UTC") -> Found:
    """Deviations of a series of regular ``times`` (ns); ``values`` and ``samples`` (records behind each) of the same shape, NaN where nothing is known."""
    walk = Walk(times, values, np.ones(len(times)) if samples is None else samples, kind, budget or Budget(), zone)
    for begin, end in walk.stretches():
        walk.learn(begin)
        walk.read(begin, end)
    return walk.found()


@dataclass
class _Side:
    """The sum of one direction."""

    direction: Direction
    sign: float
    opens: float = np.inf
    sum: float = 0.0
    began: int = 0  # the point after the one at which the sum was last zero
    opened: int | None = None
    onset: tuple[int, int, int] = (0, 0, 0)
    bits: float = 0.0
    quiet: int = 0
    calm: int = 0  # the point after the one at which it was last not quiet at all


@dataclass
class Walk:
    """A reading of a series: what is known at each point of it, and of what went on before. Taken stretch by stretch: learn, then read."""

    times: Ints
    values: Floats
    samples: Floats
    kind: Kind
    budget: Budget
    zone: str
    profile: Profile | None = None
    deviations: list[Deviation] = field(default_factory=list)

    def __post_init__(self) -> None:
        count = len(self.times)
        self.step_s = float(np.median(np.diff(self.times))) / SECOND_NS if count > 1 else 60.0
        self.y = np.where(np.isfinite(self.values), Scale.of(self.kind).judged(self.values, self.samples), np.nan)
        self.left_out = np.zeros(count, np.bool_)  # from the level
        self.unlearned = np.zeros(count, np.bool_)  # from profiles
        self.z, self.location, self.spread = (np.full(count, np.nan) for _ in range(3))
        self.low_limit, self.high_limit = np.full(count, -np.inf), np.full(count, np.inf)
        self.sides = [_Side("high", 1.0), _Side("low", -1.0)]
        self.levels: deque[float] = deque()
        self.restless: deque[float] = deque()
        self.at, self.missing, self.allowed, self.accepted_in = 0, 0, GAP_POINTS, -1
        self.absent_since: int | None = None
        self.absent_opened = 0
        self.correlation = Correlation.of(np.zeros(2))
        self.limits = (-np.inf, np.inf)
        self.band = np.full((3, count), np.nan)

    def points(self, seconds: float, least: int) -> int:
        return max(least, round(seconds / self.step_s))

    def stretches(self) -> Iterator[tuple[int, int]]:
        """Stretches [begin, end) of points that are read with one profile, learned from what is before them."""
        known = np.flatnonzero(np.isfinite(self.y))
        first = max(FIRST, round(FIRST_BLOCKS * profiles.block_s(self.step_s) / self.step_s))
        if len(known) <= first:
            return
        begin, a_day = int(known[first]), self.points(DAY_S, 50)
        while begin < len(self.times):
            end = min(len(self.times), begin + max(1, min(a_day, int(begin * (GROWN - 1)))))
            yield begin, end
            begin = end

    # Learning.

    def learn(self, at: int) -> None:
        """A profile from the points before ``at``, and the state that follows it there."""
        first = max(0, at - self.points(HISTORY_S, HISTORY_POINTS))
        past = slice(first, at)
        open_since = min((side.onset[0] for side in self.sides if side.opened is not None), default=at)
        left_out = self.unlearned[past] | (np.arange(first, at) >= open_since)
        try:
            y = np.where(left_out, np.nan, self.y[past])
            self.profile = profiles.fit_judged(self.times[past], y, self.samples[past], self.kind, self.zone)
        except NotEnoughData:
            if self.profile is None:
                return
        profile, times = self.profile, self.times[past]
        quiet = np.where(left_out, np.nan, self.y[past]) - profile.seasonal(times)
        blocks = profiles.blocks_of(times, profile.step_s)
        numbers, medians = profiles.block_medians(blocks, quiet)
        level = profiles.levels_before(medians, profile.memory)[blocks - numbers[0]]
        z = (quiet - level) / profile.spread(times, self.samples[past])
        _, restless = profiles.block_medians(blocks, np.abs(z))
        z = z / profiles.unrest(times, z, profile)
        # A block that is not over yet counts when it is.
        whole = len(medians) - (1 if blocks[-1] == profiles.blocks_of(self.times[at - 1 : at] + int(self.step_s * SECOND_NS), profile.step_s)[0] else 0)
        self.levels = deque(_known(medians[:whole]), maxlen=profile.memory)
        self.restless = deque(_known(restless[:whole]), maxlen=profile.unrest_memory)
        self.correlation = Correlation.of(z)
        for side, gains in zip(self.sides, self._gains(z), strict=True):
            side.opens = Budget(self.budget.a_week / 2).opens(gains[np.isfinite(z)], self.step_s)
        known = self.values[past][~left_out]
        self.limits = plain.limits(known)
        self.allowed = max(self.points(GAP_S, GAP_POINTS), 2 * _longest_gap(np.isfinite(self.y[past])))

    # Reading.

    def read(self, begin: int, end: int) -> None:
        profile = self.profile
        if profile is None:
            return
        part = slice(begin, end)
        seasonal, spread = profile.seasonal(self.times[part]), profile.spread(self.times[part], self.samples[part])
        self.low_limit[part], self.high_limit[part] = self.limits
        blocks = profiles.blocks_of(self.times[part], profile.step_s)
        edges = np.r_[0, np.flatnonzero(np.diff(blocks)) + 1, end - begin]
        for a, b in zip(edges[:-1].tolist(), edges[1:].tolist(), strict=True):
            rows = slice(begin + a, begin + b)
            level, restless = _middle(self.levels), _middle(self.restless)
            factor = float(np.clip(restless / MEDIAN_Z, *MOST_UNREST)) if np.isfinite(restless) else 1.0
            self.location[rows], self.spread[rows] = level + seasonal[a:b], spread[a:b] * factor
            self.z[rows] = (self.y[rows] - self.location[rows]) / self.spread[rows]
            self._judge(rows)
            used = ~self.left_out[rows]
            self._remember(self.levels, (self.y[rows] - seasonal[a:b])[used])
            self._remember(self.restless, np.abs(self.z[rows] * factor)[used])
        low, high = profile.band(self.location[part], self.spread[part], BAND)
        self.band[:, part] = profile.scale.back(self.location[part]), low, high

    @staticmethod
    def _remember(kept: deque[float], values: Floats) -> None:
        """What is not known, or belongs to a deviation, changes nothing: the level stays as it was."""
        if len(known := _known(values)):
            kept.append(float(np.median(known)))

    def _gains(self, z: Floats) -> list[Floats]:
        """Bits that points add to the sum of each side."""
        profile, jumps = self.profile, self.correlation.jumps
        assert profile is not None
        jump = self.correlation.jump_before(z)
        with np.errstate(invalid="ignore"):
            return [
                added(_p(profile.calibration.above, z), _p(jumps.above, jump), z > STAYS, self.correlation.tells),
                added(_p(profile.calibration.below, z), _p(jumps.below, jump), z < -STAYS, self.correlation.tells),
            ]

    def _judge(self, rows: slice) -> None:
        z = self.z[rows]
        known = np.isfinite(z)
        first = max(rows.start - 2, 0)
        gains = [all_[rows.start - first :] for all_ in self._gains(self.z[first : rows.stop])]
        for n, at in enumerate(range(rows.start, rows.stop)):
            self.at = at
            self._watch_gap(at)
            for side, gain in zip(self.sides, gains, strict=True):
                # Once a new level is accepted, the next block is the first to be judged by it.
                if known[n] and at > self.accepted_in:
                    self._step(side, at, float(gain[n]), rows.stop - 1)
            if any(side.opened is not None for side in self.sides):
                self.left_out[at] = True

    def _step(self, side: _Side, at: int, gain: float, last: int) -> None:
        if side.opened is None:
            side.sum = max(0.0, side.sum + gain)
            if side.sum == 0.0:
                side.began = at + 1
            elif side.sum >= side.opens:
                side.opened, side.bits, side.quiet, side.calm = at, side.sum, 0, at + 1
                side.onset = self._onset(side, at)
                self.left_out[side.onset[0] : at + 1] = True
            return
        side.bits += max(gain, 0.0)
        # One in ten is loud where nothing is wrong: it takes back what some quiet ones gave.
        side.quiet = side.quiet + 1 if side.sign * self.z[at] < STAYS else max(side.quiet - LOUD, 0)
        if side.quiet == 0:
            side.calm = at + 1
        if side.quiet >= self.points(QUIET_S, QUIET_POINTS):
            self._close(side, side.calm)
        elif at - side.onset[0] >= self.points(ACCEPTED_S, ACCEPTED_POINTS):
            self._accept(side, at)
            self.accepted_in = last

    def _onset(self, side: _Side, at: int) -> tuple[int, int, int]:
        """The point from which on the level most likely was another, and the first and last that may be it as well (likelihood ratio, 95 %)."""
        first = max(side.began - QUIET_POINTS, 0)
        z = np.nan_to_num(self.z[first : at + 1]) * side.sign
        count = np.arange(len(z), 0, -1)
        total = np.cumsum(z[::-1])[::-1]
        gained = np.where(total > 0, total**2 / count, 0.0)
        may = np.flatnonzero(gained >= gained.max() - CHI2)
        return first + int(np.argmax(gained)), first + int(may[0]), first + int(may[-1])

    def _close(self, side: _Side, ended: int | None) -> None:
        self.deviations.append(self._made(side, ended))
        last = len(self.times) if ended is None else ended
        # To leave out all that opened would cut off the tail that the next profile is to know.
        if side.bits >= CLEARLY * side.opens and side.onset[0] > self.points(YOUNG_S, FIRST):
            self.unlearned[side.onset[0] : last] = True
        side.opened, side.sum, side.quiet = None, 0.0, 0
        if ended is not None and all(other.opened is None for other in self.sides):
            self.left_out[ended:] = False
        side.began = len(self.times) if ended is None else self.at + 1

    def _accept(self, side: _Side, at: int) -> None:
        """What has lasted for so long is normal now: the level begins anew with the last of it."""
        profile, onset = self.profile, side.onset[0]
        assert profile is not None
        self._close(side, at)
        quiet = self.y[onset : at + 1] - profile.seasonal(self.times[onset : at + 1])
        level = float(np.nanmedian(quiet[-self.points(2 * HOUR_S, ACCEPTED_POINTS // 2) :]))
        # What was before is moved along: its seasons and scatter hold on, its level does not.
        self.y[:onset] += level - _middle(self.levels)
        self.left_out[onset : at + 1] = self.unlearned[onset : at + 1] = False
        self.levels = deque([level] * LEAST_BLOCKS, maxlen=profile.memory)

    def _made(self, side: _Side, ended: int | None) -> Deviation:
        profile = self.profile
        assert profile is not None
        assert side.opened is not None
        onset, low, high = side.onset
        last = len(self.times) if ended is None else ended
        inside = np.nan_to_num(self.z[onset:last], nan=-np.inf if side.sign > 0 else np.inf)
        top = onset + int(np.argmax(inside * side.sign))
        return Deviation(
            direction=side.direction,
            onset=int(self.times[onset]),
            onset_low=int(self.times[low]),
            onset_high=int(self.times[high]),
            opened=int(self.times[side.opened]),
            ended=None if ended is None else int(self.times[min(ended, len(self.times) - 1)]),
            peak=self._peak(top, float(self.values[top])),
            bits=side.bits,
            threshold_at=self._threshold_at(side, onset, last),
            provisional=profile.state != "seasonal",
        )

    def _peak(self, at: int, actual: float | None) -> Peak:
        profile = self.profile
        assert profile is not None
        low, high = profile.band(self.location[at : at + 1], self.spread[at : at + 1], BAND)
        return Peak(int(self.times[at]), actual, float(profile.scale.back(self.location[at : at + 1])[0]), float(low[0]), float(high[0]))

    def _threshold_at(self, side: _Side, onset: int, last: int) -> int | None:
        part = slice(onset, last)
        low, high = plain.fires(self.values[part], self.low_limit[part], self.high_limit[part], self.step_s)
        fired = np.flatnonzero(high if side.sign > 0 else low)
        return int(self.times[onset + fired[0]]) if len(fired) else None

    def _watch_gap(self, at: int) -> None:
        if np.isfinite(self.y[at]):
            if self.absent_since is not None:
                self._end_absence(at)
            self.missing = 0
            return
        self.missing += 1
        if self.missing > self.allowed and self.absent_since is None:
            self.absent_since = at - self.missing + 1
            self.absent_opened = at

    def _end_absence(self, ended: int | None) -> None:
        since = self.absent_since
        assert since is not None
        self.deviations.append(
            Deviation(
                direction="absent",
                onset=int(self.times[since]),
                onset_low=int(self.times[max(since - 1, 0)]),
                onset_high=int(self.times[since]),
                opened=int(self.times[self.absent_opened]),
                ended=None if ended is None else int(self.times[ended]),
                peak=self._peak(since, None),
                bits=0.0,
                threshold_at=None,
                provisional=self.profile is None or self.profile.state != "seasonal",
            )
        )
        self.absent_since = None

    def found(self) -> Found:
        for side in self.sides:
            if side.opened is not None:
                self._close(side, None)
        if self.absent_since is not None:
            self._end_absence(None)
        expected, low, high = self.band
        return Found(sorted(self.deviations, key=lambda one: one.onset), expected, low, high, self.profile)


def _p(of: Callable[[Floats], Floats], z: Floats) -> Floats:
    known = np.isfinite(z)
    return np.where(known, of(np.where(known, z, 0.0)), np.nan)


def _known(values: Floats) -> Floats:
    return values[np.isfinite(values)]


def _middle(kept: deque[float]) -> float:
    return float(np.median(kept)) if len(kept) >= LEAST_BLOCKS else np.nan


def _longest_gap(known: Bools) -> int:
    place = np.flatnonzero(known)
    return int(np.diff(place).max()) - 1 if len(place) > 1 else 0
