"""What goes wrong in the fleet, one after the other, and who is at fault."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from tests.outside.fleet.running import ENVIRONMENT, Fleet

SETTLE_S, REFERENCE_S, FAULT_S = 4, 40, 35
Window = tuple[str, str]


@dataclass(frozen=True)
class Happening:
    """A fault, how it is made, what is announced of it, and who is at fault: any of the names, by one of the mechanisms."""

    name: str
    makes: Callable[[Fleet], AbstractContextManager[None]]
    culprits: frozenset[tuple[str, str]]
    mechanisms: frozenset[str]
    signal: str = "latency"
    asked: str = "gate"  # the service whose users complain
    announced: dict[str, Any] | None = None


@dataclass(frozen=True)
class Lived:
    """When it happened, and the change that was announced then, in the form in which changes are sent."""

    name: str
    reference: Window  # just before
    focus: Window
    change: dict[str, Any] | None


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
        asked="berths",  # users of gate wait less for tariffs then, which is asked more evenly
        announced={"kind": "config", "service": "berths", "summary": "fewer connections", "before": {"pool.size": 8}, "after": {"pool.size": 1}},
    ),
    Happening(
        "a runaway thread",
        lambda fleet: fleet.switch("tariffs", "spin"),
        frozenset({("service", "tariffs"), ("instance", "tariffs")}),
        frozenset({"saturation", "slower-work", "waiting"}),
    ),
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
        "an error for one version of the app",
        lambda fleet: fleet.switch("gate", "old-app"),
        frozenset({("attribute", "2.3.0")}),
        frozenset({"errors"}),
        signal="errors",
    ),
)


def now() -> str:
    return datetime.now(UTC).isoformat().replace("+00:00", "Z")


def live(fleet: Fleet) -> Iterator[Lived]:
    """Lets everything happen to a fleet, one after the other, each after a quiet time."""
    time.sleep(SETTLE_S)  # until connections and caches are warm
    for one in HAPPENINGS:
        time.sleep(SETTLE_S)
        began = now()
        time.sleep(REFERENCE_S)
        reference = (began, now())
        change = {"at": now(), "environment": ENVIRONMENT, "id": f"real-{one.announced['kind']}-{one.name}", **one.announced} if one.announced else None
        with one.makes(fleet):
            began = now()
            time.sleep(FAULT_S)
            yield Lived(one.name, reference, (began, now()), change)
