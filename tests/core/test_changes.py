from __future__ import annotations

import json

import pytest

from wirbel.core.errors import InvalidChange
from wirbel.core.signals.changes import KINDS, Change, Line, from_plain, lines, parse_request

PLAIN = {"kind": "deploy", "at": "2026-03-04T09:15:00Z", "service": "berth-planner", "version": "4.8.0", "before": {"k": "v"}, "after": {"k": "w"}}
AT = 1_772_615_700 * 10**9

# CDEvents specification, "service deployed" example (conformance/service_deployed.json, from memory).
DEPLOYED = {
    "context": {
        "version": "0.4.1",
        "id": "271069a8-fc18-44f1-b38f-9d70a1695819",
        "source": "/event/source/123",
        "type": "dev.cdevents.service.deployed.0.1.1",
        "timestamp": "2023-03-20T14:27:05.315384Z",
    },
    "subject": {
        "id": "mySubject123",
        "source": "/event/source/123",
        "type": "service",
        "content": {"environment": {"id": "test123"}, "artifactId": "pkg:oci/myapp@sha256%3A0b31b1c02ff458ad9b7b81cbdf8f028bd54699fa151f221d1e8de6817db93427"},
    },
}


def cloud_event(kind: str = "dev.cdevents.service.deployed.0.1.1", **data: object) -> dict:
    return {"specversion": "1.0", "id": "e1", "source": "/pipelines/7", "type": kind, "time": "2023-03-20T14:27:05Z", "data": DEPLOYED | data}


def structured(event: dict) -> list:
    return parse_request("application/cloudevents+json", {}, json.dumps(event).encode())


def test_plain_json_one_or_a_list() -> None:
    [one] = parse_request("application/json", {}, json.dumps(PLAIN).encode())
    assert (one.kind, one.at, one.service, one.version, one.before, one.after) == ("deploy", AT, "berth-planner", "4.8.0", {"k": "v"}, {"k": "w"})
    assert len(parse_request("application/json", {}, json.dumps([PLAIN, PLAIN | {"kind": "restart"}]).encode())) == 2


def test_the_same_change_without_an_id_gets_the_same_one() -> None:
    assert from_plain(PLAIN).id == from_plain(dict(reversed(PLAIN.items()))).id
    assert from_plain(PLAIN).id != from_plain(PLAIN | {"version": "4.8.1"}).id
    assert from_plain(PLAIN | {"id": "mine"}).id == "mine"


def test_a_cdevent_in_structured_mode() -> None:
    [change] = structured(cloud_event())
    assert (change.kind, change.service, change.environment) == ("deploy", "mySubject123", "test123")
    assert change.version == "sha256:0b31b1c02ff458ad9b7b81cbdf8f028bd54699fa151f221d1e8de6817db93427"
    assert change.at == 1_679_322_425_315_384_000


def test_a_cdevent_in_binary_mode() -> None:
    headers = {"ce-specversion": "1.0", "Ce-Id": "e1", "ce-source": "/pipelines/7", "ce-type": "dev.cdevents.service.rolledback.0.1.1"}
    [change] = parse_request("application/json", headers, json.dumps(DEPLOYED).encode())
    assert (change.kind, change.id) == ("rollback", "/pipelines/7#e1")


@pytest.mark.parametrize(
    ("name", "kind"),
    [
        ("service.deployed", "deploy"),
        ("service.upgraded", "deploy"),
        ("service.rolledback", "rollback"),
        ("service.removed", "scale"),
        ("service.published", "deploy"),
        ("environment.modified", "config"),
    ],
)
def test_each_kind_of_cdevent(name: str, kind: str) -> None:
    [change] = structured(cloud_event(f"dev.cdevents.{name}.0.2.0"))
    assert change.kind == kind
    assert (change.service is None) == name.startswith("environment")


@pytest.mark.parametrize(
    ("change", "field"),
    [
        ({"kind": "explosion"}, "kind"), ({"kind": None}, "kind"), ({"at": "yesterday"}, "at"), ({"at": "2026-03-04T09:15:00"}, "at"), ({"at": 5}, "at"),
        ({"until": "2026-03-04T09:14:00Z"}, "until"), ({"service": 7}, "service"), ({"entity": {"a": 1}}, "entity"),
        ({"summary": "x" * 5000}, "summary"), ({"link": "javascript:alert(1)"}, "link"), ({"after": {"k": "x" * 300_000}}, "after"),
    ],
)  # fmt: skip
def test_a_wrong_field_is_named(change: dict, field: str) -> None:
    with pytest.raises(InvalidChange) as caught:
        from_plain(PLAIN | change)
    assert caught.value.field == field


@pytest.mark.parametrize("body", [b"", b"{", b"3", b"[3]", b"null", b"[" * 100_000])
def test_bodies_that_are_no_changes(body: bytes) -> None:
    with pytest.raises(InvalidChange):
        parse_request("application/json", {}, body)


@pytest.mark.parametrize(
    "event", [cloud_event("com.example.build"), cloud_event("dev.cdevents.build.queued.0.1.0"), cloud_event(subject={}), cloud_event() | {"data": "x"}]
)
def test_events_that_are_not_taken(event: dict) -> None:
    with pytest.raises(InvalidChange):
        structured(event)


def test_every_kind_of_the_contract_is_taken() -> None:
    assert len(KINDS) == 11
    for kind in KINDS:
        assert from_plain(PLAIN | {"kind": kind}).kind == kind


@pytest.mark.parametrize("value", ["NaN", "Infinity", "1e999", '"\\ud800"', '"a\\u0000b"'])
def test_what_the_database_cannot_hold_is_named(value: str) -> None:
    body = json.dumps(PLAIN | {"after": {"k": "X"}}).replace('"X"', value).encode()
    with pytest.raises(InvalidChange, match="body: holds"):
        parse_request("application/json", {}, body)


def test_lines_of_configuration_are_those_that_a_change_touched() -> None:
    change = Change(
        id="a", kind="config", at=0, service="x",
        before={"pool": {"size": 12, "name": "main"}, "old": True, "db.password": "1"}, after={"pool": {"size": 4, "name": "main"}, "hosts": ["a", "b"], "db.password": "2"},
    )  # fmt: skip
    assert lines(change) == [
        Line("db.password", "…", "…"),
        Line("hosts", None, '["a", "b"]'),
        Line("old", "true", None),
        Line("pool.size", "12", "4"),
    ]
    assert lines(Change(id="b", kind="deploy", at=0, service="x")) == []
    assert lines(Change(id="c", kind="flag", at=0, before=False, after=True)) == [Line("value", "false", "true")]
