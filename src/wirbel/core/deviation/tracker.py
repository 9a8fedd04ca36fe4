"""One series followed point after point: each is judged by what was known before it, whether it is read live or from history.

A profile is learned from the past when that is due; between, only the level and how restless the series is follow it, and neither
learns from a deviation that is open. One that lasts for very long is taken for the new normal. A tracker remembers no more than it
needs to go on: how its points are cut into readings changes nothing of what it finds.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np
import numpy.typing as npt

from wirbel.core.deviation import onset as onsets
from wirbel.core.deviation import plain
from wirbel.core.deviation.accumulate import MOST, MOST_OF_RECORDS, STAYS, Budget, Correlation, added, stay, sums
from wirbel.core.deviation.model import Deviation, Mark, Peak
from wirbel.core.deviation.points import Expected, Points
from wirbel.core.deviation.read_points import Reading, Recent, Side
from wirbel.core.deviation.unlearned import Unlearned
from wirbel.core.deviation.usual_level import UsualLevel
from wirbel.core.errors import NotEnoughData
from wirbel.core.expected import profile as profiles
from wirbel.core.expected import shares
from wirbel.core.expected.blocks import LEAST_BLOCKS, block_medians, block_s, blocks_of
from wirbel.core.expected.calendar import BY_UTC, DAY_S, HOUR_S, SECOND_NS, WEEK_S, Calendar
from wirbel.core.expected.profile import Learned, Profile
from wirbel.core.expected.scale import Scale
from wirbel.core.series.series import Kind

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
Bools = npt.NDArray[np.bool_]
FIRST, FIRST_BLOCKS = 20, 6  # points that are known, and blocks that they are, before the first profile
GROWN = 1.5  # times its history, after which a profile is learned again, at the latest after a day
GROWN_FROM_SUMMARIES = 3.0  # the same where the day was known before
HISTORY_S, HISTORY_POINTS = 15 * DAY_S, 1_500  # that is learned from: the longer of both
QUIET_S, QUIET_POINTS, LOUD = 900, 3, 3  # after which a deviation has ended
MOST_QUIET_S = HOUR_S  # that are waited for, where a point is like the one before
LOUD_SHARE = 0.1  # of the points, where nothing is wrong
ACCEPTED_S, ACCEPTED_POINTS = DAY_S, 60  # after which what lasts is the new normal
ACCEPTED_YOUNG_S = 2 * HOUR_S  # where it is not known yet what the day does
YOUNG_MORE = 1.5  # times as many bits open there
NEW_MORE = 1.25  # and where only summaries tell what the day does: few minutes tell how minutes scatter
GAP_S, GAP_POINTS = 300, 3  # without a value, that are always allowed
BAND = 0.99
SETTLED_S = 4 * DAY_S  # of a history, from which on the level of a day is compared with where it usually lies
CLEARLY = 4.0  # times the bits that open a deviation, from which nothing is learned from it
CLEARLY_YOUNG = 8.0  # and before it is known what the day does
KEPT_POINTS = 480  # of the past, in which an onset is looked for


@dataclass
class Tracker:
    """What is known of a series at the point that it has been read to.

    ``phase_s``: the time of day at which it learns anew, once it has a day. ``only_high``: that it falls is no trouble.
    """

    kind: Kind
    step_s: float
    budget: Budget = field(default_factory=Budget)
    calendar: Calendar = BY_UTC
    phase_s: float | None = None
    only_high: bool = False
    profile: Profile | None = None
    begun: int | None = None  # time of the first point, ns
    knows_from: int | None = None  # time of the first value that the profile was learned from: a summary may be older
    until: int = 0  # of the next one
    known: int = 0  # points that were, up to the first profile
    learns_at: int | None = None  # time before which the next profile is due
    recent: Recent = field(default_factory=Recent)
    sides: list[Side] = field(default_factory=lambda: [Side("high"), Side("low")])
    levels: list[float] = field(default_factory=list)
    restless: list[float] = field(default_factory=list)
    correlation: Correlation = field(default_factory=lambda: Correlation.of(np.zeros(2)))
    usual_level: UsualLevel | None = None  # where that is known apart from the level that it follows
    limits: tuple[float, float] = (-np.inf, np.inf)
    allowed: int = GAP_POINTS  # points without a value
    missing: int = 0
    absent: Deviation | None = None
    is_gone: bool = False  # it has been silent for so long that this is normal now
    unlearned: Unlearned = field(default_factory=Unlearned)
    set_aside: Unlearned = field(default_factory=Unlearned)  # what is not learned from before it is known what the day does: it may come round
    moved: list[tuple[int, float]] = field(default_factory=list)  # what is before such a time is moved by so much: another level was accepted
    block: int = -1  # that is being read, and the first of its recent points
    block_from: int = 0
    accepted_in: int = -1  # block in which another level was accepted, which holds from the next on
    accepted_level: float | None = None
    ended: list[Deviation] = field(default_factory=list)  # since they were last taken

    def points(self, seconds: float, least: int) -> int:
        return max(least, round(seconds / self.step_s))

    @property
    def step_ns(self) -> int:
        return round(self.step_s * SECOND_NS)

    @property
    def first_points(self) -> int:
        """That are known before the first profile."""
        return max(FIRST, round(FIRST_BLOCKS * block_s(self.step_s) / self.step_s))

    @property
    def _quiet_points(self) -> int:
        """After which a deviation has ended; where it is judged by its usual level too, as many as one that is news, as a point is like the one before."""
        quiet = self.points(QUIET_S, QUIET_POINTS)
        return quiet if self.usual_level is None else max(quiet, min(round(1 / self.correlation.tells), self.points(MOST_QUIET_S, QUIET_POINTS)))

    @property
    def is_open(self) -> bool:
        return self.absent is not None or any(side.open is not None for side in self.sides)

    def opened(self) -> list[Deviation]:
        """Those that go on, in order of their onset."""
        found = [one for one in (*(side.open for side in self.sides), self.absent) if one is not None]
        return sorted(found, key=lambda one: one.onset)

    def take_ended(self) -> list[Deviation]:
        """Those that have ended since this was last asked."""
        found, self.ended = self.ended, []
        return found

    def follow(self, points: Points, past: Callable[[int, int], Points]) -> Expected:
        """Reads points that begin where the last ones ended, and learns when that is due: from what ``past`` gives of a time [from, to)."""
        parts, at = [], 0
        while at < len(points.times):
            if self.learns_at is not None and self.until >= self.learns_at:
                self._learn(past(self.until - self.points(HISTORY_S, HISTORY_POINTS) * self.step_ns, self.until))
            stop = at + self._reads_to(points.part(at, len(points.times)))
            parts.append(self._read(points.part(at, stop)))
            at = stop
        return Expected.joined(parts)

    @classmethod
    def after(cls, other: Tracker, step_s: float) -> Tracker:
        """One that goes on with the same series in other steps: it learns from its past as soon as that is long enough, and finds nothing in it again."""
        made = cls(other.kind, step_s, other.budget, other.calendar, other.phase_s, other.only_high, begun=other.begun, until=other.until)
        made.unlearned, made.set_aside = other.unlearned, other.set_aside
        made.known = 0 if other.begun is None else (other.until - other.begun) // made.step_ns
        made.learns_at = made.until if made.known >= made.first_points else None
        return made

    def mark(self, how: Mark | None, onset: int, ended: int | None) -> None:
        """What a person says of a deviation (times in ns): ``expected`` and nothing is learned from it, ``noise`` and the series learns that it does
        so, ``new normal`` and its level is what holds from now on; None takes that back. It learns anew at the next point."""
        for left_out in (self.unlearned, self.set_aside):
            left_out.forget_within(onset, ended or self.until)
        side = next((side for side in self.sides if side.open is not None and side.open.onset == onset), None)
        last = len(self.recent.times) - 1
        if how == "expected":
            self.unlearned.add(onset, ended or self.until)
        elif side is not None and how == "new normal":
            self._accept(side, last)
            self.accepted_in = self.block
        elif side is not None and how == "noise":
            self._close(side, last, last, teaches=True)
            self.recent.left_out[self.recent.times >= onset] = False
        self.learns_at = self.until

    def live_by(self, calendar: Calendar) -> None:
        """Whose days and weeks it has from now on. It learns anew within the hour, each at another minute: there may be many."""
        if calendar == self.calendar:
            return
        self.calendar = calendar
        if self.profile is not None:
            within_hour = round((self.phase_s or 0.0) % HOUR_S / self.step_s) * self.step_ns
            self.learns_at = min(self.until + within_hour, self.learns_at or self.until)

    def _reads_to(self, points: Points) -> int:
        """How many of the points come before the next learning."""
        if self.learns_at is not None:
            return int(np.searchsorted(points.times, self.learns_at))
        seen = self.known + np.cumsum(np.isfinite(points.values))
        enough = np.flatnonzero(seen >= self.first_points)
        if not len(enough):
            return len(points.times)
        self.learns_at = int(points.times[enough[0]]) + self.step_ns
        return int(enough[0]) + 1

    def _next_learning(self) -> int:
        assert self.begun is not None
        day = self.points(DAY_S, 50)
        more = GROWN if self.knows_from is None or self.knows_from >= self.begun else GROWN_FROM_SUMMARIES
        grown = int((self.until - self.begun) // self.step_ns * (more - 1))
        if grown < day or self.phase_s is None:
            return self.until + max(1, min(day, grown)) * self.step_ns
        length = day * self.step_ns
        earliest = self.until + length // 2
        return earliest + (round(self.phase_s * SECOND_NS) - earliest) % length

    # Learning.

    def _learn(self, past: Points) -> None:
        """A profile from the past, and the state that follows it here."""
        past = past.part(int(np.argmax(np.isfinite(past.values))), len(past.times)) if len(past.times) else past
        if len(past.times):
            self.knows_from = int(past.times[0])
        self.learns_at = self._next_learning()
        times, open_since = past.times, min((side.open.onset for side in self.sides if side.open is not None), default=self.until)
        unlearned = self.unlearned.hold(times)
        if self._is_young(self.until):
            unlearned |= self.set_aside.hold(times)
        left_out = unlearned | (times >= open_since)
        taught, samples = np.where(left_out, np.nan, past.values), np.where(past.is_summary, np.nan, np.nan_to_num(past.samples))
        moved = np.sum([np.where(times < before, by, 0.0) for before, by in self.moved], axis=0) if self.moved else 0.0
        try:
            learned = profiles.learn(times, taught, samples, self.kind, self.calendar, moved, np.where(past.is_summary, np.nan, past.values))
        except NotEnoughData:
            return
        self.profile = profile = learned.profile
        # A block that is not over yet counts when it is.
        over = -1 if blocks_of(np.array([self.until]), self.step_s)[0] == learned.last_block else None
        self.levels = _known(learned.middles[:over])[-profile.kept_blocks :].tolist()
        self.restless = _known(learned.restless[:over])[-profile.unrest_memory :].tolist()
        z = learned.z
        self.correlation = Correlation.of(z, learned.z_of_summaries, learned.summary_points, little=1.0 if profile.is_of_units else 0.0)
        self.usual_level = self._usual_level_of(learned, times, np.nan_to_num(samples))
        chances = profile.chances(z, taught, samples, learned.location)
        for side, gains in zip(self.sides, self._gains(chances, z, profile.usual_bits(samples, learned.location)), strict=True):
            side.opens = self._opens(side, gains[np.isfinite(z)])
            side.loud = max(STAYS, side.sign * profile.calibration.quantile(0.5 + side.sign * (0.5 - LOUD_SHARE)))
        self.limits = plain.limits(taught)
        self.allowed = max(self.points(GAP_S, GAP_POINTS), 2 * _longest_gap(unlearned | (np.isfinite(past.values) & ~past.is_summary)))
        self.block, self.block_from, self.accepted_level = -1, len(self.recent.times), None
        first = past.times[0] if len(past.times) else 0
        self.unlearned.forget_before(first)
        self.moved = [(before, by) for before, by in self.moved if before > first]

    def _usual_level_of(self, learned: Learned, times: Ints, samples: Floats) -> UsualLevel | None:
        """None where too little is known to tell where the level belongs."""
        profile, begun = learned.profile, self.until if self.begun is None else self.begun
        # Summaries of days before scatter less than its own minutes, and the level of a day lies where it usually does until what each day does is surely known.
        least = profiles.YOUNG_S if profile.follows else SETTLED_S
        if self.until - begun < least * SECOND_NS or profile.is_by_record:
            return None
        medians = block_medians(blocks_of(times, self.step_s), learned.quiet)
        weeks = int(np.isfinite(medians).sum()) * block_s(self.step_s) / WEEK_S
        return UsualLevel.of(medians, learned.quiet, profile.spread(times, samples), self._part_of_budget(2), weeks, LOUD_SHARE, self.only_high)

    def _part_of_budget(self, ways: int) -> Budget:
        """Of each direction, where a deviation may open in so many ways."""
        return Budget(self.budget.a_week / (ways if self.only_high else 2 * ways))

    def _opens(self, side: Side, gains: Floats) -> float:
        if self.only_high and side.direction == "low":
            return np.inf
        bits = self._part_of_budget(1 if self.usual_level is None else 2).opens(gains, self.step_s)
        if self._is_young(self.until):
            return bits * YOUNG_MORE
        return bits * (NEW_MORE if self.begun is not None and self.until - self.begun < profiles.YOUNG_S * SECOND_NS else 1.0)

    # Reading.

    def _read(self, points: Points) -> Expected:
        recent, begin = self.recent, len(self.recent.times)
        scale = Scale.of(self.kind, self.step_s) if self.profile is None else self.profile.scale
        samples = np.nan_to_num(points.samples)
        judged = scale.judged(points.values, samples)
        recent.append(points.times, points.values, np.where(np.isfinite(points.values), judged, np.nan), samples)
        end = len(recent.times)
        if self.begun is None:
            self.begun = int(points.times[0])
        self.until = int(points.times[-1]) + self.step_ns
        expected = Expected(*np.full((3, end - begin), np.nan))
        if self.profile is None:
            self.known += int(np.isfinite(points.values).sum())
        else:
            part = slice(begin, end)
            recent.low_limit[part], recent.high_limit[part] = self.limits
            before = np.full(begin, np.nan)
            reading = Reading(
                begin=begin,
                blocks=blocks_of(recent.times, self.step_s),
                seasonal=np.r_[before, self.profile.seasonal(points.times)],
                usual=np.r_[before, self.profile.spread(points.times, samples)],
                samples=np.r_[before, samples],
                unwatched=np.r_[np.zeros(begin, np.bool_), np.isnan(points.samples)],
            )
            self._judge(reading)
            low, high = self.profile.band(recent.told[part], recent.spread[part], samples, BAND)
            expected = Expected(self.profile.scale.back(recent.told[part]), low, high)
        self._forget(max(end - KEPT_POINTS, 0))
        return expected

    def _forget(self, count: int) -> None:
        # What the block that is being read has so far is still needed.
        count = min(count, self.block_from)
        self.recent.drop(count)
        self.block_from -= count
        for side in self.sides:
            side.began, side.calm = max(side.began - count, 0), max(side.calm - count, 0)

    def _judge(self, reading: Reading) -> None:
        blocks, at, end = reading.blocks, reading.begin, len(reading.blocks)
        while at < end:
            waits = self.accepted_level is not None and blocks[at] == self.block
            if not self.is_open and not waits and blocks[end - 1] > blocks[at]:
                at = self._calm(reading, at)
            if at < end:
                stop = at + int(np.searchsorted(blocks[at:], blocks[at], side="right"))
                self._step_through(reading, at, stop)
                at = stop

    def _calm(self, reading: Reading, begin: int) -> int:
        """Reads whole blocks at once, up to the one in which something opens; returns the first point that is not read."""
        recent, profile, blocks, end = self.recent, self._profile, reading.blocks, len(reading.blocks)
        self._enter(int(blocks[begin]), begin)
        if self.is_open:
            return begin
        rows, new, first = slice(self.block_from, end), slice(begin, end), int(blocks[begin])
        recent.quiet[new] = recent.y[new] - reading.seasonal[new]
        used = ~recent.left_out[rows]
        middles = profile.middles.of_blocks(blocks[rows], *(np.where(used, v[rows], np.nan) for v in (recent.y, recent.quiet)))
        location = _followed(self.levels, middles, profile.levels)[blocks[new] - first] + reading.seasonal[new]
        residual = (recent.y[new] - location) / reading.usual[new]
        recent.rough[new] = np.abs(residual)
        restless = block_medians(blocks[rows], np.where(used, recent.rough[rows], np.nan))
        factor = profile.factors(_followed(self.restless, restless, profile.restless))[blocks[new] - first]
        recent.location[new], recent.spread[new], recent.z[new] = location, reading.usual[new] * factor, residual / factor
        recent.told[new] = location
        judged = np.isfinite(recent.z[new]) & (blocks[new] != self.accepted_in)
        gains = self._gains_of(reading, begin, end)
        added_up = [sums(np.r_[side.sum, np.where(judged, gain, 0.0)])[1:] for side, gain in zip(self.sides, gains, strict=True)]
        missing = _run_lengths(np.isfinite(recent.y[new]) | reading.unwatched[new], self.missing)
        eventful = np.isfinite(recent.y[new]) if self.is_gone else missing > self.allowed
        for side, total in zip(self.sides, added_up, strict=True):
            eventful |= total >= side.opens
            # Where a block has ended far away, the next one is the first that knows it.
            eventful |= np.r_[False, self._is_left(middles, side)][blocks[new] - first]
        # The block with the event is left to be read point by point.
        count = int(np.searchsorted(blocks[new], blocks[begin + int(np.argmax(eventful))])) if eventful.any() else end - begin
        if count == 0:
            return begin
        for side, total in zip(self.sides, added_up, strict=True):
            zero = np.flatnonzero(total[:count] == 0.0)
            side.sum = float(total[count - 1])
            side.began = begin + int(zero[-1]) + 1 if len(zero) else side.began
        self.missing = int(missing[count - 1])
        last = int(blocks[begin + count - 1])  # may go on
        self._remember(middles[: last - first], restless[: last - first])
        self.block, self.block_from = last, max(self.block_from, int(np.searchsorted(blocks, last)))
        return begin + count

    def _enter(self, block: int, at: int) -> None:
        """At the first point of a block it is remembered what the one before was like; what is not known, or belongs to a deviation, changes nothing."""
        if block == self.block:
            return
        if self.accepted_level is not None:
            self.levels, self.accepted_level = [self.accepted_level] * LEAST_BLOCKS, None
        recent, rows = self.recent, slice(self.block_from, at)
        y, quiet, rough = (values[rows][~recent.left_out[rows]] for values in (recent.y, recent.quiet, recent.rough))
        level, restless = self._profile.middles.of_one(y, quiet), _median_of(rough)
        self._remember(level, restless)
        ended, self.block, self.block_from = self.block, block, at
        for side in self.sides:
            if not self.is_open and ended != self.accepted_in and self._is_left(level, side).any():
                self._leave(side, at - 1)

    def _is_left(self, medians: Floats, side: Side) -> Bools:
        return np.zeros(len(medians), np.bool_) if self.usual_level is None else self.usual_level.is_left(medians, side.direction)

    def _leave(self, side: Side, at: int) -> None:
        """A deviation by where the level usually is: what was read since it began is judged by that, and so is what comes."""
        assert self.usual_level is not None
        recent, usual = self.recent, self.usual_level
        away = (recent.quiet - usual.middle) / recent.spread
        onset = self._onset(side, side.calm, at, away)
        rows = slice(onset[0], at + 1)
        if recent.times[at] - recent.times[onset[0]] >= self.points(ACCEPTED_S, ACCEPTED_POINTS) * self.step_ns:  # it has long been the new normal
            self.usual_level = replace(usual, middle=float(np.nanmedian(recent.quiet[rows])))
            return
        recent.location[rows], recent.z[rows] = recent.y[rows] - recent.quiet[rows] + usual.middle, away[rows]
        self.levels = [usual.middle] * LEAST_BLOCKS
        side.sum = max(side.sum, side.opens)
        self._open(side, at, onset, usual.reach(side.direction).loud)

    def _remember(self, levels: Floats, restless: Floats) -> None:
        profile = self._profile
        self.levels = [*self.levels, *_known(levels).tolist()][-profile.kept_blocks :]
        self.restless = [*self.restless, *_known(restless).tolist()][-profile.unrest_memory :]

    def _step_through(self, reading: Reading, begin: int, end: int) -> None:
        """Points of one block, one after the other."""
        recent, block, rows = self.recent, int(reading.blocks[begin]), slice(begin, end)
        self._enter(block, begin)
        factor = float(self._profile.factors(_median_of_enough(self.restless))[0])
        recent.quiet[rows] = recent.y[rows] - reading.seasonal[rows]
        recent.location[rows] = recent.told[rows] = self._profile.level(self.levels) + reading.seasonal[rows]
        residual = (recent.y[rows] - recent.location[rows]) / reading.usual[rows]
        recent.rough[rows], recent.spread[rows], recent.z[rows] = np.abs(residual), reading.usual[rows] * factor, residual / factor
        gains, known = self._gains_of(reading, begin, end), np.isfinite(recent.z[rows])
        for n, at in enumerate(range(begin, end)):
            self._watch_gap(at, bool(reading.unwatched[at]))
            for side, gain in zip(self.sides, gains, strict=True):
                # Once a new level is accepted, the next block is the first to be judged by it.
                if known[n] and self.accepted_in != block:
                    self._step(side, at, float(gain[n]), block)
            if any(side.open is not None for side in self.sides):
                recent.left_out[at] = True

    @property
    def _profile(self) -> Profile:
        assert self.profile is not None
        return self.profile

    def _gains_of(self, reading: Reading, begin: int, end: int) -> list[Floats]:
        recent, rows = self.recent, slice(begin, end)
        chances = self._profile.chances(recent.z[rows], recent.values[rows], reading.samples[rows], recent.location[rows])
        return self._gains(chances, recent.z[max(begin - 2, 0) : end], self._profile.usual_bits(reading.samples[rows], recent.location[rows]))

    def _gains(self, chances: tuple[Floats, Floats], z: Floats, usual: tuple[Floats | float, Floats | float]) -> list[Floats]:
        """Bits that points of these chances, and of ``usual`` bits, add to the sum of each side; ``z`` are their residuals, after those before them as far as there are some."""
        jumps, new = self.correlation.jumps, slice(len(z) - len(chances[0]), None)
        jump, stays = self.correlation.jump_before(z)[new], [one[new] for one in stay(z)]
        # How far it jumps says nothing where a record more or less is a jump.
        leaps = (np.full_like(jump, np.nan),) * 2 if self._profile.is_by_record else (jumps.above(jump), jumps.below(jump))
        most = MOST_OF_RECORDS if self._profile.is_of_records else MOST
        return [added(p, leap, there, self.correlation.tells, most, bits) for p, leap, there, bits in zip(chances, leaps, stays, usual, strict=True)]

    def _step(self, side: Side, at: int, gain: float, block: int) -> None:
        if side.open is None:
            side.sum = max(0.0, side.sum + gain)
            if side.sum == 0.0:
                side.began = at + 1
            elif side.sum >= side.opens:
                self._open(side, at, self._onset(side, max(side.began - QUIET_POINTS, 0), at), side.loud)
            return
        self._go_on(side, at, max(gain, 0.0))
        time = int(self.recent.times[at])
        # Some are loud where nothing is wrong: one takes back what some quiet ones gave.
        side.quiet = side.quiet + 1 if self._is_quiet(side, at) else max(side.quiet - self._taken_by_loud(side, at), 0)
        if side.quiet == 0:
            side.calm = at + 1
        if side.quiet >= self._quiet_points:
            self._close(side, side.calm, at)
        elif time - side.open.onset >= self.points(ACCEPTED_YOUNG_S if self._is_young(time) else ACCEPTED_S, ACCEPTED_POINTS) * self.step_ns:
            self._accept(side, at)
            self.accepted_in = block

    def _is_quiet(self, side: Side, at: int) -> bool:
        """Whether a point of an open deviation is as one where nothing is wrong."""
        recent = self.recent
        return side.sign * recent.z[at] <= side.quiet_within and side.sign * (recent.values[at] - side.apart) <= 0

    def _apart(self, side: Side, onset: int, at: int) -> float:
        """The share beyond which records are rather as those that opened a deviation than as those that are normal; none of what is no share of records."""
        none, recent, profile = side.sign * np.inf, self.recent, self._profile
        if not profile.is_of_records:
            return none
        expected, found = self._expected_at(at), shares.usual(np.nan_to_num(recent.values[onset : at + 1]), recent.samples[onset : at + 1])
        return shares.between(expected, found) if side.sign * (found - expected) > 0 else none

    def _expected_at(self, at: int) -> float:
        """In the series' own unit."""
        return float(self._profile.scale.back(self.recent.location[at : at + 1])[0])

    def _taken_by_loud(self, side: Side, at: int) -> int:
        """Quiet points that a loud one takes back: half as many as come between two where nothing is wrong, of which one point in ten is loud at least."""
        if not self._profile.is_of_records or np.isinf(side.apart):
            return LOUD
        expected, apart = ((1 + side.sign * (2 * share - 1)) / 2 for share in (self._expected_at(at), side.apart))
        loud = max(LOUD_SHARE, shares.beyond(apart, self._profile.typical_n, expected, self._profile.more_than_chance))
        return int(np.clip((1 - loud) / (2 * loud), 1, LOUD))

    def _open(self, side: Side, at: int, began: tuple[int, int, int], quiet_within: float) -> None:
        recent, (onset, low, high) = self.recent, began
        side.top, side.beyond, side.quiet, side.calm, side.quiet_within = -np.inf, 0, 0, at + 1, quiet_within
        side.apart = self._apart(side, onset, at)
        provisional = self._profile.state == "provisional"
        side.open = Deviation(
            direction=side.direction,
            onset=int(recent.times[onset]),
            onset_low=int(recent.times[low]),
            onset_high=int(recent.times[high]),
            opened=int(recent.times[at]),
            ended=None,
            peak=self._peak(at),
            bits=side.sum,
            threshold_at=None,
            provisional=provisional,
        )
        recent.left_out[onset : at + 1] = True
        for n in range(onset, at + 1):
            self._go_on(side, n, 0.0)

    def _go_on(self, side: Side, at: int, bits: float) -> None:
        """What one more point of it says of an open deviation."""
        recent = self.recent
        assert side.open is not None
        side.open = replace(side.open, bits=side.open.bits + bits)
        if side.sign * recent.z[at] > side.top:
            side.top = side.sign * float(recent.z[at])
            side.open = replace(side.open, peak=self._peak(at))
        is_beyond = recent.values[at] > recent.high_limit[at] if side.sign > 0 else recent.values[at] < recent.low_limit[at]
        side.beyond = side.beyond + 1 if is_beyond else 0
        if side.open.threshold_at is None and side.beyond >= plain.held(self.step_s):
            side.open = replace(side.open, threshold_at=int(recent.times[at]))

    def _onset(self, side: Side, first: int, at: int, away: Floats | None = None) -> tuple[int, int, int]:
        """The point from which on the level most likely was another, and the first and last that may be it as well, looked for from ``first`` on.

        By how far each recent point is from what was expected, in usual scatters, or ``away`` from somewhere else; shares of records by their numbers.
        """
        recent, profile = self.recent, self._profile
        rows = slice(max(first, at - KEPT_POINTS), at + 1)
        if profile.is_of_records and away is None:
            expected = profile.scale.back(recent.location[rows])
            gained = shares.gained(recent.values[rows], recent.samples[rows], expected, profile.more_than_chance, side.sign)
        else:
            gained = onsets.gained((recent.z if away is None else away)[rows] * side.sign)
        best, low, high = onsets.likeliest(gained, self.correlation.tells)
        return rows.start + best, rows.start + low, rows.start + high

    def _close(self, side: Side, ended: int, at: int, teaches: bool = False) -> None:
        """At the points ``ended`` and now; whether the series learns from it though it was clear."""
        one, when = side.open, int(self.recent.times[min(ended, at)])
        assert one is not None
        fired = one.threshold_at if one.threshold_at is None or one.threshold_at < when else None
        self.ended.append(replace(one, ended=when, threshold_at=fired))
        # To leave out all that opened would cut off the tail that the next profile is to know.
        is_grown = one.onset - self._known_since() > self.points(profiles.YOUNG_S, FIRST) * self.step_ns
        if not teaches and one.bits >= (CLEARLY if is_grown else CLEARLY_YOUNG) * side.opens:
            (self.unlearned if is_grown else self.set_aside).add_deviation(one.onset, when, one.direction)
        side.open, side.sum, side.quiet, side.began = None, 0.0, 0, at + 1
        if all(other.open is None for other in self.sides):
            self.recent.left_out[ended:] = False

    def _is_young(self, time: int) -> bool:
        return time - self._known_since() < profiles.YOUNG_S * SECOND_NS

    def _known_since(self) -> int:
        begun = self.until if self.begun is None else self.begun
        return begun if self.knows_from is None else min(begun, self.knows_from)

    def _accept(self, side: Side, at: int) -> None:
        """What has lasted for so long is normal now: the level begins anew with the last of it."""
        assert side.open is not None
        onset, lately = side.open.onset, self.points(2 * HOUR_S, ACCEPTED_POINTS // 2)
        self._close(side, at, at, teaches=True)
        rows = slice(max(at + 1 - lately, 0), at + 1)
        before, told = self._profile.level(self.levels), self._profile.middles.of_one(self.recent.y[rows], self.recent.quiet[rows])
        level = float(told[0]) if len(told) else before  # who has said nothing lately has no other level to go by
        # What was before is moved along: its seasons and scatter hold on, its level does not.
        self.moved.append((onset, level - before))
        self.recent.left_out[: at + 1] = False
        self.accepted_level = level
        self.usual_level = None if self.usual_level is None else replace(self.usual_level, middle=level)

    def _peak(self, at: int) -> Peak:
        profile, recent = self._profile, self.recent
        where = slice(at, at + 1)
        low, high = profile.band(recent.location[where], recent.spread[where], recent.samples[where], BAND)
        actual = float(recent.values[at])
        return Peak(int(recent.times[at]), actual if np.isfinite(actual) else None, self._expected_at(at), float(low[0]), float(high[0]))

    def _watch_gap(self, at: int, unwatched: bool) -> None:
        times = self.recent.times
        if np.isfinite(self.recent.y[at]):
            if self.absent is not None:
                self.ended.append(replace(self.absent, ended=int(times[at])))
                self.absent = None
            if self.is_gone:  # how long it was away says nothing of gaps that are usual
                self.unlearned.add(int(times[at]) - self.missing * self.step_ns, int(times[at]))
            self.missing, self.is_gone = 0, False
            return
        # Where nobody watched, a silence neither begins nor grows.
        self.missing = 0 if unwatched and self.absent is None else self.missing + (not unwatched)
        if self.absent is not None and times[at] - self.absent.onset >= self.points(ACCEPTED_S, ACCEPTED_POINTS) * self.step_ns:
            self.ended.append(replace(self.absent, ended=int(times[at])))
            self.absent, self.is_gone = None, True
        if self.missing > self.allowed and self.absent is None and not self.is_gone:
            opened, since = int(times[at]), int(times[at]) - (self.missing - 1) * self.step_ns
            peak = replace(self._peak(max(at + 1 - self.missing, 0)), at=since, actual=None)
            before, provisional = since - self.step_ns, self._profile.state == "provisional"
            self.absent = Deviation("absent", since, before, since, opened, None, peak, 0.0, None, provisional)


def _followed(kept: list[float], of_blocks: Floats, before: Callable[[Floats], Floats]) -> Floats:
    """What is known at the begin of each block, shape (blocks,), from what is kept and from the blocks before it that are known."""
    known = np.isfinite(of_blocks)
    return before(np.r_[kept, of_blocks[known], np.nan])[len(kept) + np.cumsum(known) - known]


def _run_lengths(known: Bools, before: int) -> Ints:
    """How many points up to each were not known, shape (points,); ``before`` were not before the first."""
    place = np.arange(len(known))
    return np.asarray(place - np.maximum.accumulate(np.where(known, place, -1 - before)))


def _known(values: Floats) -> Floats:
    return values[np.isfinite(values)]


def _median_of(values: Floats) -> Floats:
    """Of what is known: one value, or none."""
    told = _known(values)
    return np.array([np.median(told)]) if len(told) else told


def _median_of_enough(kept: list[float]) -> Floats:
    """One value; NaN where too few are known."""
    return np.array([np.median(kept) if len(kept) >= LEAST_BLOCKS else np.nan])


def _longest_gap(known: Bools) -> int:
    place = np.flatnonzero(known)
    return int(np.diff(place).max()) - 1 if len(place) > 1 else 0
