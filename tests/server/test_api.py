"""The API of a live instance with the demo's history: who may, what is said, and that parts add up."""

from __future__ import annotations

import itertools
import json
import urllib.parse
from datetime import datetime, timedelta

import pytest

from tests.api_client import Api
from tests.conftest import ROOT, Instance
from wirbel.demo.world.skerry import SKERRY


@pytest.fixture(scope="module")
def api(instance: Instance) -> Api:
    return Api(instance)


@pytest.fixture(scope="module")
def windows(api: Api, instance: Instance) -> dict[str, str]:
    """The windows that the ribbon proposes for the demo's six hours."""
    ribbon = api.get("/api/ribbon?" + urllib.parse.urlencode(whole(instance)))[1]
    assert ribbon["departed"]
    return {
        "focus_from": ribbon["focus"]["start"],
        "focus_to": ribbon["focus"]["end"],
        "reference_from": ribbon["reference"]["start"],
        "reference_to": ribbon["reference"]["end"],
    }


def whole(instance: Instance) -> dict[str, str]:
    from wirbel.core.text import rfc3339

    return {"start": rfc3339(instance.made - 6 * 3600 * 10**9), "end": rfc3339(instance.made)}


def ask(api: Api, path: str, **query: str) -> dict:
    status, found = api.get(f"{path}?{urllib.parse.urlencode(query)}")
    assert status == 200, found
    return found


def test_nothing_is_told_to_strangers(instance: Instance) -> None:
    stranger = Api(instance, sign_in=False)
    for path in ("/api/ribbon", "/api/services", "/api/traces/" + "0" * 32, "/api/inquiries", "/api/changes?start=a&end=b", "/api/session"):
        assert stranger.get(path)[0] == 401
    assert stranger.post("/api/inquiries", {})[0] in (401, 403)


def test_a_wrong_password_is_refused_and_guessing_is_slowed(instance: Instance) -> None:
    stranger = Api(instance, sign_in=False)
    answers = [stranger.post("/api/session", {"name": "guess", "password": "x"})[0] for _ in range(11)]
    assert answers == [401] * 10 + [429]
    # Other names are not closed by it: the sign-in of the other tests goes on.
    assert Api(instance).get("/api/session")[0] == 200


def test_a_change_without_the_csrf_token_is_refused(api: Api) -> None:
    assert api.post("/api/inquiries", {"service": "quay-web", "focus": {"start": "a", "end": "b"}}, csrf=False)[0] == 403


def test_the_proposed_windows_are_where_the_fault_is(instance: Instance, windows: dict[str, str]) -> None:
    from wirbel.core.signals.changes import parse_time

    fault = instance.made - 25 * 60 * 10**9
    assert abs(parse_time(windows["focus_from"], "t") - fault) <= 2 * 60 * 10**9
    assert parse_time(windows["reference_to"], "t") <= parse_time(windows["focus_from"], "t")


def tenants_beside(service: str) -> set[str]:
    hosts = {instance.host for instance in SKERRY.instances[service]}
    return {name for name, instances in SKERRY.instances.items() if hosts & {instance.host for instance in instances}}


def test_the_front_end_looks_worse_than_the_culprit(api: Api, instance: Instance, windows: dict[str, str]) -> None:
    found = ask(api, "/api/overview", environment="production", **windows, **whole(instance))
    order = [row["service"] for row in found["services"]]
    assert order[0] == "quay-web"
    assert order.index("quay-web") < order.index("berth-planner")
    slow = {row["service"] for row in found["services"] if row["health"] == "slow"}
    assert slow >= {"quay-web", "sailing-api", "berth-planner"}
    # At busy hours some others really are slower: who asks berth-planner now and then, and who runs beside it.
    assert slow <= {"quay-web", "sailing-api", "berth-planner", "vessel-track"} | tenants_beside("berth-planner")
    assert len(order) == 12
    for row in found["services"]:
        assert row["focus"]["failed_low"] <= (row["focus"]["failed_share"] or 0) <= row["focus"]["failed_high"]
        assert row["priority"] == pytest.approx(row["bits"] * row["traffic_share"] ** 0.5, abs=0.2)


def test_the_inquiry_names_the_deploy_and_its_parts_add_up(api: Api, instance: Instance, windows: dict[str, str]) -> None:
    body = {
        "service": "quay-web",
        "signal": "latency",
        "focus": {"start": windows["focus_from"], "end": windows["focus_to"]},
        "reference": {"start": windows["reference_from"], "end": windows["reference_to"]},
    }
    # What goes on in another environment at the same time is none of it, though nobody said which one is meant.
    began = datetime.fromisoformat(windows["focus_from"])
    elsewhere = [
        {"kind": "flag", "at": (began + timedelta(seconds=20 * n)).isoformat(), "environment": "elsewhere", "summary": "turned", "id": f"elsewhere-{n}"}
        for n in range(-9, 9)
    ]
    assert instance.post("/v1/changes", json.dumps(elsewhere).encode(), Content_Type="application/json")[0] == 201
    status, found = api.post("/api/inquiries", body)
    assert status == 201, found
    assert {judged["change"]["environment"] for judged in found["changes"]} <= {None, "production"}
    first = found["candidates"][0]
    assert (first["entity"]["name"], first["mechanism"], first["change"]) == ("berth-planner", "more-calls", instance.fault_change)
    assert sum(c["delta"] for c in found["contributions"]) == pytest.approx(found["effect"]["delta"], rel=1e-9)
    steps = found["cascade"]
    assert steps[0]["start"] == found["effect"]["reference"]
    assert steps[-1]["end"] == found["effect"]["focus"]
    assert all(a["end"] == pytest.approx(b["start"]) for a, b in itertools.pairwise(steps))
    innocent = [j["verdict"] for j in found["changes"] if j["change"]["service"] != "berth-planner"]
    assert len(innocent) >= 2
    assert "responsible" not in innocent
    assert {one["service"] for one in found["standouts"]} >= {"berth-planner"}
    assert found["took_ms"] < 20_000
    assert api.get(f"/api/inquiries/{found['id']}")[1] == found
    without = api.get(f"/api/cause?{urllib.parse.urlencode({'service': 'quay-web', 'signal': 'latency', **windows})}")[1]
    assert {**without, "id": found["id"], "took_ms": found["took_ms"]} == found
    assert api.get("/api/inquiries")[1]["rows"][0]["candidate"] == found["candidates"][0]["title"]
    pair = ask(
        api, f"/api/traces/{found['examples']['slow']['trace']}", span=found["examples"]["slow"]["span"], against=":".join(found["examples"]["normal"].values())
    )
    assert pair["ratio"] > 1.5, pair["ratio"]
    for view in (pair["this"], pair["normal"]):
        assert sum(part["here_ms"] for part in view["parts"]) == pytest.approx(view["seconds"] * 1000, abs=1e-3)
        at = view["steps"]["at_ms"]
        assert at == sorted(at)
        assert (at[0], at[-1]) == (0, pytest.approx(view["seconds"] * 1000))
        assert len(view["steps"]["span"]) == len(at) - 1
    assert max(run["count"] for run in pair["this"]["runs"]) >= 20


def test_operations_share_the_rise_and_calls_are_counted(api: Api, instance: Instance, windows: dict[str, str]) -> None:
    found = ask(api, "/api/services/quay-web", **windows, **whole(instance))
    assert sum(row["share_of_added_latency"] for row in found["operations"]) == pytest.approx(1.0, abs=1e-6)
    assert found["operations"][0]["operation"] == "POST /reservations"
    assert {row["name"] for row in found["calls"]} == {"identity", "sailing-api", "pass-issuer"}
    planner = ask(api, "/api/services/berth-planner", **windows, **whole(instance))
    database = next(row for row in planner["calls"] if row["name"] == "berths at berth-db")
    assert database["kind"] == "database"
    assert database["calls_focus"] > 4 * database["calls_reference"]
    assert {row["name"] for row in planner["called_by"]} == {"sailing-api", "vessel-track"}
    assert any(change["service"] == "berth-planner" for change in found["changes"])


def test_a_list_of_traces_obeys_its_conditions_and_says_what_hides(api: Api, windows: dict[str, str]) -> None:
    span = {"start": windows["focus_from"], "end": windows["focus_to"]}
    slow = ask(api, "/api/traces", **span, service="quay-web", operation="POST /reservations", slower_than_s="0.2", most="20")
    seconds = [row["seconds"] for row in slow["rows"]]
    assert len(seconds) == 20 < slow["found"]
    assert seconds == sorted(seconds, reverse=True)
    assert min(seconds) >= 0.2
    assert {row["operation"] for row in slow["rows"]} == {"POST /reservations"}
    none = ask(api, "/api/traces", **span, service="quay-web", version="0.0")
    assert (none["rows"], none["hidden_by"]) == ([], ["version"])


@pytest.mark.parametrize(
    ("path", "status", "says"),
    [
        ("/api/traces?start=x&end=y", 400, "RFC 3339"),
        ("/api/traces?start=2026-01-02T00:00:00Z&end=2026-01-01T00:00:00Z", 400, "ends before"),
        ("/api/traces?start=2026-01-01T00:00:00Z&end=2026-03-01T00:00:00Z", 400, "14 days"),
        ("/api/traces/zz", 404, "hexadecimal"),
        ("/api/traces/" + "ab" * 16, 404, "not stored"),
        (
            "/api/services/nobody?focus_from=2026-01-01T00:00:00Z&focus_to=2026-01-01T01:00:00Z&reference_from=2026-01-01T00:00:00Z&reference_to=2026-01-01T01:00:00Z",
            404,
            "nobody",
        ),
    ],
)
def test_wrong_questions_are_told_what_is_wrong(api: Api, path: str, status: int, says: str) -> None:
    found, body = api.get(path)
    assert found == status
    assert says in body["detail"]


def test_an_inquiry_without_data_says_so(api: Api) -> None:
    status, body = api.post("/api/inquiries", {"service": "nobody", "focus": {"start": "2026-01-01T00:00:00Z", "end": "2026-01-01T01:00:00Z"}})
    assert status == 422
    assert "no requests of nobody" in body["detail"]


def test_the_schema_kept_in_the_docs_is_the_api(instance: Instance, tmp_path) -> None:
    file = tmp_path / "openapi.json"
    assert instance.command("schema", str(file)).returncode == 0
    assert json.loads(file.read_text()) == json.loads((ROOT / "docs/openapi.json").read_text()), "run: ./wirbel schema docs/openapi.json && npm run types"
