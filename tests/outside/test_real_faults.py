"""Real faults in a real fleet under stock instrumentation, found by a live server from what arrives: nothing is simulated.

Each window is less than a minute: shorter than anybody would ask about, so that the run is affordable. What the rest of the suite does to two
cores is as loud as these faults, so that they are looked for on a machine that is left alone: WIRBEL_QUIET=1 ./wirbel test tests/outside/test_real_faults.py.
"""

from __future__ import annotations

import json
import os
import time
from collections.abc import Callable
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

import pytest

from tests.api_client import Api
from tests.conftest import Instance, make_database
from tests.outside.fleet import running
from tests.outside.fleet.running import ENVIRONMENT, Fleet

SETTLE_S, REFERENCE_S, FAULT_S = 4, 22, 20
Window = tuple[str, str]


@dataclass(frozen=True)
class Happening:
    """A fault, how it is made, what is announced of it, and who is at fault: any of the names, by one of the mechanisms."""

    name: str
    makes: Callable[[Fleet], AbstractContextManager[None]]
    culprits: frozenset[tuple[str, str]]
    mechanisms: frozenset[str]
    signal: str = "latency"
    announced: dict[str, Any] | None = None


def now() -> str:
    return datetime.now(UTC).isoformat().replace("+00:00", "Z")


HAPPENINGS = (
    Happening("nothing", lambda fleet: nullcontext(), frozenset(), frozenset()),
    Happening("a slow provider", lambda fleet: fleet.slow_provider(0.25), frozenset({("external", "rates")}), frozenset({"external", "slower-work"})),
    Happening(
        "one query turned into many",
        lambda fleet: fleet.switch("berths", "one-by-one"),
        frozenset({("service", "berths")}),
        frozenset({"more-calls", "deploy"}),
        announced={"kind": "deploy", "service": "berths", "version": "1.8.0"},
    ),
    Happening(
        "a pool of one",
        lambda fleet: fleet.pool_of(1, 8),
        frozenset({("service", "berths")}),
        frozenset({"waiting", "config", "saturation", "slower-work"}),
        announced={"kind": "config", "service": "berths", "summary": "fewer connections", "before": {"pool.size": 8}, "after": {"pool.size": 1}},
    ),
    Happening("a runaway thread", lambda fleet: fleet.switch("tariffs", "spin"), frozenset({("service", "tariffs"), ("instance", "tariffs")}), frozenset({"saturation", "slower-work", "waiting"})),
    Happening(
        "a dropped index",
        lambda fleet: fleet.without_index(),
        frozenset({("database", "127.0.0.1")}),
        frozenset({"slower-work", "saturation", "config"}),
        announced={"kind": "migration", "service": "berths", "summary": "indices put in order"},
    ),
    Happening("a held lock", lambda fleet: fleet.held_lock(), frozenset({("database", "127.0.0.1")}), frozenset({"lock", "waiting", "slower-work"})),
    Happening("doubled traffic", lambda fleet: fleet.more_traffic(2.0), frozenset({("load", "gate")}), frozenset({"traffic"})),
    Happening(
        "an error for one version of the app", lambda fleet: fleet.switch("gate", "old-app"), frozenset({("attribute", "2.3.0")}), frozenset({"errors"}), signal="errors"
    ),
)  # fmt: skip


LIVED = HAPPENINGS if os.environ.get("WIRBEL_QUIET") else ()


def announce(instance: Instance, what: dict[str, Any]) -> str:
    change = {"at": now(), "environment": ENVIRONMENT, "id": f"real-{what['kind']}-{what['service']}", **what}
    status, body, _ = instance.post("/v1/changes", json.dumps(change).encode(), Content_Type="application/json")
    assert status in (200, 201, 202), body
    return str(change["id"])


@dataclass(frozen=True)
class Lived:
    reference: dict[str, Window]  # just before each
    focus: dict[str, Window]
    changes: dict[str, str]
    rates: str  # where the provider is called


@pytest.fixture(scope="module")
def lived(instance: Instance) -> Lived:
    """Everything that happened to the fleet, one after the other."""
    reference, focus, changes = {}, {}, {}
    with running.running(instance.url, instance.token, make_database("fleet")) as fleet:
        rates = fleet.at["rates"].removeprefix("http://")
        time.sleep(SETTLE_S)  # until connections and caches are warm
        for one in LIVED:
            time.sleep(SETTLE_S)
            began = now()
            time.sleep(REFERENCE_S)
            reference[one.name] = (began, now())
            if one.announced:
                changes[one.name] = announce(instance, one.announced)
            with one.makes(fleet):
                began = now()
                time.sleep(FAULT_S)
                focus[one.name] = (began, now())
    return Lived(reference, focus, changes, rates)


@pytest.fixture(scope="module")
def api(instance: Instance) -> Api:
    return Api(instance)


@pytest.mark.parametrize("one", LIVED, ids=[one.name for one in LIVED])
def test_what_really_happened_is_found(api: Api, lived: Lived, one: Happening) -> None:
    windows = {name: {"start": start, "end": end} for name, (start, end) in (("focus", lived.focus[one.name]), ("reference", lived.reference[one.name]))}
    status, answer = api.post("/api/inquiries", {"service": "gate", "signal": one.signal, "environment": ENVIRONMENT, **windows})
    assert status == 201, answer
    candidates = answer["candidates"]
    told = [(c["entity"]["kind"], c["entity"]["name"], c["mechanism"], c["confidence"], c["change"]) for c in candidates]
    if not one.culprits:
        assert not candidates or candidates[0]["confidence"] < 0.3, told
        return
    assert candidates, answer["notes"]
    culprits = {(kind, lived.rates if name == "rates" else name) for kind, name in one.culprits}
    assert names_of(candidates[0]["entity"]) & culprits, told
    assert candidates[0]["mechanism"] in one.mechanisms, told
    if one.announced:
        assert candidates[0]["change"] == lived.changes[one.name], told


def names_of(entity: dict[str, Any]) -> set[tuple[str, str]]:
    """All that an entity may be called by: its name, its service, and its attributes' values."""
    names = {entity["name"], entity["service"], *entity["attributes"].values()}
    return {(entity["kind"], str(name)) for name in names}
