"""Disturbances and watched series over HTTP, on the demo's own history: what scripts rely on, who may do what, what is refused."""

from __future__ import annotations

import json
from datetime import datetime
from typing import Any
from urllib.parse import urlencode

import pytest

from tests.api_client import Api
from tests.conftest import Instance
from tests.server.test_api import ask, whole
from tests.server.test_roles import person
from wirbel.core.text import rfc3339

PRODUCTION = {"environment": "production"}
MINUTE, HOUR = 60 * 10**9, 3600 * 10**9


@pytest.fixture(scope="module")
def api(instance: Instance) -> Api:
    return Api(instance)


@pytest.fixture(scope="module")
def going_on(api: Api, instance: Instance) -> dict[str, Any]:
    """The disturbance that the demo's fault makes."""
    listed = ask(api, "/api/disturbances", **PRODUCTION, **whole(instance))
    assert listed["found"] == len(listed["rows"])
    return next(row for row in listed["rows"] if instance.fault_change in [change["id"] for change in row["changes"]])


def ns(time: str) -> int:
    return round(datetime.fromisoformat(time).timestamp() * 1e9)


def test_the_fault_is_one_disturbance_told_in_order_with_the_change_before(going_on: dict[str, Any], instance: Instance) -> None:
    from wirbel.demo.history import FAULT_MINUTES_AGO

    fault = instance.made - FAULT_MINUTES_AGO * 60 * 10**9
    # Of what people feel the onset is known to the minute; a measure of what lies beneath may be dated a little earlier.
    assert abs(ns(going_on["deviations"][0]["onset"]) - fault) <= 60 * 10**9
    # What hurts a little, and only happens to begin in the ten minutes before, belongs to it; it does not date it.
    assert 0 <= fault - ns(going_on["start"]) + 60 * 10**9 <= 11 * 60 * 10**9
    assert abs(ns(going_on["focus"]["start"]) - fault) <= 60 * 10**9
    assert {"berth-planner", "sailing-api", "quay-web"} <= set(going_on["services"])
    onsets = [one["onset"] for one in going_on["deviations"][1:]]
    assert onsets == sorted(onsets)
    lead = going_on["deviations"][0]
    noticed = min(one["opened"] for one in going_on["deviations"])
    assert going_on["id"] in [one["id"] for one in going_on["deviations"] if one["opened"] == noticed]
    assert lead["signal"] == "latency"
    assert ns(lead["opened"]) - fault <= 4 * 60 * 10**9
    assert lead["peak"]["actual"] > lead["peak"]["high"] > lead["peak"]["expected"] > lead["peak"]["low"]
    assert going_on["sentence"].startswith(f"{lead['service']}: p95 ")
    # The focus is from when it was clear, the reference before all of it.
    assert going_on["focus"]["start"] >= lead["onset"]
    assert going_on["reference"]["end"] < going_on["start"]


def test_a_disturbance_is_found_by_any_of_its_deviations(api: Api, going_on: dict[str, Any]) -> None:
    for one in going_on["deviations"]:
        assert ask(api, f"/api/disturbances/{one['id']}")["id"] == going_on["id"]
    assert api.get("/api/disturbances/0123456789abcdef")[0] == 404


def test_overview_and_ribbon_go_by_what_was_found(api: Api, instance: Instance, going_on: dict[str, Any]) -> None:
    ribbon = ask(api, "/api/ribbon", **PRODUCTION, **whole(instance))
    # Proposed is when people were first hurt.
    assert ribbon["focus"]["start"] == going_on["focus"]["start"]
    windows = {f"{name}_{end}": ribbon[name][key] for name in ("focus", "reference") for end, key in (("from", "start"), ("to", "end"))}
    overview = ask(api, "/api/overview", **PRODUCTION, **whole(instance), **windows)
    # Something that hurts nobody may go on beside it.
    assert overview["disturbances"][0]["id"] == going_on["id"]
    slow = {row["service"]: row["since"] for row in overview["services"] if row["health"] == "slow"}
    told = ask(api, "/api/deviations", **PRODUCTION, **whole(instance))["deviations"]
    deviating = {one["series"]["service"]: one["onset"] for one in told if one["series"]["metric"] == "p95" and one["direction"] == "high" and not one["ended"]}
    assert slow == deviating
    assert deviating.items() >= {one["service"]: one["onset"] for one in going_on["deviations"] if one["metric"] == "p95"}.items()


def test_the_contract_of_deviations(api: Api, instance: Instance, going_on: dict[str, Any]) -> None:
    told = ask(api, "/api/deviations", **PRODUCTION, **whole(instance))
    assert set(told) == {"deviations", "disturbances"}
    mine = next(one for one in told["disturbances"] if one["id"] == going_on["id"])
    assert mine["deviations"] == [one["id"] for one in going_on["deviations"]]
    assert mine["first"] == mine["deviations"][0]
    by_id = {one["id"]: one for one in told["deviations"]}
    for one in going_on["deviations"]:
        same = by_id[one["id"]]
        assert set(same) == {"id", "series", "direction", "onset", "noticed_at", "ended", "peak", "surprise_bits", "lead_over_threshold_s"}
        assert (same["onset"], same["surprise_bits"], same["peak"]["unit"]) == (one["onset"], one["surprise_bits"], one["peak"]["unit"])
        assert same["series"]["service"] == one["service"]


def test_the_command_line_tells_the_same(api: Api, instance: Instance) -> None:
    range_ = whole(instance)
    done = instance.command("detect", "--from", range_["start"], "--to", range_["end"], "--environment", "production", "--json")
    assert done.returncode == 0, done.stderr
    assert json.loads(done.stdout) == ask(api, "/api/deviations", **PRODUCTION, **range_)
    assert "berth-planner p95 high" in instance.command("detect", "--from", range_["start"], "--to", range_["end"]).stdout
    for wrong in (["--from", range_["start"]], ["--file", "x.csv"], ["--file", "x", "--time", "t", "--value", "v", "--from", range_["start"]], []):
        assert instance.command("detect", *wrong).returncode == 2


def test_a_forecast_begins_now_and_meets_its_limit_or_not(api: Api, going_on: dict[str, Any]) -> None:
    [disk] = ask(api, "/api/watched", containing="islet-1 filesystem", **PRODUCTION)["rows"]
    told = ask(api, f"/api/watched/{disk['id']}/forecast", ahead_h="48", limit="1")
    past = sum(value is not None for value in told["values"])
    assert told["expected"][past - 1] is None
    assert told["expected"][past] is not None
    assert ns(told["now"]) == pytest.approx(ns(told["start"]) + past * told["step_s"] * 1e9, abs=1e9)
    last = next(value for value in reversed(told["values"]) if value is not None)
    assert told["expected"][past] == pytest.approx(last, abs=0.05)
    for wrong in ("ahead_h=0", "ahead_h=5000"):
        assert api.get(f"/api/watched/{disk['id']}/forecast?{wrong}")[0] == 400


def test_a_scope_shows_what_one_of_its_services_has_part_in(api: Api, instance: Instance, going_on: dict[str, Any]) -> None:
    known = set(ask(api, "/api/services", **PRODUCTION))
    # Which service stays out of it depends on how long the demo has run.
    having_part = set(ask(api, f"/api/disturbances/{going_on['id']}")["services"])
    [apart, *_] = sorted(known - having_part)
    [taking_part, *_] = sorted(known & having_part)
    for service, shown in ((apart, False), (taking_part, True)):
        status, made = api.post("/api/scopes", {"name": "One", "services": [service]})
        assert status == 201
        rows = ask(api, "/api/disturbances", scope="One", **PRODUCTION, **whole(instance))["rows"]
        assert (going_on["id"] in [row["id"] for row in rows]) is shown
        assert all(service in row["services"] for row in rows)
        assert api.post(f"/api/scopes/{made['id']}", None, method="DELETE")[0] == 204


def test_a_mark_is_kept_with_who_set_it_and_readers_set_none(api: Api, instance: Instance, going_on: dict[str, Any]) -> None:
    last = going_on["deviations"][-1]
    path = f"/api/deviations/{last['id']}/mark"
    assert person(instance, "reader", "reader").put(path, {"mark": "noise"})[0] == 403
    assert api.put(path, {"mark": "nonsense"})[0] == 422
    assert api.put("/api/deviations/0123456789abcdef/mark", {"mark": "expected"})[0] == 404
    status, marked = api.put(path, {"mark": "expected"})
    assert (status, marked["mark"], marked["marked_by"]) == (200, "expected", "skipper")
    listed = ask(api, "/api/disturbances", **PRODUCTION, **whole(instance))["rows"]
    assert last["id"] not in [one["id"] for row in listed for one in row["deviations"]]
    # Its own page still shows it, so that the mark can be taken back.
    assert "expected" in [one["mark"] for one in ask(api, f"/api/disturbances/{last['id']}")["deviations"]]
    assert api.put(path, {"mark": None})[1]["mark"] is None
    assert going_on["id"] in [row["id"] for row in ask(api, "/api/disturbances", **PRODUCTION, **whole(instance))["rows"]]


def test_what_is_watched_is_listed_filtered_and_replayed(api: Api, going_on: dict[str, Any]) -> None:
    everything = ask(api, "/api/watched", most="1000", **PRODUCTION)
    assert everything["found"] == len(everything["rows"]) > 100
    services = {row["entity"]["name"] for row in everything["rows"] if row["metric"] == "p95"}
    assert services == set(ask(api, "/api/services", **PRODUCTION))
    some = ask(api, "/api/watched", containing="planner utilization", **PRODUCTION)["rows"]
    assert some
    assert all("planner" in row["entity"]["name"] and "utilization" in row["metric"] for row in some)
    deviating = ask(api, "/api/watched", only="deviating", most="1000", **PRODUCTION)["rows"]
    assert {one["series"] for one in going_on["deviations"] if one["ended"] is None} <= {row["id"] for row in deviating}
    lead = going_on["deviations"][0]
    often, rarely = (ask(api, f"/api/watched/{lead['series']}/replay", budget=str(budget)) for budget in (7.0, 0.05))
    assert len(often["values"]) == len(often["high"]) <= 720
    assert len(often["found"]) >= len(rarely["found"]) >= 1
    assert abs(ns(rarely["found"][-1]["onset"]) - ns(lead["onset"])) <= 60 * 10**9


def test_watching_more_or_less_closely(api: Api, instance: Instance) -> None:
    given = {"environment": "production", "service": "notice-fanout", "metric": "p99", "budget": 2.0}
    reader = person(instance, "reader", "reader")
    assert reader.post("/api/watched", given)[0] == 403
    assert api.post("/api/watched", given | {"metric": "no.such.metric"})[0] == 404
    assert api.post("/api/watched", given | {"budget": 0})[0] == 400
    status, made = api.post("/api/watched", given)
    assert (status, made["made_by"], made["has_own_budget"]) == (201, "skipper", True)
    assert "already" in api.post("/api/watched", given)[1]["detail"]
    path = f"/api/watched/{made['id']}"
    assert reader.put(path, {"is_paused": True})[0] == 403
    assert api.put(path, {"is_paused": True})[1]["is_paused"]
    assert made["id"] in [row["id"] for row in ask(api, "/api/watched", only="paused", **PRODUCTION)["rows"]]
    assert api.put(path, {"budget": 0.5})[1]["budget"] == 0.5
    both = {"environment": "production", "service": "notice-fanout", "scope": "x", "metric": "p99"}
    assert "not both" in api.post("/api/watched", both)[1]["detail"]
    assert "one service" in api.post("/api/watched", {"environment": "production", "metric": "p75"})[1]["detail"]
    first = ask(api, "/api/watched", containing="notice-fanout p95", **PRODUCTION)["rows"][0]
    status, refused = api.post(f"/api/watched/{first['id']}", None, method="DELETE")
    assert (status, "pause it" in refused["detail"]) == (400, True)
    assert api.post(path, None, method="DELETE")[0] == 204
    assert api.get(f"{path}/replay?budget=1")[0] == 404


def test_an_administrator_says_whose_days_the_series_have(api: Api, instance: Instance) -> None:
    path, now = "/api/watched/calendar", ask(api, "/api/watched/calendar")
    assert now == {"zone": "UTC", "holidays": ""}
    assert person(instance, "responder", "responder").put(path, {"zone": "Europe/Berlin"})[0] == 403
    for wrong, why in (({"zone": "Atlantis"}, "No time zone"), ({"zone": "UTC", "holidays": "XX"}, "No public holidays"), ({"zone": "x" * 100}, "60")):
        status, refused = api.put(path, wrong)
        assert (status in (400, 422), why in refused["detail"]) == (True, True)
    assert ask(api, path) == now
    try:
        assert api.put(path, {"zone": "Europe/Berlin", "holidays": "de-by"}) == (200, {"zone": "Europe/Berlin", "holidays": "DE-BY"})
        assert ask(api, path)["holidays"] == "DE-BY"
    finally:
        api.put(path, now)


def calm_minute(api: Api, instance: Instance, series: int, before: int) -> int:
    """The last minute an hour and more before a time (ns) in which nothing was found of a series: one false deviation may be anywhere."""
    listed = ask(api, "/api/disturbances", **PRODUCTION, **whole(instance))["rows"]
    open_in = [(ns(d["onset"]), ns(d["ended"]) if d["ended"] else before) for row in listed for d in row["deviations"] if d["series"] == series]
    minutes = range(before - HOUR, before - 4 * HOUR, -MINUTE)
    return next(at for at in minutes if not any(onset - MINUTE <= at <= ended + MINUTE for onset, ended in open_in))


def test_a_moment_tells_every_measure_of_a_service_of_what_it_runs_on_and_of_what_it_asks(api: Api, instance: Instance, going_on: dict[str, Any]) -> None:
    one = next(d for d in going_on["deviations"] if d["entity"] == {"kind": "service", "name": "berth-planner"} and d["metric"] == "p95")
    told = ask(api, "/api/moment", service="berth-planner", at=one["peak"]["at"], **PRODUCTION)
    row = next(row for row in told["rows"] if row["series"] == one["series"])
    assert row["deviation"] == one["id"]
    assert {name: row[name] for name in ("value", "low", "high")} == pytest.approx(
        {"value": one["peak"]["actual"], "low": one["peak"]["low"], "high": one["peak"]["high"]}
    )
    assert row["told"] == one["deviates"]
    # What deviates comes first; all else is what is watched of it and about it.
    assert [row["deviation"] is not None for row in told["rows"]] == [n < told["deviating"] for n in range(len(told["rows"]))]
    assert {"service", "host"} <= {row["entity"]["kind"] for row in told["rows"]}
    assert {"manifest", "berth-planner"} <= {row["entity"]["name"] for row in told["rows"]}
    assert "gate-api" not in {row["entity"]["name"] for row in told["rows"]}
    before = calm_minute(api, instance, one["series"], ns(one["onset"]))
    calm = ask(api, "/api/moment", service="berth-planner", at=rfc3339(before), **PRODUCTION)
    assert calm["deviating"] < told["deviating"]
    assert calm["found"] == len(calm["rows"])
    quiet = next(row for row in calm["rows"] if row["series"] == one["series"])
    assert (quiet["deviation"], quiet["value"] < row["low"] * 2) == (None, True)


@pytest.mark.parametrize(
    ("service", "at", "status"), [("nobody", "2026-11-27T00:00:00Z", 404), ("berth-planner", "yesterday", 400), ("berth-planner", "1500-01-01T00:00:00Z", 400)]
)
def test_a_moment_that_cannot_be_told_is_refused(api: Api, service: str, at: str, status: int) -> None:
    assert api.get(f"/api/moment?{urlencode({'service': service, 'at': at, **PRODUCTION})}")[0] == status
