"""Summaries and retention in the store: wide ranges answer the same from fewer rows, and what is thinned says so."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.builders import NOW, table
from tests.core import test_otlp_logs as log_requests
from tests.core import test_otlp_metrics as metric_requests
from tests.core.test_summaries import roots, traces, weights_by
from tests.store.test_store import WIDE, recount
from tests.store.test_streams import accept, some_logs
from wirbel.core import arrow, cells
from wirbel.core.series import cells as cell_series
from wirbel.core.series.grid import Grid
from wirbel.core.signals import otlp, points, spans
from wirbel.core.topology.graph import EntityId
from wirbel.explore.asked import range_of
from wirbel.store import packer, partitions, reading, retention
from wirbel.store.models import Block, Receipt, Retention, Stream
from wirbel.store.streams import DAY_NS, HOUR_NS

pytestmark = pytest.mark.django_db
LATER = NOW + 4 * HOUR_NS
MINUTE_MS = 60_000


def merge_all() -> None:
    while packer.merge_once(LATER):
        pass


def spans_over(hours: int, parts: int, offset: int = 0) -> None:
    """One small request after another, each of a few minutes; packed one by one."""
    for part in range(parts):
        at = part * hours * 60 * MINUTE_MS / parts
        rows = [
            {
                "trace": offset + part * 100 + n + 1,
                "span": offset + part * 100 + n + 1,
                "operation": f"op{n % 3}",
                "start": at + n * 7_000,
                "duration": 5 + n,
                "outcome": 2 if n == 4 else 0,
            }
            for n in range(9)
        ]
        accept("spans", otlp.Decoded(table(*rows), np.zeros(9, np.int64)), f"{offset} {part}")
        packer.pack_all()


def totals(cells_read) -> dict[str, float]:  # type: ignore[no-untyped-def]
    group = np.zeros(cells_read.num_rows, np.int64)
    found = cell_series.totals(cell_series.entries(cells_read), group, 1)
    return {"rows": found.sample_size[0], "count": found.count[0], "failed": found.failed[0], **{f"q{n}": q for n, q in enumerate(found.quantiles[0])}}


@settings(max_examples=8, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.integers(1, 20), st.integers(1, 30), st.integers(0, 10**6))
def test_summaries_answer_what_the_minutes_answer_at_every_stage(hours: int, parts: int, offset: int) -> None:
    Block.objects.all().delete()
    Receipt.objects.all().delete()
    spans_over(hours, parts, offset * 10**5)
    fine = totals(reading.cells(*WIDE))
    assert fine["rows"] == 9 * parts
    for _ in range(30):
        for step in (600, 3600):
            assert totals(reading.cells(*WIDE, step=step)) == pytest.approx(fine)
        if not packer.merge_once(LATER):
            break
    assert not Block.objects.filter(level=0, step=0, hour__lt=LATER - packer.SETTLED_NS).exists()


def test_late_records_reach_the_summaries_too() -> None:
    spans_over(3, 10)
    merge_all()
    spans_over(3, 4, offset=10**6)
    merge_all()
    assert totals(reading.cells(*WIDE, step=3600)) == pytest.approx(totals(reading.cells(*WIDE)))
    assert totals(reading.cells(*WIDE))["rows"] == 9 * 14


def test_sums_increase_the_same_from_summaries() -> None:
    def counter(n: int) -> otlp.Decoded:
        made = metric_requests.metric("sum", "orders", temporality=2, as_int=n * n, time_unix_nano=NOW + n * 60 * 10**9, start_time_unix_nano=NOW - 10**9)
        made.sum.is_monotonic = True
        return otlp.metrics.decode([metric_requests.request(made)], NOW + 10**16)

    for n in range(120):
        accept("points", counter(n), f"{n}")
        packer.pack_all()
    merge_all()
    fine = reading.points(*WIDE, metric="orders")
    coarse = reading.points(*WIDE, metric="orders", step=600)
    assert fine.num_rows == 120
    assert coarse.num_rows <= 14
    first = coarse["value"][0].as_py()
    assert points.increases(coarse).sum() == points.increases(fine).sum() - first
    assert Block.objects.filter(stream=Stream.POINTS, step=3600).exists()


@pytest.mark.parametrize(("days", "step"), [(0.2, 60), (1.4, 60), (3, 600), (14, 3600), (50, 3600), (61, 24 * 3600), (365, 24 * 3600)])
def test_wide_charts_have_few_points(days: float, step: int) -> None:
    grid = Grid(NOW, NOW + round(days * 24 * HOUR_NS))
    assert grid.step == step
    assert grid.count <= 2200
    assert grid.cell_step in (0, 600, 3600)  # what is kept
    assert grid.times[0] <= NOW < grid.times[1]
    assert grid.times[-1] < grid.end <= grid.times[-1] + grid.step_ns


def test_a_year_of_summaries_is_drawn_in_days_and_adds_up() -> None:
    for month in range(12):
        at = NOW - month * 30 * DAY_NS
        made = cells.derive(table(*[{"trace": n, "span": n, "start": n * 1000.0, "duration": 5 + n} for n in range(1, 41)]))
        made = made.set_column(0, "minute", pa.array(arrow.numbers(made["minute"]) - NOW + at))
        packer.write_summaries(Stream.CELLS, cells.summarise(made, 3600 * 10**9), 3600)
    grid = Grid(NOW - 364 * DAY_NS, NOW + DAY_NS)
    found = cell_series.by_point(reading.cells(grid.first, grid.end, step=grid.cell_step), grid, [EntityId("service", "shop")]).totals
    assert grid.step == 24 * 3600
    assert found.count.sum() == 12 * 40
    assert (found.count[0] > 0).sum() == 12
    held = retention.held()["default", Stream.CELLS]
    assert held.full is None
    assert held.summaries is not None
    assert held.summaries <= NOW - 330 * DAY_NS


def test_old_traces_are_thinned_and_say_so() -> None:
    accept("spans", otlp.Decoded(traces(2000), np.zeros(0)), "old")
    packer.pack_all()
    merge_all()
    before = reading.window_spans(*WIDE)
    cells_before = recount(reading.cells(*WIDE))
    assert reading.detail("spans", *WIDE).thinned_until is None
    assert not retention.thin_once(NOW)
    while retention.thin_once(NOW + 50 * HOUR_NS):
        pass
    after = reading.window_spans(*WIDE)
    assert after.num_rows < 0.3 * before.num_rows
    assert weights_by(after, "operation") == pytest.approx(weights_by(before, "operation"))
    # What charts and tables are made of is not thinned.
    assert recount(reading.cells(*WIDE)) == cells_before
    assert reading.detail("spans", *WIDE).thinned_until is not None
    # Parents of what is left are still found.
    ids = set(after["span_id"].to_pylist())
    assert all(parent in ids for parent in after["parent_id"].to_pylist() if parent)
    assert roots(after).num_rows * 2 == after.num_rows


def test_a_trace_in_two_blocks_stays_in_one_piece_with_its_log_records() -> None:
    """The child of each request comes an hour later than its root, so in another block; a failure there keeps the root too."""
    roots_, children = [], []
    for n in range(1, 601):
        at = n * 100
        roots_.append({"trace": n, "span": 2 * n, "start": at, "duration": 10 + n % 7})
        failed = spans.ERROR if n % 97 == 0 else spans.OK
        children.append({"trace": n, "span": 2 * n + 1, "parent": 2 * n, "service": "b", "start": at + 60 * MINUTE_MS, "duration": 5, "outcome": failed})
    for name, rows in (("roots", roots_), ("children", children)):
        accept("spans", otlp.Decoded(table(*rows), np.zeros(0)), name)
        packer.pack_all()
    said = [{"body": f"{n}", "severity_number": 9, "time_unix_nano": NOW + n * 10**8, "trace_id": n.to_bytes(16, "big")} for n in range(1, 601)]
    accept("logs", otlp.logs.decode([log_requests.request(*said)], NOW + 10**15), "logs")
    packer.pack_all()
    while retention.thin_once(NOW + 60 * HOUR_NS):
        pass
    left = reading.window_spans(*WIDE)
    of = {service: set(left.filter(pc.equal(left["service"], service))["trace_id"].to_pylist()) for service in ("a", "b")}
    assert of["a"] == of["b"]
    assert len(of["a"]) < 200
    assert {n.to_bytes(16, "big") for n in range(97, 601, 97)} <= of["a"]
    assert set(reading.logs(*WIDE)["trace_id"].to_pylist()) == of["a"]
    assert weights_by(left.filter(pc.equal(left["service"], "a")), "service") == {"a": pytest.approx(600)}


def test_thinned_and_full_blocks_are_not_merged_into_one() -> None:
    for part in range(10):
        accept("logs", some_logs(60, step_ns=10**7 + part), f"{part}")
        packer.pack_all()
    while retention.thin_once(NOW + 49 * HOUR_NS):
        pass
    for part in range(10):
        accept("logs", some_logs(60, step_ns=10**8 + part), f"late {part}")
        packer.pack_all()
    merge_all()
    assert set(Block.objects.values_list("thinned", flat=True)) == {True, False}
    assert sum(arrow.numbers(reading.logs(*WIDE)["weight"])) == pytest.approx(1200)


def test_what_is_left_of_a_day_is_put_together_and_changes_no_answer() -> None:
    spans_over(30, 30)
    for part in range(30):
        accept("logs", some_logs(20, step_ns=90 * 10**9 + part), f"{part}")
        packer.pack_all()
    later = NOW + 90 * HOUR_NS
    merge_all()
    while retention.thin_once(later):
        pass

    def answers() -> list[object]:
        traces, lines, minutes = reading.window_spans(*WIDE), reading.logs(*WIDE), reading.cells(*WIDE)
        narrow = (NOW + 5 * HOUR_NS, NOW + 7 * HOUR_NS)  # a part of a day
        return [
            sorted(zip(traces["span_id"].to_pylist(), traces["weight"].to_pylist(), strict=True)),
            sorted(zip(lines["time"].to_pylist(), lines["body"].to_pylist(), lines["weight"].to_pylist(), strict=True)),
            totals(minutes),
            totals(reading.cells(*narrow)),
            reading.logs(*narrow).num_rows,
        ]

    before, count = answers(), Block.objects.filter(step=0).count()
    while packer.merge_once(later):
        pass
    assert answers() == before
    days = {(b.stream, b.thinned, b.hour) for b in Block.objects.filter(level=packer.DAY_LEVEL)}
    assert {stream for stream, _, _ in days} >= {"spans", "cells"}
    assert all(hour % DAY_NS == 0 for _, _, hour in days)
    assert Block.objects.filter(step=0).count() < count / 3
    assert not packer.merge_once(later)


def test_what_is_kept_no_longer_is_dropped_and_summaries_stay() -> None:
    spans_over(3, 12)
    accept("logs", some_logs(40), "logs")
    packer.pack_all()
    merge_all()
    total = totals(reading.cells(*WIDE, step=3600))
    while retention.drop_once(NOW + 24 * 40 * HOUR_NS):
        pass
    assert reading.window_spans(*WIDE).num_rows == 0
    assert reading.logs(*WIDE).num_rows == 0
    assert reading.cells(*WIDE).num_rows == 0
    assert totals(reading.cells(*WIDE, step=3600)) == pytest.approx(total)
    # What is shown first is where the summaries are, and not hours of nothing.
    assert reading.time_range() is None
    low, high = range_of(None, None)
    assert totals(reading.cells(low, high, step=600)) == pytest.approx(total)
    while retention.drop_once(NOW + 24 * 500 * HOUR_NS):
        pass
    assert Block.objects.count() == 0
    assert partitions.existing() == []


def test_a_day_is_dropped_as_a_whole_when_all_of_it_is_due() -> None:
    spans_over(30, 12)  # hours: parts of two or three days
    merge_all()
    days = [p for p in partitions.existing() if p.stream == "spans"]
    assert len(days) >= 2
    due = days[0].end + 16 * 24 * HOUR_NS
    assert retention.drop_once(due)
    assert [p for p in partitions.existing() if p.stream == "spans"] == days[1:]
    assert not Block.objects.filter(stream="spans", hour__lt=days[0].end).exists()
    assert Block.objects.filter(stream="spans").exists()


def test_an_environment_may_have_its_own_retention() -> None:
    Retention.objects.create(environment="default", stream="logs", full_hours=1, thinned_hours=0, summary_days=0)
    accept("logs", some_logs(5), "a")
    packer.pack_all()
    assert not retention.thin_once(NOW + 60 * HOUR_NS)
    assert retention.drop_once(NOW + 2 * HOUR_NS)
    assert reading.logs(*WIDE).num_rows == 0
