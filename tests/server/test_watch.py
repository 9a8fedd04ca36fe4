"""The watch on a store of its own: live, after a pause, taken up by another process, and over a history; what people say of what it found."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from django.db import DatabaseError
from django.utils import timezone

from tests.server.watched_store import BEGAN, END, HOUR, HOURS, MINUTE, SETTLED, SLOW, disturbed, records, requests, write, write_arrival
from tests.store.test_streams import accept, some_logs
from wirbel.accounts.models import Person
from wirbel.core import cells
from wirbel.core.deviation.accumulate import Budget
from wirbel.core.deviation.find import find
from wirbel.core.deviation.points import Expected
from wirbel.core.deviation.symptoms import BUDGET, SYMPTOMS
from wirbel.core.deviation.tracker import Tracker
from wirbel.core.errors import InvalidQuestion, NotEnoughData, NotFound
from wirbel.core.expected.band import Band, expected_band
from wirbel.core.expected.calendar import Calendar
from wirbel.core.series.grid import Grid
from wirbel.core.series.series import Series
from wirbel.core.signals import points
from wirbel.core.signals.changes import from_plain
from wirbel.core.text import rfc3339
from wirbel.core.topology.graph import EntityId
from wirbel.disturbances import told
from wirbel.intake import status
from wirbel.scopes.models import Scope
from wirbel.store import fine_cells, packer, reading
from wirbel.store.models import Arrival, Block, Failure, Stream
from wirbel.store.streams import DAY_NS
from wirbel.watch import bands, calendar, choose, days_before, found, kept, marks, tasks, values, watching
from wirbel.watch.models import DayOfValues, DeviationRecord, DisturbanceEvent, DisturbanceRecord, Position, Unwatched, WatchedSeries
from wirbel.watch.replay import replay
from wirbel.watch.watching import Watching

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def history() -> None:
    Arrival.objects.all().delete()
    write(BEGAN, END)
    return


def test_a_watch_that_takes_up_no_more_says_so(monkeypatch: pytest.MonkeyPatch) -> None:
    write(BEGAN, BEGAN + HOUR)
    monkeypatch.setattr(watching, "MOST_SERIES", 4)
    Watching().look(BEGAN + HOUR + SETTLED)
    assert WatchedSeries.objects.count() == 4
    assert not told.listed(BEGAN, END, None, None, 10).is_full
    monkeypatch.setattr(told, "MOST_SERIES", 4)
    assert told.listed(BEGAN, END, None, None, 10).is_full


def test_what_hurts_is_found_once_dated_to_the_minute_and_grouped_by_calls(history: None) -> None:
    Watching().look(END + SETTLED)
    (shop, onset, ended), (stock, _, _) = disturbed()
    assert (shop, stock) == ("shop", "stock")
    assert abs(onset - SLOW[0]) <= MINUTE
    assert ended is not None
    assert 0 <= ended - SLOW[1] <= 5 * MINUTE
    [one] = found.disturbances(BEGAN, END)
    assert one.services == ["shop", "stock"]
    assert one.id in {of.id for of in one.members if of.deviation.opened == min(each.deviation.opened for each in one.members)}
    assert not found.disturbances(BEGAN, BEGAN + 4 * HOUR)
    assert found.disturbances(BEGAN, END, None, ["elsewhere"]) == []
    assert found.until() == END


def rows_of_disturbances() -> set[tuple[Any, ...]]:
    return {*DisturbanceRecord.objects.filter(merged_into="", withdrawn=False).values_list("identity", "began", "clear", "ended", "hurts")}


def forget_all_found() -> None:
    for model in (DeviationRecord, DisturbanceRecord, DisturbanceEvent, WatchedSeries, Position):
        model.objects.all().delete()


def test_disturbances_are_the_same_rows_live_after_a_restart_over_history_and_by_two_workers(history: None) -> None:
    Watching().look(END + SETTLED)
    over_history = rows_of_disturbances()
    assert {identity for identity, *_ in over_history} == {one.id for one in found.disturbances(BEGAN, END)}
    assert set(DeviationRecord.objects.values_list("disturbance", flat=True)) == {identity for identity, *_ in over_history}
    forget_all_found()
    workers, minutes = [Watching(), Watching()], range(0, (END - BEGAN) // MINUTE + 1, 5)
    for n, minute in enumerate(minutes):
        if n == len(minutes) // 2:
            workers[0] = Watching()  # killed, and started again
        workers[n % 2].look(BEGAN + minute * MINUTE + SETTLED)
    assert rows_of_disturbances() == over_history


def test_what_happened_to_a_disturbance_is_told_in_order(history: None) -> None:
    watching = Watching()
    for minute in range(0, (END - BEGAN) // MINUTE + 1, 5):
        watching.look(BEGAN + minute * MINUTE + SETTLED)
    [slow] = [one for one in found.disturbances(BEGAN, END) if len(one.members) > 1]
    told = list(DisturbanceEvent.objects.filter(disturbance=slow.id).order_by("id"))
    assert [one.what for one in told][:1] == ["opened"]
    assert [one.what for one in told][-1] == "ended"
    assert {one.other for one in told if one.what == "grew"} <= {member.id for member in slow.members}
    assert [one.at for one in told] == sorted(one.at for one in told)


def test_a_disturbance_whose_first_deviation_is_noise_goes_on_under_the_next(history: None) -> None:
    Watching().look(END + SETTLED)
    [slow] = [one for one in found.disturbances(BEGAN, END) if len(one.members) > 1]
    first = DeviationRecord.objects.get(identity=slow.id)
    person = Person.objects.create_user("who", password="x" * 12)
    marks.mark(first, "noise", person)
    row = DisturbanceRecord.objects.get(identity=slow.id)
    others = {member.id for member in slow.members} - {slow.id}
    assert row.merged_into in others
    assert DisturbanceEvent.objects.filter(disturbance=slow.id, what="merged").get().other == row.merged_into
    for member in others:
        marks.mark(DeviationRecord.objects.get(identity=member), "noise", person)
    assert DisturbanceRecord.objects.get(identity=row.merged_into).withdrawn
    marks.mark(DeviationRecord.objects.get(identity=slow.id), None, person)
    assert not DisturbanceRecord.objects.get(identity=slow.id).merged_into


def test_what_was_open_when_data_ended_is_not_said_to_go_on() -> None:
    Arrival.objects.all().delete()
    write(BEGAN, END, slow=(SLOW[0], END))
    Watching().look(END + SETTLED)
    [live] = told.listed(BEGAN, END, None, None, 10).rows
    assert (live.end, live.no_data_since) == (None, None)
    Watching().look(END + 50 * HOUR + SETTLED)
    [ended] = told.listed(BEGAN, END + 50 * HOUR, None, None, 10).rows
    assert (ended.id, ended.end) == (live.id, None)
    assert ended.no_data_since is not None
    assert ended.no_data_since == rfc3339(reading.time_range("test")[1])  # type: ignore[index]


def test_live_another_process_and_history_find_the_same(history: None) -> None:
    Watching().look(END + SETTLED)
    whole = records()
    assert whole
    for model in (WatchedSeries, Position):
        model.objects.all().delete()
    # Minute by minute about the event, now and then by another process that takes up what is kept.
    one = Watching()
    for n, minute in enumerate([200, 300, *range(318, 362, 2), 400, 420]):
        one = Watching() if n % 5 == 4 else one
        one.look(BEGAN + minute * MINUTE + SETTLED)
    assert records() == whole
    assert DayOfValues.objects.count() == WatchedSeries.objects.count()


def test_what_was_expected_is_kept_for_charts(history: None) -> None:
    """Of full hours and of the minutes since, the same as following the series anew says."""
    until = END - 10 * MINUTE
    one = Watching()
    for at in (BEGAN + 4 * HOUR, until - 3 * MINUTE, until):
        one.look(at + SETTLED)
    row = WatchedSeries.objects.get(entity="shop", metric="requests")
    told = kept.bands([row.pk], BEGAN, until)
    assert told.shape == (1, 3, (until - BEGAN) // MINUTE)
    held = kept.between(one.days, row.pk, BEGAN, until)
    expected = find(held.times, held.values, "rate", held.samples, Budget(row.budget)).expected
    assert told[0] == pytest.approx(np.stack([expected.middle, expected.low, expected.high]), nan_ok=True)
    assert np.isfinite(told[0, 0, 61:]).all()
    # A chart goes on with a provisional band where the watch has not read.
    minutes = Grid(until - HOUR, END)
    read = (until - minutes.first) // MINUTE
    values = np.random.default_rng(1).uniform(1.0, 1.2, (1, minutes.count))
    rate = Series([EntityId("service", "shop")], "requests", "{request}/s", "rate", minutes, values, np.full_like(values, 60.0))
    band, provisional = bands.drawn(rate, rate, "requests", "test"), expected_band(rate)
    assert band.high[0, :read] == pytest.approx(told[0, 2, -read:])
    assert np.isfinite(band.high[0, read:]).all()
    assert np.array_equal(band.high[0, read:], provisional.high[0, read:])
    # One of ten minutes has the mean of its minutes'.
    grid = Grid(BEGAN + 5 * HOUR, BEGAN + 7 * HOUR, 600)
    nothing = np.full((1, grid.count), np.nan)
    series = Series([EntityId("service", "shop")], "requests", "{request}/s", "rate", grid, nothing, nothing)
    drawn = bands.watched(Band(series, nothing, nothing, nothing, nothing, nothing > 0), "requests", "test")
    assert drawn.high[0, 0] == pytest.approx(np.mean(told[0, 2, 300:310]))


def test_whose_days_they_are_is_learned_within_the_hour_by_every_process(history: None) -> None:
    one = Watching()
    one.look(BEGAN + 4 * HOUR + SETTLED)
    calendar.change("Europe/Berlin", "DE")
    for watching_ in (one, Watching()):
        watching_.look(BEGAN + 5 * HOUR + 5 * MINUTE + SETTLED)
        assert {(tracker.calendar, tracker.profile and tracker.profile.calendar) for tracker in watching_.trackers.values()} == {(calendar.current(),) * 2}
    assert calendar.current() == Calendar("Europe/Berlin", "DE")


@pytest.mark.parametrize("error", [np.linalg.LinAlgError("singular"), StopIteration(), KeyError("day")])
def test_a_series_that_cannot_be_followed_keeps_no_other_from_it(history: None, monkeypatch: pytest.MonkeyPatch, error: Exception) -> None:
    follow = Tracker.follow

    def broken(self: Tracker, *given: Any) -> Expected:
        if self.kind == "share":
            raise error
        return follow(self, *given)

    monkeypatch.setattr(Tracker, "follow", broken)
    watching = Watching()
    watching.look(BEGAN + HOUR + SETTLED)

    def told() -> dict[str, str]:
        return {row.kind: row.error.partition(":")[0] for row in WatchedSeries.objects.exclude(error="")}

    assert told() == {"share": type(error).__name__}
    # Within the hour it is left alone; then it is taken up again, and what it missed is read.
    monkeypatch.setattr(Tracker, "follow", follow)
    for minutes, errors in ((70, 1), (121, 1), (122, 0), (HOURS * 60, 0)):
        watching.look(BEGAN + minutes * MINUTE + SETTLED)
        assert len(told()) == errors
    assert {tracker.until for tracker in watching.trackers.values()} == {END}
    assert [name for name, _, _ in disturbed()] == ["shop", "stock"]


def test_an_hour_with_records_outside_its_minutes_only_is_read(history: None) -> None:
    """Its blocks were opened, and of nothing no rates could be made."""
    accept("logs", some_logs(), "beside")
    packer.pack_all()
    [(first, last)] = Block.objects.filter(stream="logs", step=0).values_list("time_from", "time_to")
    for start in (last - last % MINUTE + MINUTE, first - first % MINUTE - 2 * MINUTE):
        assert values.read(start, start + MINUTE) is not None
    assert "log records" in {key.metric for key in values.read(first - first % MINUTE, last - last % MINUTE + MINUTE)}


def test_a_look_that_fails_is_told_loses_nothing_and_goes_on(history: None, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(tasks, "_watching", Watching())
    monkeypatch.setattr(tasks.time, "time_ns", lambda: END - 3 * HOUR + SETTLED)
    tasks.look(0)
    # What has ended is taken from memory, then it cannot be stored.
    stored = watching.store

    def broken(*given: Any) -> None:
        raise DatabaseError("the connection was lost")

    monkeypatch.setattr(watching, "store", broken)
    monkeypatch.setattr(tasks.time, "time_ns", lambda: END + SETTLED)
    for _ in range(2):
        with pytest.raises(DatabaseError):
            tasks.look(0)
    [failure] = Failure.objects.all()
    assert (failure.work, failure.since, "the connection was lost" in failure.reason) == ("the watch", failure.since, True)
    assert "The watch has failed since" in status.state().detail
    monkeypatch.setattr(watching, "store", stored)
    tasks.look(0)
    assert not Failure.objects.exists()
    found = records()
    DeviationRecord.objects.all().delete()
    WatchedSeries.objects.all().delete()
    Position.objects.all().delete()
    Watching().look(END + SETTLED)
    assert found == records()


def test_a_worker_that_ends_while_it_first_reads_a_history_learns_the_days_before(history: None, monkeypatch: pytest.MonkeyPatch) -> None:
    read = days_before.read

    def killed(*given: Any) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr(days_before, "read", killed)
    with pytest.raises(KeyboardInterrupt):
        Watching().look(END + SETTLED)
    assert not WatchedSeries.objects.exists()
    told: list[int] = []
    monkeypatch.setattr(days_before, "read", lambda rows, until: (told.append(len(rows)), read(rows, until)))
    Watching().look(END + SETTLED)
    assert sum(told) == WatchedSeries.objects.count()


def test_a_mark_made_while_another_is_heeded_is_not_lost(history: None, monkeypatch: pytest.MonkeyPatch) -> None:
    Watching().look(END + SETTLED)
    record = DeviationRecord.objects.first()
    assert record is not None
    DeviationRecord.objects.filter(pk=record.pk).update(mark="expected", mark_is_new=True, marked_at=timezone.now())
    mark = Tracker.mark

    def meanwhile(self: Tracker, *given: Any) -> None:
        DeviationRecord.objects.filter(pk=record.pk).update(mark="noise", mark_is_new=True, marked_at=timezone.now())
        mark(self, *given)

    monkeypatch.setattr(Tracker, "mark", meanwhile)
    watching = Watching()
    watching.look(END + 10 * MINUTE + SETTLED)
    record.refresh_from_db()
    assert (record.mark, record.mark_is_new) == ("noise", True)
    monkeypatch.setattr(Tracker, "mark", mark)
    watching.look(END + 20 * MINUTE + SETTLED)
    record.refresh_from_db()
    assert (record.mark, record.mark_is_new) == ("noise", False)


def test_a_minute_is_judged_when_it_is_over_and_not_before(history: None) -> None:
    one = Watching()
    one.look(END - 10 * MINUTE + SETTLED - 1)
    assert found.until() == END - 11 * MINUTE
    one.look(END - 10 * MINUTE + SETTLED)
    assert found.until() == END - 10 * MINUTE


def samples(service: str, host: str, metric: str, start: int, end: int, gap: tuple[int, int] = (0, 0)) -> pa.Table:
    """A gauge a minute of an agent on a host, or of an instance of a service."""
    times = np.arange(start, end, MINUTE)
    times = times[(times < gap[0]) | (times >= gap[1])]
    value = 0.3 + 0.01 * np.random.default_rng(3).standard_normal(len(times))
    columns: dict[str, Any] = {"environment": "test", "service": service, "instance": host, "host": host, "metric": metric, "unit": "1", "labels": "{}"}
    columns |= {"kind": points.GAUGE, "temporality": 0, "monotonic": False}
    filled = {name: pa.array([given] * len(times), points.POINT_SCHEMA.field(name).type) for name, given in columns.items()}
    filled |= {"time": pa.array(times), "value": pa.array(value)}
    rest = {field.name: pa.nulls(len(times), field.type) for field in points.POINT_SCHEMA if field.name not in filled}
    return pa.table({name: (filled | rest)[name] for name in points.POINT_SCHEMA.names}, schema=points.POINT_SCHEMA)


def test_a_host_that_tells_nothing_is_absent_and_an_instance_that_has_gone_is_not() -> None:
    gap = (BEGAN + 4 * HOUR, BEGAN + 4 * HOUR + 40 * MINUTE)
    write(BEGAN, END)
    for at in range(0, HOURS * 60, 10):
        write_arrival(BEGAN + at * MINUTE)
    told = [
        samples("agent", "h1", "system.cpu.utilization", BEGAN, END, gap),
        samples("shop", "i1", "process.cpu.utilization", BEGAN, END, gap),
        samples("batch", "b1", "process.cpu.utilization", BEGAN, END, gap),
    ]
    packer.write(Stream.POINTS, points.combine(told), level=1)
    Watching().look(END + SETTLED)
    series = set(WatchedSeries.objects.filter(metric__contains="utilization").values_list("entity_kind", "entity", "service"))
    assert series == {("host", "h1", None), ("service", "shop", "shop"), ("instance", "b1", "batch")}
    absent = DeviationRecord.objects.filter(direction="absent")
    # A sample tells of the minute before it.
    assert [(one.series.entity, one.onset, one.ended) for one in absent] == [("h1", gap[0] - MINUTE, gap[1] - MINUTE)]


def test_a_sender_that_falls_silent_is_noticed() -> None:
    silent = (BEGAN + 5 * HOUR, BEGAN + 5 * HOUR + 40 * MINUTE)
    write(BEGAN, END, silent=silent)
    for at in range(0, HOURS * 60, 10):
        write_arrival(BEGAN + at * MINUTE)
    Watching().look(END + SETTLED)
    fallen = DeviationRecord.objects.filter(series__metric="requests", direction="low", onset__lt=SLOW[0] + HOUR)
    assert {(r.series.entity, abs(r.onset - silent[0]) <= MINUTE) for r in fallen.select_related("series")} == {
        ("shop", True),
        ("stock", True),
        ("elsewhere", True),
    }
    assert all(r.opened - r.onset <= 4 * MINUTE for r in fallen)


@pytest.mark.parametrize("why", ["Wirbel did not run", "announced", "the file ended"])
def test_a_silence_that_is_none_opens_nothing(why: str) -> None:
    silent = (BEGAN + 5 * HOUR, BEGAN + 5 * HOUR + 40 * MINUTE)
    write(BEGAN, silent[0] if why == "the file ended" else END, silent=silent)
    Arrival.objects.all().delete()
    if why != "the file ended":
        for at in range(0, HOURS * 60, 10):
            write_arrival(BEGAN + at * MINUTE)
    if why == "Wirbel did not run":
        Unwatched.objects.create(start=silent[0], end=silent[1])
    if why == "announced":
        change = {"kind": "maintenance", "at": rfc3339(silent[0]), "until": rfc3339(silent[1]), "environment": "test", "summary": "move"}
        reading.store_changes([from_plain(change)])
    Watching().look(END + SETTLED)
    assert not DeviationRecord.objects.filter(series__metric="requests", onset__lt=SLOW[1]).exists()


def test_the_watchs_own_pause_is_remembered(history: None) -> None:
    one = Watching()
    one.look(BEGAN + 4 * HOUR + SETTLED)
    one.look(BEGAN + 4 * HOUR + MINUTE + SETTLED)
    assert not Unwatched.objects.exists()
    one.look(BEGAN + 5 * HOUR + SETTLED)
    pause = Unwatched.objects.get()
    assert pause.start == pytest.approx(BEGAN + 4 * HOUR + MINUTE + SETTLED, abs=20 * 10**9)  # the look itself took some time
    assert pause.end == BEGAN + 5 * HOUR + SETTLED


@pytest.mark.parametrize("how", ["expected", "noise", "new normal"])
def test_what_people_say_is_heeded_kept_and_can_be_taken_back(history: None, how: str) -> None:
    now = SLOW[0] + 20 * MINUTE
    one = Watching()
    one.look(now + SETTLED)
    record = DeviationRecord.objects.get(series__metric="p95", series__entity="shop")
    assert record.ended is None
    person = Person.objects.create(username="ann")
    marks.mark(record, how, person)  # type: ignore[arg-type]
    one.look(now + MINUTE + SETTLED)
    record.refresh_from_db()
    assert (record.mark, record.marked_by, record.mark_is_new) == (how, person, False)
    assert (record.ended is None) == (how == "expected")
    leading = {member.entity.name for one in found.disturbances(BEGAN, now) for member in one.members if member.metric == "p95"}
    assert ("shop" in leading) == (how == "new normal")
    if how != "expected":
        # The band has followed: it is no deviation any more that it goes on so, but one that it falls again.
        one.look(SLOW[1] + SETTLED)
        assert not DeviationRecord.objects.filter(series=record.series, direction="high", onset__gt=record.onset).exists()
    marks.mark(record, None, person)
    one.look(SLOW[1] + MINUTE + SETTLED)
    record.refresh_from_db()
    assert (record.mark, record.marked_by) == ("", None)


def test_people_choose_what_is_watched_and_how_closely(history: None) -> None:
    Watching().look(END + SETTLED)
    person = Person.objects.create(username="ann")
    row = choose.watch("test", "p99", 2.0, person, service="shop")
    assert row.began == BEGAN
    with pytest.raises(InvalidQuestion, match="watched already"):
        choose.watch("test", "p99", 1.0, person, service="shop")
    with pytest.raises(NotFound, match="no metric"):
        choose.watch("test", "no.such", 1.0, person, service="shop")
    with pytest.raises(NotFound, match="No service"):
        choose.watch("test", "p99", 1.0, person, service="shopp")
    with pytest.raises(InvalidQuestion, match="budget"):
        choose.watch("test", "p99", 0.0, person, service="stock")
    Watching().look(END + 2 * MINUTE + SETTLED)
    assert [d.onset for d in DeviationRecord.objects.filter(series=row, direction="high")] == [pytest.approx(SLOW[0], abs=2 * MINUTE)]
    held, result = replay(row, 2.0, END, 7)
    assert len(held.times) == HOURS * 60
    assert [d.onset for d in result.deviations if d.direction == "high"] == [pytest.approx(SLOW[0], abs=2 * MINUTE)]
    # Paused, nothing is found; what people chose counts for itself, and not against what all share.
    shared = WatchedSeries.objects.get(entity="shop", metric="p95").budget
    assert shared == pytest.approx(BUDGET / WatchedSeries.objects.filter(metric__in=SYMPTOMS).count())
    choose.change(row, None, True)
    DeviationRecord.objects.filter(series=row).delete()
    Watching().look(END + 5 * MINUTE + SETTLED)
    assert not DeviationRecord.objects.filter(series=row).exists()


def test_what_is_chosen_before_the_watch_has_read_it_is_said_to_be_unread(history: None) -> None:
    """And not that nothing was sent."""
    person = Person.objects.create(username="ann")
    with pytest.raises(NotEnoughData, match="has not begun to read what is stored, and knows no p99 of shop yet"):
        choose.watch("test", "p99", 2.0, person, service="shop")
    Position.objects.create(until=BEGAN, looked=END)
    with pytest.raises(NotEnoughData, match=r"has read what is stored up to 2026-02-25T08:00:00Z only"):
        choose.watch("test", "p99", 2.0, person, service="shop")
    assert not WatchedSeries.objects.exists()
    Watching().look(END + SETTLED)
    assert choose.watch("test", "p99", 2.0, person, service="shop").began == BEGAN


def test_many_services_together_are_watched_where_people_come_in(history: None) -> None:
    Watching().look(END + SETTLED)
    person = Person.objects.create(username="ann")
    Scope.objects.create(name="The shop", services=["shop", "stock"])
    with pytest.raises(NotFound, match="no scope"):
        choose.watch("test", "p95", 2.0, person, scope="The shelf")
    with pytest.raises(InvalidQuestion, match="one service"):
        choose.watch("test", "no.such", 2.0, person, scope="The shop")
    with pytest.raises(InvalidQuestion, match="not both"):
        choose.watch("test", "p95", 2.0, person, service="shop", scope="The shop")
    of_scope = {metric: choose.watch("test", metric, 2.0, person, scope="The shop") for metric in ("p95", "requests", "p99")}
    of_all = choose.watch("test", "requests", 2.0, person)
    with pytest.raises(InvalidQuestion, match="watched already"):
        choose.watch("test", "requests", 2.0, person)
    Watching().look(END + 2 * MINUTE + SETTLED)

    def seen(row: WatchedSeries) -> np.ndarray:
        return replay(row, 2.0, END, 7)[0].values

    # People come in at shop, which asks stock: only what shop serves counts.
    alone = {metric: seen(WatchedSeries.objects.get(entity="shop", metric=metric)) for metric in ("p95", "requests")}
    for metric, expected in alone.items():
        np.testing.assert_allclose(seen(of_scope[metric]), expected)
    elsewhere = seen(WatchedSeries.objects.get(entity="elsewhere", metric="requests"))
    np.testing.assert_allclose(seen(of_all), alone["requests"] + elsewhere)
    assert (seen(of_scope["p99"]) >= seen(of_scope["p95"])).all()
    # It is part of what happens to its services, and no disturbance of its own.
    [record] = DeviationRecord.objects.filter(series=of_scope["p95"], direction="high")
    assert record.onset == pytest.approx(SLOW[0], abs=2 * MINUTE)
    [one] = [one for one in found.disturbances(BEGAN, END) if one.hurts]
    assert {member.entity.name for member in one.members} >= {"shop", "stock", "The shop"}
    # Of a scope that is gone nothing is known any more: that is no silence.
    Scope.objects.all().delete()
    Watching().look(END + 30 * MINUTE + SETTLED)
    assert not DeviationRecord.objects.filter(series__entity="The shop", direction__in=("absent", "low"), onset__gt=END).exists()


def test_the_first_minutes_of_a_small_program() -> None:
    """Nothing is found in a first quiet hour; a fault after twenty minutes is, in steps of ten seconds, before the hour is over."""
    write(BEGAN, BEGAN + HOUR)
    Watching().look(BEGAN + HOUR + SETTLED)
    assert WatchedSeries.objects.filter(metric="p95").count() == 3
    assert not DeviationRecord.objects.exists()
    assert set(WatchedSeries.objects.exclude(metric="requests").values_list("state", flat=True)) == {"provisional"}


def test_a_fault_in_the_first_half_hour_is_noticed() -> None:
    fault = BEGAN + 20 * MINUTE
    write(BEGAN, BEGAN + 30 * MINUTE, slow=(fault, fault + HOUR))
    one = Watching()
    for minute in range(15, 30):
        one.look(BEGAN + minute * MINUTE + SETTLED)
    found_ = DeviationRecord.objects.filter(series__metric="p95", direction="high").select_related("series")
    assert {record.series.entity for record in found_} == {"shop", "stock"}
    assert all(abs(record.onset - fault) <= 40 * 10**9 for record in found_)
    assert all(record.opened - fault <= 3 * MINUTE for record in found_)
    assert all(record.provisional and record.ended is None for record in found_)
    # What was expected in steps of ten seconds, from a quarter of an hour on, is kept by the minute: for charts and the snapshot of a moment.
    row = WatchedSeries.objects.get(entity="shop", metric="p95")
    middle, low, high = kept.bands([row.pk], BEGAN + 14 * MINUTE, fault)[0]
    values = kept.between(one.days, row.pk, BEGAN + 14 * MINUTE, fault).values
    assert (low < middle).all()
    assert (middle < high).all()
    assert ((values > low) & (values < high)).all()
    # A replay by the minute knows too little yet, and does not say that there was nothing.
    with pytest.raises(NotEnoughData, match="an hour of values"):
        replay(WatchedSeries.objects.get(entity="shop", metric="p95"), 1.0, BEGAN + 29 * MINUTE, 7)
    whole = records()
    for model in (WatchedSeries, Position):
        model.objects.all().delete()
    Watching().look(BEGAN + 29 * MINUTE + SETTLED)
    assert records() == whole
    assert [one.services for one in found.disturbances(BEGAN, BEGAN + HOUR)] == [["shop", "stock"]]


def test_who_has_grown_up_is_followed_by_the_minute(history: None) -> None:
    one = Watching()
    one.look(BEGAN + 90 * MINUTE + SETTLED)
    assert {(one.rows[pk].metric, t.step_s) for pk, t in one.trackers.items()} == {("p95", 10.0), ("failed share", 10.0), ("requests", 60.0)}
    one.look(BEGAN + 3 * HOUR + SETTLED)
    assert {t.step_s for t in one.trackers.values()} == {60.0}
    assert not one.young.points


def test_who_becomes_too_busy_for_small_steps_leaves_nothing_going_on_for_ever(monkeypatch: pytest.MonkeyPatch) -> None:
    fault = BEGAN + 20 * MINUTE
    write(BEGAN, BEGAN + 2 * HOUR, slow=(fault, fault + 20 * MINUTE))
    one = Watching()
    one.look(BEGAN + 30 * MINUTE + SETTLED)
    assert {name for name, _, ended in disturbed() if ended is None} == {"shop", "stock"}
    monkeypatch.setattr(fine_cells, "MOST_SPANS", 0)
    one.look(BEGAN + 2 * HOUR + SETTLED)
    assert {t.step_s for t in one.trackers.values()} == {60.0}
    assert not DeviationRecord.objects.filter(ended=None).exists()


def test_summaries_of_days_before_the_first_minute_are_known_from_the_first_hour_on(history: None) -> None:
    """As after minutes have been forgotten, or where another program has written none: seasons are known, and nothing is followed as young."""
    first = BEGAN - 3 * 24 * HOUR
    packer.write_summaries(Stream.CELLS, cells.derive(requests(first, BEGAN), 600 * 10**9), 600)
    one = Watching()
    one.look(END + SETTLED)
    row = WatchedSeries.objects.get(entity="shop", metric="p95")
    assert (row.known_from, row.began) == (first, BEGAN)
    assert {t.step_s for t in one.trackers.values()} == {60.0}
    tracker = one.trackers[row.pk]
    assert (tracker.knows_from, tracker.begun) == (first, BEGAN)
    past = one._past(row.pk, first, BEGAN)
    assert past.is_summary.sum() == 3 * 144
    # That no requests are stored of the time before the first says nothing of how many there were.
    asked = WatchedSeries.objects.get(entity="shop", metric="requests")
    assert asked.known_from == first
    assert first % DAY_NS > 0
    counted = one._past(asked.pk, first - first % DAY_NS, BEGAN)
    assert np.isnan(counted.values[counted.times < first]).all()
    assert counted.values[counted.is_summary].min() > 0
    assert past.values[past.is_summary] == pytest.approx(0.076, rel=0.25)
    assert [name for name, _, _ in disturbed()] == ["shop", "stock"]
    points, again = replay(row, row.budget, END, 7)
    assert points.times[0] == BEGAN
    assert [one.onset for one in again.deviations if one.direction == "high"] == [onset for name, onset, _ in disturbed() if name == "shop"]
