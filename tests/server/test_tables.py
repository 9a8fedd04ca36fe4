"""Ranges, tables and pictures of the API beside each other: what one says of a thing, the others say too."""

from __future__ import annotations

import pytest

from tests.api_client import Api
from tests.conftest import Instance
from tests.server.test_api import ask, whole


@pytest.fixture(scope="module")
def api(instance: Instance) -> Api:
    return Api(instance)


@pytest.fixture(scope="module")
def asked(api: Api, instance: Instance) -> dict[str, str]:
    ribbon = ask(api, "/api/ribbon", environment="production", **whole(instance))
    windows = {f"{name}_{end}": ribbon[name][key] for name in ("focus", "reference") for end, key in (("from", "start"), ("to", "end"))}
    return {"environment": "production", **whole(instance), **windows}


@pytest.mark.parametrize(("last_s", "status"), [("59", 400), ("600", 200), ("86400", 200), ("34560000", 200), ("34560001", 400), ("ten", 422)])
def test_the_last_so_much_is_drawn_within_bounds(api: Api, last_s: str, status: int) -> None:
    answered, found = api.get(f"/api/ribbon?environment=production&last_s={last_s}")
    assert answered == status, found
    if status == 200:
        assert not found["is_all"]


def test_all_services_are_in_one_table_with_the_overviews_figures(api: Api, asked: dict[str, str]) -> None:
    table = {row["service"]: row for row in ask(api, "/api/services-table", **asked)}
    overview = {row["service"]: row for row in ask(api, "/api/overview", **asked)["services"]}
    serving = {name for name, row in table.items() if row["health"]}
    assert serving == set(overview)
    for name in serving:
        assert table[name]["health"] == overview[name]["health"]
        assert table[name]["focus"]["p95"] == overview[name]["focus"]["p95"]
    agents = [row for row in table.values() if not row["health"]]
    assert any(row["sends"] == ["metrics"] for row in agents)
    assert all(row["focus"] is None for row in agents)


def test_a_services_tables_add_up_and_say_how_many_there_are(api: Api, asked: dict[str, str]) -> None:
    view = ask(api, "/api/services/quay-web", **asked)
    for table in ("operations", "calls", "instances"):
        assert len(view[table]) == view["in_all"][table]
    assert sum(row["focus"]["requests"] for row in view["instances"]) == view["focus"]["requests"]
    assert sum(row["focus"]["requests"] for row in view["by_version"]) == view["focus"]["requests"]
    assert sum(row["focus_rate"] for row in view["statuses"]) == pytest.approx(view["focus"]["rate"])
    assert {(row["outcome"], row["code"]) for row in view["statuses"]} >= {("ok", 200), ("client error", 404), ("error", 500)}
    first = ask(api, "/api/services/quay-web", rows="1", **asked)
    assert len(first["operations"]) == 1
    assert first["in_all"] == view["in_all"]


def test_the_distribution_counts_the_requests_that_are_listed(api: Api, asked: dict[str, str]) -> None:
    found = ask(api, "/api/distribution", service="quay-web", slower_than_s="5", **asked)  # bounds of durations are left out
    assert sum(found["focus"]) == pytest.approx(1.0, rel=1e-4)
    assert sum(found["reference"]) == pytest.approx(1.0, rel=1e-4)
    assert len(found["edges"]) == len(found["focus"]) + 1
    window = {"start": asked["focus_from"], "end": asked["focus_to"], "environment": "production", "service": "quay-web"}
    listed = ask(api, "/api/traces", most="1", **window)["stand_for"]
    edge = found["edges"][len(found["edges"]) // 2]
    beyond = ask(api, "/api/traces", most="1", slower_than_s=str(edge), **window)["stand_for"]
    assert sum(found["focus"][len(found["edges"]) // 2 :]) == pytest.approx(beyond / listed, abs=0.005)


def test_requests_are_found_by_exact_status_and_upper_bound(api: Api, asked: dict[str, str]) -> None:
    window = {"start": asked["focus_from"], "end": asked["focus_to"], "environment": "production", "service": "quay-web"}
    rows = ask(api, "/api/traces", status="404", faster_than_s="0.05", **window)["rows"]
    assert rows
    assert {row["status_code"] for row in rows} == {404}
    assert max(row["seconds"] for row in rows) <= 0.05
    operations = ask(api, "/api/known/values", attribute="operation", **window)
    assert {"POST /reservations", "GET /sailings"} <= set(operations)


def test_the_logs_of_a_trace_are_those_with_its_id(api: Api, asked: dict[str, str], instance: Instance) -> None:
    # Of some failed requests nothing was logged, and minutes may pass without any other.
    window = {"start": asked["start"], "end": asked["focus_to"], "environment": "production", "outcome": "error"}
    for row in ask(api, "/api/traces", **window)["rows"]:
        found = ask(api, f"/api/traces/{row['trace']}/logs")
        if found["count"]:
            break
    assert found["count"] == len(found["records"]) > 0
    assert {record["trace"] for record in found["records"]} == {row["trace"]}
    assert api.get("/api/traces/xyz/logs")[0] == 404
    assert ask(api, f"/api/traces/{'0' * 32}/logs") == {"count": 0, "records": []}


def test_what_has_arrived_is_told_of_an_environment(api: Api) -> None:
    there = {row["what"]: row["newest"] for row in ask(api, "/api/arrived", environment="production")}
    assert list(there) == ["traces", "metrics", "logs", "changes", "versions", "hosts"]
    assert all(there.values())
    nowhere = ask(api, "/api/arrived", environment="not-there")
    assert [row["newest"] for row in nowhere] == [None] * 6
