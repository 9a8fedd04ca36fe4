"""Records that come hours after they were made: what the watch said of their minutes is judged anew."""

from __future__ import annotations

import time
from datetime import UTC, datetime
from typing import Any

import numpy as np
import pyarrow as pa
import pytest

from tests.server.watched_store import BEGAN, END, HOUR, MINUTE, SETTLED, SLOW, disturbed, records, requests, write, write_arrival
from wirbel.accounts.models import Person
from wirbel.core.signals import spans
from wirbel.store import packer, segments
from wirbel.store.models import Arrival, LateHour, Stream
from wirbel.store.streams import DAY_NS
from wirbel.watch import kept, late, marks
from wirbel.watch.models import DayOfValues, DeviationRecord, Position, WatchedSeries
from wirbel.watch.watching import Watching

pytestmark = pytest.mark.django_db(transaction=True)
GAP = (BEGAN + 5 * HOUR, BEGAN + 6 * HOUR)  # in which they are slow
LOOKS_S = 10


@pytest.fixture(autouse=True)
def live() -> None:
    """Something has come all the time, so that silence is one."""
    Arrival.objects.all().delete()
    for at in range(0, 24 * 60, 10):
        write_arrival(BEGAN + at * MINUTE)


def come_late(start: int, end: int, at: int, **given: Any) -> None:
    packer.write(Stream.SPANS, requests(start, end, **given))
    mark_late(start, end, at)


def mark_late(start: int, end: int, at: int) -> None:
    """As the store does when records of these hours come at a time."""
    clock = datetime.fromtimestamp(at // 10**9, UTC)
    LateHour.objects.bulk_create([LateHour(hour=hour, first=clock, last=clock) for hour in range(start - start % HOUR, end, HOUR)])


def look(one: Watching, at: int, times: int = 1) -> None:
    for n in range(times):
        one.look(at + SETTLED + n * LOOKS_S * 10**9)


def look_on(one: Watching, start: int, end: int) -> None:
    """Without a pause."""
    for at in range(start, end + 1, 4 * MINUTE):
        look(one, at)


def found_in_time() -> set[tuple[Any, ...]]:
    """What is found where all that is stored had come before it was looked at."""
    for model in (WatchedSeries, Position):
        model.objects.all().delete()
    Watching().look(END + SETTLED)
    return records()


def silences() -> list[DeviationRecord]:
    return list(DeviationRecord.objects.filter(series__metric="requests", direction="low"))


def kept_of(service: str, metric: str) -> np.ndarray:
    """What is kept of the hours of a series."""
    row, day = WatchedSeries.objects.get(entity=service, metric=metric), BEGAN - BEGAN % DAY_NS
    return kept.up_to_now([row.pk], day, END)[row.pk, day][:, : (END - day) // MINUTE][:, -7 * 60 :]


@pytest.mark.parametrize("other_process", [False, True])
def test_what_came_late_is_judged_as_if_it_had_come_in_time(other_process: bool) -> None:
    """It is no silence any more, and what was wrong then is found."""
    write(BEGAN, GAP[0])
    one = Watching()
    look_on(one, *GAP)
    assert {record.series.entity for record in silences()} == {"shop", "stock", "elsewhere"}
    assert not disturbed()
    come_late(*GAP, at=GAP[1] + 10 * MINUTE)
    write(GAP[1], END)
    look(one, GAP[1] + 11 * MINUTE)
    assert silences()  # more may be coming
    look(one, END, 1)
    one = Watching() if other_process else one
    look(one, END, 2)
    assert [name for name, _, _ in disturbed()] == ["shop", "stock"]
    assert disturbed()[0][1] == pytest.approx(SLOW[0], abs=MINUTE)
    judged = records()
    assert not LateHour.objects.exists()
    assert not WatchedSeries.objects.exclude(judge_from=None).exists()
    told = kept_of("shop", "p95")
    assert judged == found_in_time()
    # For charts too: values, how many are behind each, and bands.
    np.testing.assert_array_equal(told, kept_of("shop", "p95"))
    assert np.isfinite(told).mean() > 0.8


def test_a_history_that_comes_after_the_present_is_taken_up() -> None:
    """Its services were new when they began to send what is now."""
    write(GAP[1], END)
    one = Watching()
    look(one, END - 30 * MINUTE)
    assert set(WatchedSeries.objects.values_list("began", flat=True)) == {GAP[1]}
    come_late(BEGAN, GAP[1], at=END - 29 * MINUTE)
    look(one, END, 2)
    assert set(WatchedSeries.objects.filter(metric="p95").values_list("began", flat=True)) == {BEGAN}
    assert records() == found_in_time()
    assert disturbed()


def test_a_service_of_which_all_came_late_is_watched() -> None:
    write(BEGAN, END)
    one = Watching()
    look(one, END)
    extra = requests(BEGAN + HOUR, BEGAN + 6 * HOUR, seed=2)
    shop = np.array(extra["service"].to_pylist()) == "shop"
    renamed = extra.filter(pa.array(shop))
    renamed = renamed.set_column(renamed.column_names.index("service"), "service", pa.array(["freight"] * renamed.num_rows).dictionary_encode())
    packer.write(Stream.SPANS, spans.combine([renamed]))
    mark_late(BEGAN + HOUR, BEGAN + 6 * HOUR, at=END + MINUTE)
    before = records()
    look(one, END + 10 * MINUTE, 2)
    row = WatchedSeries.objects.get(entity="freight", metric="p95")
    assert (row.began, row.judge_from) == (BEGAN + HOUR, None)
    assert ("freight", pytest.approx(SLOW[0], abs=MINUTE)) in [(name, onset) for name, onset, _ in disturbed()]
    assert {record for record in records() if record[3] < END and record[0] != "freight"} >= before
    assert DayOfValues.objects.filter(series=row, day=BEGAN - BEGAN % DAY_NS).exists()


def test_long_histories_go_on_by_what_was_known_before() -> None:
    """A tracker that has learned since begins anew where records came late, not where the series began; what was found before stays."""
    gap = (BEGAN + 14 * HOUR, BEGAN + 15 * HOUR)
    write(BEGAN, gap[0])
    one = Watching()
    look(one, BEGAN + 8 * HOUR)
    look_on(one, *gap)
    look(one, BEGAN + 18 * HOUR)
    before = {record for record in records() if record[3] < gap[0] - 2 * MINUTE}
    assert silences()
    come_late(*gap, at=BEGAN + 18 * HOUR)
    write(gap[1], BEGAN + 18 * HOUR)
    mark_late(gap[1], BEGAN + 18 * HOUR, at=gap[1])
    WatchedSeries.objects.filter(entity="elsewhere").update(is_paused=True)
    look(one, BEGAN + 18 * HOUR + 10 * MINUTE, 3)
    assert not {record for record in records() if record[3] >= gap[0] - 2 * MINUTE and record[3] < BEGAN + 18 * HOUR and record[0] != "elsewhere"}
    assert before <= records()
    row = WatchedSeries.objects.get(entity="shop", metric="p95")
    assert row.until > BEGAN + 14 * HOUR
    assert row.state != "learning"
    assert one.trackers[row.pk].until == BEGAN + 18 * HOUR + 10 * MINUTE
    assert WatchedSeries.objects.get(entity="elsewhere", metric="p95").pk not in one.trackers


def test_a_few_that_come_late_change_nothing() -> None:
    write(BEGAN, END)
    one = Watching()
    look(one, END)
    before, trackers = records(), dict(one.trackers)
    come_late(BEGAN + 6 * HOUR, BEGAN + 6 * HOUR + 2 * MINUTE, at=END + MINUTE, seed=2)
    look(one, END + 10 * MINUTE, 2)
    assert {record for record in records() if record[3] < END} == before
    assert all(one.trackers[pk] is tracker for pk, tracker in trackers.items())
    assert not LateHour.objects.exists()


def test_what_people_said_stays_though_it_was_no_silence() -> None:
    write(BEGAN, GAP[0])
    one = Watching()
    look_on(one, *GAP)
    record = next(record for record in silences() if record.series.entity == "shop")
    person = Person.objects.create(username="ann")
    marks.mark(record, "noise", person)
    look(one, GAP[1] + MINUTE)
    come_late(*GAP, at=GAP[1] + MINUTE)
    write(GAP[1], END)
    look(one, END, 3)
    [left] = [one for one in silences() if one.onset < GAP[1]]
    assert (left.pk, left.mark, left.marked_by) == (record.pk, "noise", person)
    assert left.ended is not None


def test_hours_to_which_records_do_not_stop_coming_are_read_now_and_then() -> None:
    now = BEGAN + 10 * HOUR

    def came(first: int, last: int) -> None:
        times = (datetime.fromtimestamp(at // 10**9, UTC) for at in (first, last))
        LateHour.objects.update_or_create(hour=BEGAN, defaults=dict(zip(("first", "last"), times, strict=True)))

    for first, last, is_due in ((2, 1, False), (20, 1, False), (31, 1, True), (4, 3, True)):
        came(now - first * MINUTE, now - last * MINUTE)
        assert (late.next_stretch(now, now, BEGAN) is not None) == is_due
    came(now - 40 * MINUTE, now + MINUTE)
    late.is_read(BEGAN, BEGAN + HOUR, now)
    assert late.next_stretch(now + 2 * MINUTE, now, BEGAN) is None
    came(now - 40 * MINUTE, now - MINUTE)
    late.is_read(BEGAN, BEGAN + HOUR, now)
    assert not LateHour.objects.exists()
    came(now - 40 * MINUTE, now - 30 * MINUTE)
    assert late.next_stretch(now, now, BEGAN + HOUR) is None  # nobody judges by it any more
    assert not LateHour.objects.exists()


def test_the_store_notes_what_comes_late_and_only_that() -> None:
    now = time.time_ns()
    hour = (now - 2 * HOUR) // HOUR * HOUR
    segments.append(Stream.SPANS, requests(now - MINUTE, now))
    packer.pack_all()
    assert not LateHour.objects.exists()
    for _ in range(2):
        segments.append(Stream.SPANS, requests(hour, hour + MINUTE))
        segments.append(Stream.SPANS, requests(hour - 40 * 24 * HOUR, hour - 40 * 24 * HOUR + MINUTE))
        packer.pack_all()
        noted = LateHour.objects.get()
        assert noted.hour == hour
    assert noted.last > noted.first
