"""Named scopes: who may make them, what they refuse, and that every answer obeys them."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest

from tests.api_client import Api
from tests.conftest import Instance
from tests.server.test_api import ask, whole
from tests.server.test_roles import person

BERTHS = {"name": "Berths", "services": ["berth-*", " berth-* ", ""], "not_services": [], "hosts": [], "not_hosts": []}


@pytest.fixture(scope="module")
def api(instance: Instance) -> Api:
    return Api(instance)


@pytest.fixture(scope="module")
def berths(api: Api) -> Iterator[dict[str, Any]]:
    status, made = api.post("/api/scopes", BERTHS)
    assert status == 201, made
    yield made
    assert api.post(f"/api/scopes/{made['id']}", None, method="DELETE")[0] == 204


@pytest.fixture(scope="module")
def asked(api: Api, instance: Instance, berths: dict[str, Any]) -> dict[str, str]:
    ribbon = ask(api, "/api/ribbon", environment="production", **whole(instance))
    windows = {f"{name}_{end}": ribbon[name][key] for name in ("focus", "reference") for end, key in (("from", "start"), ("to", "end"))}
    return {"environment": "production", **whole(instance), **windows}


def services(api: Api) -> list[str]:
    return [name for name in ask(api, "/api/services", environment="production") if name.startswith("berth-")]


def test_a_scope_is_kept_trimmed_and_says_what_it_means(api: Api, berths: dict[str, Any]) -> None:
    assert berths["services"] == ["berth-*"]
    [listed] = [row for row in ask(api, "/api/scopes", environment="production") if row["name"] == "Berths"]
    assert listed["found"] == len(services(api)) > 0
    assert listed["of"] > listed["found"]
    assert listed["made_by"] == "skipper"
    meant = api.post("/api/scopes/meant?environment=production", {"services": ["berth-*"]})[1]
    assert meant["services"] == services(api)


def test_every_answer_obeys_the_scope(api: Api, instance: Instance, asked: dict[str, str]) -> None:
    mine, scoped = set(services(api)), {**asked, "scope": "berths"}  # the case of a name does not matter
    overview = ask(api, "/api/overview", **scoped)
    assert {row["service"] for row in overview["services"]} == mine
    assert {row["service"] for row in ask(api, "/api/services-table", **scoped)} == mine
    window = {"start": asked["focus_from"], "end": asked["focus_to"], "environment": "production"}
    listed = ask(api, "/api/traces", scope="berths", **window)
    assert {row["service"] for row in listed["rows"]} <= mine
    # All that these serve, and not what began there only.
    assert listed["found"] == sum(ask(api, "/api/traces", service=name, **window)["found"] for name in mine) > 0
    breakdown = ask(api, "/api/breakdown", by="service", **scoped)
    assert {row["value"] for row in breakdown["rows"]} == mine
    assert set(ask(api, "/api/known/values", attribute="service", scope="berths", **window)) == mine
    changes = ask(api, "/api/changes", scope="berths", most="2000", **whole(instance))["rows"]
    everything = ask(api, "/api/changes", most="2000", **whole(instance))["rows"]
    assert {row["id"] for row in changes} == {row["id"] for row in everything if row["service"] in mine or row["service"] is None}
    assert len(changes) < len(everything)
    ribbon = ask(api, "/api/ribbon", scope="berths", environment="production", **whole(instance))
    assert ribbon["label"] == "berths"
    for inquiry in ask(api, "/api/inquiries", scope="berths", environment="production")["rows"]:
        assert inquiry["service"] in mine


def test_hosts_choose_the_services_that_run_there(api: Api, asked: dict[str, str]) -> None:
    host = next(row for row in ask(api, "/api/known/entities", kind="host", environment="production") if row["services"])
    meant = api.post("/api/scopes/meant?environment=production", {"hosts": [host["name"]]})[1]
    assert meant["services"] == sorted(host["services"])
    assert api.post("/api/scopes/meant?environment=production", {"not_hosts": ["*"]})[1]["found"] < meant["of"]


@pytest.mark.parametrize(
    ("given", "status", "why"),
    [
        ({**BERTHS, "name": "  "}, 400, "needs a name"),
        ({**BERTHS, "name": "bERTHS"}, 400, "already"),
        ({"name": "all", "services": [" "]}, 400, "without any pattern"),
        ({"name": "x" * 81, "services": ["a"]}, 422, "name: string should have at most 80 characters"),
        ({"name": "long", "services": ["a" * 201]}, 422, "services.0: string should have at most 200 characters"),
        ({"name": "many", "services": [f"a{n}" for n in range(51)]}, 422, "services: list should have at most 50 items"),
        ({"name": "nul\x00", "services": ["a"]}, 400, ""),
    ],
)
def test_what_makes_no_scope_is_refused_and_leaves_the_others(api: Api, berths: dict[str, Any], given: dict, status: int, why: str) -> None:
    before = ask(api, "/api/scopes")
    answered, answer = api.post("/api/scopes", given)
    assert answered == status, answer
    assert why in answer["detail"]
    assert ask(api, "/api/scopes") == before


def test_a_scope_that_is_gone_is_told(api: Api, asked: dict[str, str]) -> None:
    status, answer = api.get("/api/overview?" + "&".join(f"{key}={value}" for key, value in {**asked, "scope": "nowhere"}.items()))
    assert status == 404
    assert "There is no scope 'nowhere'" in answer["detail"]


def test_readers_use_scopes_and_make_none(instance: Instance, api: Api, berths: dict[str, Any]) -> None:
    reader = person(instance, "reader", "reader")
    assert "Berths" in [row["name"] for row in ask(reader, "/api/scopes")]
    for method, path in (("POST", "/api/scopes"), ("PUT", f"/api/scopes/{berths['id']}"), ("DELETE", f"/api/scopes/{berths['id']}")):
        status, answer = reader.post(path, {**BERTHS, "name": "mine"}, method=method)
        assert (status, answer["detail"]) == (403, "Your role may look, but not make scopes; ask an administrator.")
    status, changed = api.put(f"/api/scopes/{berths['id']}", {**BERTHS, "not_services": ["*-planner"]})
    assert status == 200
    assert changed["found"] < berths["found"]
    assert api.put(f"/api/scopes/{berths['id']}", BERTHS)[0] == 200
