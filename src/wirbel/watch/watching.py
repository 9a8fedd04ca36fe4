"""Follows all series, minute by minute: live, after a pause, and over a history that was there before.

What is in memory can be made anew from what is kept: trackers as they were when they last learned, and the values since. Whoever
takes it up finds the same, and what is found is stored by what it is, so nothing is there twice.
"""

from __future__ import annotations

import logging
import time
from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from functools import partial

import numpy as np
import numpy.typing as npt
from django.db import DatabaseError, transaction

from wirbel.core.cells import MINUTE_NS
from wirbel.core.deviation import state
from wirbel.core.deviation.accumulate import Budget
from wirbel.core.deviation.model import Deviation, Direction
from wirbel.core.deviation.points import Expected, Points
from wirbel.core.deviation.symptoms import BUDGET as BUDGET_OF_SYMPTOMS
from wirbel.core.deviation.symptoms import BUDGET_OF_OTHERS, SYMPTOMS
from wirbel.core.deviation.tracker import Tracker
from wirbel.core.errors import InvalidQuestion
from wirbel.core.expected.calendar import BY_UTC, Calendar
from wirbel.core.topology.graph import EntityId
from wirbel.store import failures, fine_cells, reading
from wirbel.store.models import Arrival
from wirbel.store.streams import DAY_NS, HOUR_NS
from wirbel.watch import calendar, days_before, disturbed, kept, late, values
from wirbel.watch.models import DeviationRecord, Position, Unwatched, WatchedSeries, of
from wirbel.watch.values import Key, Values
from wirbel.watch.young import LONGEST_NS, Young, has_grown_up, is_young, next_piece

log = logging.getLogger(__name__)
Floats = npt.NDArray[np.float64]
Bools = npt.NDArray[np.bool_]
Open = dict[tuple[Direction, int], Deviation]
MINUTE_S = 60.0
SETTLED_NS = 25 * 10**9  # after the end of a minute, until most of it has come
BACK_NS = 14 * DAY_NS  # of a history, from which it begins
AT_ONCE_NS = 6 * HOUR_NS  # read of a history
PAUSED_NS = 5 * MINUTE_NS  # without a look, after which nobody watched
LIVE_NS = HOUR_NS  # before a stretch, in which something must have come for silence to be one
LATE_NS = 20 * MINUTE_NS  # that records may be late
MOST_SERIES = 5_000
MENDED = 500  # series at once
PRIME = 1_009  # spreads the times of day at which series learn


@dataclass
class Watching:
    """What one process knows; taken up again where another has gone on."""

    until: int = 0
    keys: dict[Key, int] = field(default_factory=dict)
    rows: dict[int, WatchedSeries] = field(default_factory=dict)
    trackers: dict[int, Tracker] = field(default_factory=dict)
    days: dict[tuple[int, int], Floats] = field(default_factory=dict)
    open: dict[int, Open] = field(default_factory=dict)
    young: Young = field(default_factory=Young)
    calendar: Calendar = BY_UTC
    changed: dict[int, str] = field(default_factory=dict)  # how the rows of the database were when they were taken up
    stored: dict[int, int] = field(default_factory=dict)  # of series of which something was stored in this transaction, the earliest onset
    dropped: dict[int, int] = field(default_factory=dict)  # until when what cannot be followed was

    def look(self, now: int) -> None:
        """Reads all minutes that are over."""
        began = time.monotonic_ns()
        target = (now - SETTLED_NS) // MINUTE_NS * MINUTE_NS
        position = Position.objects.first()
        if position is None:
            stored = reading.time_range()
            if stored is None:
                return
            first = max(stored[0], min(target, stored[1]) - BACK_NS)
            position = Position(until=first - first % MINUTE_NS, looked=now)
        if now - position.looked > PAUSED_NS:
            Unwatched.objects.create(start=position.looked, end=now)
        if not self.until:
            # Values are kept to the last whole hour.
            self.until = position.until - position.until % HOUR_NS if position.pk else position.until
        self._take_up()
        self._heed_marks()
        while self.until < target:
            end = min(target, self.until - self.until % HOUR_NS + (AT_ONCE_NS if target - self.until > AT_ONCE_NS else HOUR_NS))
            self._read(self.until, end, is_past=target - self.until > HOUR_NS)
            late.is_read(self.until, end - end % HOUR_NS, now)
            # A long history takes its time: while it is read, somebody watches.
            self.until, position.until, position.looked = end, max(end, position.until), now + time.monotonic_ns() - began
            position.save()
        self._heed_late(now)

    def _heed_late(self, now: int) -> None:
        """What came long after its minutes were read; a little at each look, for what is now comes first."""
        stretch = late.next_stretch(now, self.until, self.until - BACK_NS)
        if stretch is None:
            self._judge_again(late.some_of(self.rows.values(), self.until))
            return
        self._read_again(*stretch)
        late.is_read(*stretch, now)

    def _take_up(self) -> None:
        """Series that are new here, or that somebody has changed."""
        found = {row.pk: row for row in WatchedSeries.objects.defer("tracker")}
        self.calendar = calendar.current()
        for gone in self.rows.keys() - found.keys():
            self._forget(gone)
        for pk in [pk for pk, at in self.dropped.items() if self.until >= at + HOUR_NS]:
            del self.dropped[pk]
            self.changed.pop(pk, None)
        fresh = [pk for pk, row in found.items() if self.changed.get(pk) != _how(row)]
        self.rows = found
        self.keys = {_key(row): pk for pk, row in found.items()}
        trackers = dict(WatchedSeries.objects.filter(pk__in=fresh).values_list("pk", "tracker"))
        since = {pk: found[pk].until or found[pk].began for pk in fresh if not found[pk].is_paused and not _waits(found[pk])}
        if since:
            self._hold_days(since, min(since.values()), self.until)
        for pk in fresh:
            self.changed[pk] = _how(found[pk])
            self.trackers.pop(pk, None)
            if pk in since:
                self.trackers[pk] = self._tracker(found[pk], trackers[pk])
                self.open[pk] = {}
        for tracker in self.trackers.values():
            tracker.live_by(self.calendar)
        self._read_young(self.until)
        with transaction.atomic():
            for pk in since:
                self._follow_safely(pk, self.until)
            self._tell_disturbed(self.until)

    def _hold_days(self, series: Iterable[int], start: int, end: int) -> None:
        """What is kept of them; what is in memory is newer."""
        days = range(start - start % DAY_NS, end, DAY_NS)
        self.days = kept.load([pk for pk in series if any((pk, day) not in self.days for day in days)], start, end) | self.days

    def _drop_days(self, end: int) -> None:
        """What is stored is read from there, when something is learned from it."""
        self.days = {key: table for key, table in self.days.items() if key[1] > end - DAY_NS}

    def _read_young(self, end: int) -> None:
        fine = [self.rows[pk] for pk, tracker in self.trackers.items() if tracker.step_s == fine_cells.STEP_S]
        for pk in self.young.read(fine, self.keys, end):
            self._grow_up(pk)

    def _heed_marks(self) -> None:
        for record in DeviationRecord.objects.filter(mark_is_new=True):
            tracker = self.trackers.get(record.series_id)
            if tracker is not None and tracker.profile is not None:
                tracker.mark(record.mark or None, record.onset, record.ended)  # type: ignore[arg-type]
                self._note(record.series_id, tracker)
                self._save(record.series_id, tracker)
            # Not if it has been marked otherwise meanwhile.
            DeviationRecord.objects.filter(pk=record.pk, mark=record.mark, marked_at=record.marked_at).update(mark_is_new=False)

    def _forget(self, series: int) -> None:
        for of_series in (self.trackers, self.open, self.changed, self.dropped):
            of_series.pop(series, None)
        self.young.forget(series)
        self.days = {(pk, day): table for (pk, day), table in self.days.items() if pk != series}

    def _tracker(self, row: WatchedSeries, found: bytes | None) -> Tracker:
        phase = row.pk * PRIME % (DAY_NS // MINUTE_NS) * 60.0
        step_s = float(fine_cells.STEP_S) if is_young(row) else MINUTE_S
        made = Tracker(row.kind, step_s, Budget(row.budget), self.calendar, phase, row.only_high, until=row.began)  # type: ignore[arg-type]
        try:
            return state.restore(bytes(found)) if found else made
        except InvalidQuestion:
            # Of another version: it is learned anew from the values.
            return _anew(made, row.began, row.until)

    def _read(self, start: int, end: int, is_past: bool) -> None:
        for pk, (row, one) in self._values(start, end, is_past).items():
            self._keep(pk, start, one, row)
        self._read_young(end)
        with transaction.atomic():
            for pk in list(self.trackers):
                self._follow_safely(pk, end)
            if end % HOUR_NS == 0:
                self._store(start, end)
                kept.forget_minutes(end)
            else:
                kept.store_minutes(self.days, start, end)
            self._tell_disturbed(end)

    def _tell_disturbed(self, at: int) -> None:
        """After deviations were stored, in the same transaction."""
        if self.stored:
            environments = {self.rows[pk].environment for pk in self.stored}
            disturbed.update(environments, min(self.stored.values()), at, at)
            self.stored = {}

    def _values(self, start: int, end: int, is_past: bool) -> dict[int, tuple[WatchedSeries, Values]]:
        """Of each series that is watched; who is seen for the first time is from now on."""
        found = values.read(start, end, self.keys, [key for key, pk in self.keys.items() if self.rows[pk].made_by_id is not None])
        self._add_new(found, start, is_past)
        return self._told(found, start, end)

    def _read_again(self, start: int, end: int) -> None:
        """Minutes that were read before, of which more may be stored now."""
        told = list(self._values(start, end, is_past=True).items())
        for some in (told[n : n + MENDED] for n in range(0, len(told), MENDED)):
            self._hold_days([pk for pk, _ in some], start, end)
            mended = [row for pk, (row, one) in some if self._mend(pk, start, one, row)]
            with transaction.atomic():
                WatchedSeries.objects.bulk_update(mended, ["began", "judge_from"])
                self._store_days([row.pk for row in mended], start, end)
            self._drop_days(self.until)

    def _mend(self, pk: int, start: int, one: Values, row: WatchedSeries) -> bool:
        """Whether so much has come that a series is to be judged anew."""
        held = kept.between(self.days, pk, start, start + len(one.values) * MINUTE_NS)
        is_more, is_much = late.more(_key(row), held, one)
        if is_much.sum() < late.LEAST and (row.judge_from is None or not is_much.any()):
            return False
        first = start + int(np.argmax(is_much)) * MINUTE_NS
        row.began, row.judge_from = min(row.began, first), min(row.judge_from or first, first)
        self._keep(pk, start, Values(np.where(is_more, one.values, held.values), np.where(is_more, one.samples, held.samples)), row)
        return True

    def _judge_again(self, rows: list[WatchedSeries]) -> None:
        """As if what has come late had come in time."""
        if not rows:
            return
        found = dict(WatchedSeries.objects.filter(pk__in=[row.pk for row in rows]).values_list("pk", "tracker"))
        with transaction.atomic():
            since = min(self._begin_again(row, late.forget_found(row), found[row.pk]) for row in rows)
            followed = [row.pk for row in rows if not row.is_paused]
            self._hold_days(followed, since, self.until)
            self._read_young(self.until)
            for pk in followed:
                self._follow_safely(pk, self.until)
            self._store_days(followed, since, self.until)
            kept.store_minutes(self.days, self.until - self.until % HOUR_NS, self.until)
            disturbed.update({row.environment for row in rows}, since, self.until, self.until)
            self.stored = {}
        self._drop_days(self.until)

    def _begin_again(self, row: WatchedSeries, start: int, found: bytes | None) -> int:
        """Follows a series anew from ``start``, by what was known of it then or is learned from what was before; returns from where on its values are needed."""
        is_known = 0 < row.until <= start
        row.judge_from = None
        if not is_known:
            row.tracker, row.until = None, 0
            # What they say of the time before is to be heeded once more.
            DeviationRecord.objects.filter(series=row).exclude(mark="").update(mark_is_new=True)
        row.save(update_fields=["judge_from"] if is_known else ["judge_from", "tracker", "until"])
        if row.is_paused:
            return self.until
        tracker = self._tracker(row, found if is_known else None)
        if not is_known and start - row.began > LONGEST_NS:
            tracker = _anew(tracker, row.began, start)
        self.young.forget(row.pk)
        self.trackers[row.pk], self.open[row.pk], self.changed[row.pk] = tracker, {}, _how(row)
        return tracker.until

    def _add_new(self, found: dict[Key, Values], start: int, is_past: bool) -> None:
        new: list[WatchedSeries] = []
        for key, one in found.items():
            some = np.flatnonzero(values.heard(key, one))
            if key in self.keys or not len(some):
                continue
            if len(self.keys) + len(new) >= MOST_SERIES:
                break
            row = as_row(key, start + int(some[0]) * MINUTE_NS)
            row.judge_from = row.began if start < self.until else None
            new.append(row)
        if not new:
            return
        with transaction.atomic():  # a series that is stored without its days before would never get them
            WatchedSeries.objects.bulk_create(new, ignore_conflicts=True)
            if is_past:  # who appears while it is watched has no days before
                days_before.read({key: row for row in WatchedSeries.objects.defer("tracker") if (key := _key(row)) not in self.keys}, start)
            self._share_budget()
        self._take_up()

    def _share_budget(self) -> None:
        """Of each environment, all that nobody has set a budget for has one together."""
        automatic = WatchedSeries.objects.filter(has_own_budget=False)
        count = Counter((row.environment, row.metric in SYMPTOMS) for row in automatic.only("environment", "metric"))
        for (environment, is_symptom), of_them in count.items():
            which = automatic.filter(environment=environment)
            which = which.filter(metric__in=SYMPTOMS) if is_symptom else which.exclude(metric__in=SYMPTOMS)
            which.update(budget=(BUDGET_OF_SYMPTOMS if is_symptom else BUDGET_OF_OTHERS) / of_them)

    def _told(self, found: dict[Key, Values], start: int, end: int) -> dict[int, tuple[WatchedSeries, Values]]:
        """Values of each series that is watched, also of those that nothing came of."""
        minutes = (end - start) // MINUTE_NS
        heard = {environment: np.zeros(minutes, np.bool_) for environment in {row.environment for row in self.rows.values()}}
        for key, one in found.items():
            some = values.heard(key, one)
            heard[key.environment] = heard.get(key.environment, some) | some
        unwatched, live = _unwatched(start, end), _live(start, heard)
        maintained = [c for c in reading.changes(start, end) if c.kind == "maintenance" and c.until is not None]
        told = {}
        for key, pk in self.keys.items():
            one = found.get(key) or values.nothing(key, minutes)
            missing = (unwatched | (key.environment not in live)) & ~heard[key.environment]
            for change in maintained:
                if change.service in (None, key.service) and change.environment in (None, key.environment):
                    inside = np.zeros(minutes, np.bool_)
                    inside[_place(change.at, start, minutes) : _place(change.until or end, start, minutes)] = True
                    missing = missing | (inside & ~(np.nan_to_num(one.values) > 0))
            told[pk] = (self.rows[pk], Values(np.where(missing, np.nan, one.values), np.where(missing, np.nan, one.samples)))
        return told

    def _keep(self, pk: int, start: int, one: Values, row: WatchedSeries) -> None:
        """In the days in memory; nothing from before it began."""
        at = 0
        while at < len(one.values):
            day = (start + at * MINUTE_NS) // DAY_NS * DAY_NS
            place = (start + at * MINUTE_NS - day) // MINUTE_NS
            count = min(len(one.values) - at, kept.MINUTES - place)
            if (pk, day) not in self.days:
                self.days |= kept.load([pk], day, day + 1) or {(pk, day): kept.empty()}
            table, times = self.days[pk, day], start + np.arange(at, at + count) * MINUTE_NS
            part, begun = slice(place, place + count), times >= row.began
            table[0, part] = np.where(begun, one.values[at : at + count], np.nan)
            table[1, part] = np.where(begun, one.samples[at : at + count], np.nan)
            at += count

    def _follow_safely(self, pk: int, end: int) -> None:
        """A series that cannot be followed must not keep the others from being watched; it is taken up again an hour later."""
        row = self.rows[pk]
        try:
            self._follow(pk, end)
        except DatabaseError:
            raise
        except Exception as error:
            log.exception("series %s (%s) is not followed for an hour", pk, row.metric)
            self._end_all(pk)
            self.trackers.pop(pk)
            self.dropped[pk] = end
            WatchedSeries.objects.filter(pk=pk).update(error=failures.reason(error))
        else:
            if row.error:
                row.error = ""
                row.save(update_fields=["error"])

    def _follow(self, pk: int, end: int) -> None:
        row, learned = self.rows[pk], self.trackers[pk].learns_at
        while (start := max(self.trackers[pk].until, row.began)) < end:
            tracker = self.trackers[pk]
            tracker.budget = Budget(row.budget)
            if tracker.step_s == MINUTE_S:
                self._expect(pk, start, tracker.follow(kept.between(self.days, pk, start, end), partial(self._past, pk)))
                self._note(pk, tracker)
            else:
                self._follow_young(pk, tracker, min(end, next_piece(row, start)))
        if self.trackers[pk].learns_at != learned:
            self._save(pk, self.trackers[pk])

    def _expect(self, pk: int, start: int, expected: Expected) -> None:
        """What was expected is kept beside the values."""
        first, count = start - start % MINUTE_NS, len(expected.middle)
        table = np.stack([expected.middle, expected.low, expected.high])
        for day in range(first - first % DAY_NS, first + count * MINUTE_NS, DAY_NS):
            held = self.days.get((pk, day))
            if held is not None:
                begin, end = (int(np.clip((at - first) // MINUTE_NS, 0, count)) for at in (day, day + DAY_NS))
                place = (first + begin * MINUTE_NS - day) // MINUTE_NS
                held[kept.BAND, place : place + end - begin] = table[:, begin:end]

    def _past(self, pk: int, start: int, end: int) -> Points:
        row = self.rows[pk]
        start = max(start, row.known_from or row.began)
        days = kept.load([pk], start, end)
        return kept.between(days | {key: table for key, table in self.days.items() if key[0] == pk}, pk, start, end)

    def _follow_young(self, pk: int, tracker: Tracker, end: int) -> None:
        points = self.young.between(pk, tracker.until, end)
        expected = tracker.follow(points, partial(self.young.between, pk))
        if len(points.times):
            self._expect(pk, int(points.times[0]), expected.means(round(MINUTE_S) // fine_cells.STEP_S))
        self._note(pk, tracker)
        if has_grown_up(tracker) or not len(points.times):
            self._grow_up(pk)

    def _grow_up(self, pk: int) -> None:
        """Goes on in minutes."""
        self._end_all(pk)
        self.trackers[pk] = Tracker.after(self.trackers[pk], MINUTE_S)
        self.young.forget(pk)

    def _save(self, pk: int, tracker: Tracker) -> None:
        """From here on others can take it up."""
        if tracker.profile is None:
            return
        row = self.rows[pk]
        row.tracker, row.until, row.state = state.dump(tracker), tracker.until, tracker.profile.state
        row.save(update_fields=["tracker", "until", "state"])
        self.changed[pk] = _how(row)
        del row.tracker

    def _end_all(self, pk: int) -> None:
        """Nobody can say of what goes on whether it still does; in minutes it is found anew."""
        tracker = self.trackers[pk]
        if went_on := tracker.opened():
            self._store_found(pk, [replace(one, ended=tracker.until) for one in went_on])
        self.open[pk] = {}

    def _note(self, pk: int, tracker: Tracker) -> None:
        """Stores what has opened, gone on or ended."""
        now = {(one.direction, one.onset): one for one in tracker.opened()}
        told = [one for key, one in now.items() if self.open[pk].get(key) != one] + tracker.take_ended()
        self.open[pk] = now
        if told:
            self._store_found(pk, told)

    def _store_found(self, pk: int, told: list[Deviation]) -> None:
        store(self.rows[pk], told)
        self.stored[pk] = min(self.stored.get(pk, told[0].onset), *(one.onset for one in told))

    def _store(self, start: int, end: int) -> None:
        self._store_days(self.rows, start, end)
        self._drop_days(end)
        kept.forget(end - kept.KEPT_DAYS * DAY_NS)
        disturbed.forget(end)

    def _store_days(self, series: Iterable[int], start: int, end: int) -> None:
        touched = range(start - start % DAY_NS, end, DAY_NS)
        kept.store({(pk, day): self.days[pk, day] for pk in series for day in touched if (pk, day) in self.days})


KEPT_OF_PEOPLE = ("id", "series", "direction", "onset", "mark", "mark_is_new", "marked_by", "marked_at", "disturbance")


def store(series: WatchedSeries, found: Iterable[Deviation]) -> None:
    """Each once, by its series, direction and onset; what people said of it stays."""
    rows = [_record(series, one) for one in found]
    fields = [f.name for f in DeviationRecord._meta.concrete_fields if f.name not in KEPT_OF_PEOPLE]
    DeviationRecord.objects.bulk_create(rows, update_conflicts=True, unique_fields=["series", "direction", "onset"], update_fields=fields)


def _record(series: WatchedSeries, one: Deviation) -> DeviationRecord:
    return DeviationRecord(
        series=series,
        identity=of(series, one).id,
        direction=one.direction,
        onset=one.onset,
        onset_low=one.onset_low,
        onset_high=one.onset_high,
        opened=one.opened,
        ended=one.ended,
        peak_at=one.peak.at,
        peak_actual=one.peak.actual,
        peak_expected=one.peak.expected,
        peak_low=one.peak.low,
        peak_high=one.peak.high,
        bits=one.bits,
        threshold_at=one.threshold_at,
        provisional=one.provisional,
    )


def as_row(key: Key, began: int) -> WatchedSeries:
    """What is kept of a series that is watched from ``began`` on; not stored yet."""
    return WatchedSeries(
        environment=key.environment,
        entity_kind=key.entity.kind,
        entity=key.entity.name,
        service=key.service,
        metric=key.metric,
        labels=dict(key.labels),
        labels_text=" ".join(f"{name}={value}" for name, value in key.labels),
        unit=key.unit,
        kind=key.kind,
        only_high=key.only_high,
        began=began,
    )


def _key(row: WatchedSeries) -> Key:
    entity, labels = EntityId(row.entity_kind, row.entity), tuple(sorted(row.labels.items()))
    return Key(row.environment, entity, row.service, row.metric, labels, row.unit, row.kind)  # type: ignore[arg-type]


def _anew(made: Tracker, began: int, until: int) -> Tracker:
    """One that learns at ``until`` from what was before."""
    return Tracker.after(replace(made, begun=began, until=until), MINUTE_S)


def _waits(row: WatchedSeries) -> bool:
    """Whether it was found in what came late, and is first to be judged as a whole."""
    return row.judge_from is not None and not row.until


def _how(row: WatchedSeries) -> str:
    """What must not have changed meanwhile."""
    return f"{row.is_paused} {row.until} {row.budget if row.has_own_budget else ''}"


def _unwatched(start: int, end: int) -> Bools:
    minutes = (end - start) // MINUTE_NS
    found = np.zeros(minutes, np.bool_)
    for one in Unwatched.objects.filter(end__gt=start, start__lt=end):
        found[_place(one.start, start, minutes) : _place(one.end, start, minutes)] = True
    return found


def _live(start: int, environments: Iterable[str]) -> set[str]:
    """Environments that have sent what was of that very time shortly before: what a file held ends, and is not silent then."""
    arrived = Arrival.objects.filter(environment__in=list(environments), newest__gte=start - LIVE_NS)
    return {one.environment for one in arrived if one.newest > one.at.timestamp() * 1e9 - LATE_NS}


def _place(time: int, start: int, minutes: int) -> int:
    return int(np.clip((time - start) // MINUTE_NS, 0, minutes))
