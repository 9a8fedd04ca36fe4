"""Mean requests drawn up from counts: sums stay what they were, and what is wrong is found without any trace."""

from __future__ import annotations

import json

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pytest

from tests.builders import NOW
from tests.core.test_diagnosis import FOCUS_MS, question, small_world
from wirbel.core import arrow, cells, cells_of_metrics
from wirbel.core.diagnosis import mean_requests
from wirbel.core.diagnosis.case import Records
from wirbel.core.diagnosis.inquire import diagnose
from wirbel.core.diagnosis.model import Answer
from wirbel.core.signals import points, spans
from wirbel.demo.making import recorded
from wirbel.demo.telemetry import durations
from wirbel.demo.world.skerry import SKERRY

MINUTE = 60 * 10**9
WINDOW = (NOW, NOW + 2 * FOCUS_MS * 10**6)


def without_traces(table: pa.Table, **asked: object) -> Answer:
    counted = cells.derive(table)
    drawn = mean_requests.of_cells(counted, "front", None, WINDOW)
    return diagnose(question(**asked), Records(spans=drawn, cells=counted))


def test_requests_and_their_time_are_as_counted() -> None:
    counted = cells.derive(small_world(slow_database=3.0))
    drawn = mean_requests.of_cells(counted, "front", None, WINDOW)
    roots = drawn.filter(pc.is_null(drawn["parent_id"]))
    mine = counted.filter(pc.and_(counted["entry"], pc.equal(counted["service"], "front")))
    weight = roots["weight"].to_numpy()
    assert weight.sum() == pytest.approx(pc.sum(mine["count"]).as_py())
    assert (weight * arrow.numbers(roots["duration"]) / 1e9).sum() == pytest.approx(pc.sum(mine["total"]).as_py(), rel=1e-6)
    calls = drawn.filter(pc.equal(drawn["peer"], "db"))
    asked = counted.filter(pc.equal(counted["peer"], "db"))
    assert (calls["weight"].to_numpy() * arrow.numbers(calls["duration"]) / 1e9).sum() == pytest.approx(pc.sum(asked["total"]).as_py(), rel=0.02)


def test_children_lie_within_their_parents() -> None:
    drawn = mean_requests.of_cells(cells.derive(small_world(queries=(1, 7))), "front", None, WINDOW)
    at = {span: row for row, span in enumerate(drawn["span_id"].to_pylist())}
    start, end = arrow.numbers(drawn["start"]), arrow.numbers(drawn["start"]) + arrow.numbers(drawn["duration"])
    parents = [at[parent] for parent in drawn["parent_id"].to_pylist() if parent is not None]
    children = np.flatnonzero(drawn["parent_id"].is_valid().to_numpy())
    assert len(parents) == len(children) > 500
    assert (start[children] >= start[parents]).all()
    assert (end[children] <= end[parents] + 10).all()  # ns, of rounding


@pytest.mark.parametrize(
    ("wrong", "asked", "culprit", "mechanism"),
    [
        ({"slow_database": 6.0}, {}, ("database", "db"), "slower-work"),
        ({"queries": (1, 8)}, {}, ("service", "back"), "more-calls"),
        ({"failing": 0.4}, {"signal": "errors"}, ("database", "db"), "errors"),
    ],
    ids=["slow database", "many queries", "failing database"],
)
def test_the_cause_is_found_without_traces(wrong: dict[str, object], asked: dict[str, object], culprit: tuple[str, str], mechanism: str) -> None:
    found = without_traces(small_world(count=3000, **wrong), **asked)  # type: ignore[arg-type]
    assert found.candidates
    assert found.candidates[0].entity == culprit
    assert found.candidates[0].mechanism == mechanism
    assert found.effect.requests_focus >= 20


def test_nothing_wrong_is_nothing_without_traces_too() -> None:
    found = without_traces(small_world(count=3000))
    assert not found.candidates or found.candidates[0].confidence < 0.3


def test_where_nothing_is_counted_there_is_nothing() -> None:
    assert mean_requests.of_cells(cells.CELL_SCHEMA.empty_table(), "front", None, WINDOW).num_rows == 0
    assert cells_of_metrics.derive(points.POINT_SCHEMA.empty_table()).num_rows == 0


def test_what_metrics_count_are_the_requests_that_spans_tell_of() -> None:
    """The demo's SDKs count the same requests that its spans are of: both ways to cells give the same sums, by service and by whom it calls."""
    start = NOW - NOW % MINUTE
    table = recorded(SKERRY, 3, start, start + 10 * MINUTE, 20).telemetry(start, start + 10 * MINUTE).spans
    by_spans, by_metrics = cells.derive(table), cells_of_metrics.derive(durations.request_durations(table))
    for kind in (spans.SERVER, spans.CONSUMER, spans.CLIENT):
        ours, theirs = (_sums(found.filter(pc.equal(found["kind"], kind))) for found in (by_metrics, by_spans))
        assert ours.keys() == theirs.keys()
        assert len(ours) > 1
        for key, sums in theirs.items():
            assert ours[key] == pytest.approx(sums, rel=0.02), key  # counts of a histogram are whole numbers


def _sums(found: pa.Table) -> dict[tuple[str, str], tuple[float, float, float]]:
    failed = found.set_column(found.schema.get_field_index("rows"), "rows", pc.if_else(pc.equal(found["outcome"], spans.ERROR), found["count"], 0.0))
    rows = failed.group_by(["service", "peer"]).aggregate([("count", "sum"), ("total", "sum"), ("rows", "sum")]).to_pylist()
    # Who is called is a service by its name in metrics, and by who answered in spans before they are resolved.
    return {(row["service"], str(row["peer"]).removesuffix(":8080")): (row["count_sum"], row["total_sum"], row["rows_sum"]) for row in rows}


def sample(minute: int, **given: object) -> dict[str, object]:
    return {
        "service": "front", "environment": "default", "resource": "{}", "metric": "http.server.request.duration", "unit": "s", "kind": points.HISTOGRAM,
        "temporality": points.DELTA, "monotonic": False, "labels": "{}", "time": NOW - NOW % MINUTE + (minute + 1) * MINUTE, "count": 10, "total": 2.0, **given,
    }  # fmt: skip


def derived(*samples: dict[str, object]) -> list[dict[str, object]]:
    table = pa.Table.from_pylist(list(samples), pa.schema([field for field in points.POINT_SCHEMA if field.name in samples[0] or field.name == "start"]))
    return cells_of_metrics.derive(points.combine([arrow.conform(table, points.POINT_SCHEMA)])).to_pylist()


@pytest.mark.parametrize(
    ("given", "wanted"),
    [
        ({"labels": json.dumps({"http.request.method": "GET", "http.route": "/x"})}, {"operation": "GET /x", "kind": spans.SERVER, "entry": True, "outcome": spans.OK}),
        ({"labels": json.dumps({"http.response.status_code": 503})}, {"outcome": spans.ERROR, "status_code": 503}),
        ({"labels": json.dumps({"http.status_code": 404})}, {"outcome": spans.CLIENT_ERROR, "status_code": 404}),
        ({"metric": "rpc.server.duration", "unit": "ms", "total": 2000.0, "labels": json.dumps({"rpc.service": "Berths", "rpc.method": "Find", "rpc.grpc.status_code": 14})}, {"operation": "Berths Find", "outcome": spans.ERROR, "total": 2.0}),
        ({"metric": "http.client.request.duration", "labels": json.dumps({"server.address": "rates.example", "server.port": 8443})}, {"peer": "rates.example:8443", "peer_kind": "external", "entry": False}),
        ({"metric": "http.client.request.duration", "labels": json.dumps({"server.address": "rates.example", "server.port": 443, "error.type": "timeout"})}, {"peer": "rates.example", "outcome": spans.ERROR}),
        ({"metric": "db.client.operation.duration", "labels": json.dumps({"db.system.name": "postgresql", "db.namespace": "berths", "server.address": "db-1"})}, {"peer": "berths at db-1", "peer_kind": "database"}),
        ({"metric": "messaging.process.duration", "labels": json.dumps({"messaging.destination.name": "tides"})}, {"operation": "tides", "kind": spans.CONSUMER, "entry": True}),
    ],
    ids=["route", "failure", "older name", "rpc in ms", "port", "usual port", "database", "message"],
)  # fmt: skip
def test_labels_say_what_was_counted(given: dict[str, object], wanted: dict[str, object]) -> None:
    [found] = derived(sample(0, **given))
    assert {name: found[name] for name in wanted} == wanted
    assert (found["count"], found["total"]) == (10.0, pytest.approx(2.0))


def test_a_call_of_a_service_that_counts_its_own_requests_goes_to_it() -> None:
    called = sample(0, metric="http.client.request.duration", labels=json.dumps({"server.address": "back.harbour.svc"}))
    found = derived(called, sample(0, service="back"))
    assert {(row["service"], row["peer"], row["peer_kind"]) for row in found} == {("front", "back", "service"), ("back", None, None)}


def test_sums_that_grow_are_read_by_what_they_add() -> None:
    grown = [sample(minute, temporality=points.CUMULATIVE, start=NOW - 3600 * 10**9, count=100 + 7 * minute, total=50.0 + 0.7 * minute) for minute in range(4)]
    found = derived(*grown)
    assert [row["count"] for row in found] == [7.0, 7.0, 7.0]  # the first says nothing of its minute
    assert [row["total"] for row in found] == pytest.approx([0.7, 0.7, 0.7])
