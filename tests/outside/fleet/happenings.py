"""What goes wrong in the fleet, one after the other, and who is at fault: two stories, of a fleet with one of each and of one with two of ``tariffs``."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from tests.outside.fleet.running import ROLES, Fleet

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


@dataclass(frozen=True)
class Story:
    """What happens to which processes, and the environment that they say they are of."""

    environment: str
    processes: tuple[str, ...]
    happenings: tuple[Happening, ...]

    @property
    def file(self) -> Path:
        """Where it is kept once it has been lived."""
        return Path(__file__).with_name(f"{self.environment}.tar.xz")


NOTHING = Happening("nothing", lambda fleet: nullcontext(), frozenset(), frozenset())
ONE_OF_EACH = (
    NOTHING,
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


TWO_OF_TARIFFS = (
    NOTHING,
    Happening(
        "one instance slow", lambda fleet: fleet.switch("tariffs 2", "slow-here"), frozenset({("instance", "tariffs 2")}), frozenset({"slower-work", "waiting"})
    ),
    Happening(
        "one instance that fails",
        lambda fleet: fleet.switch("tariffs 2", "fails-here"),
        frozenset({("instance", "tariffs 2")}),
        frozenset({"errors", "config"}),
        signal="errors",
    ),
    Happening(
        "a provider that fails",
        lambda fleet: fleet.failing_provider(0.4),
        frozenset({("external", "rates")}),
        frozenset({"errors", "external"}),
        signal="errors",
    ),
    Happening(
        "a provider that is gone",
        lambda fleet: fleet.without("rates"),
        frozenset({("external", "rates")}),
        frozenset({"errors", "external", "absence"}),
        signal="errors",
    ),
    Happening(
        "five calls in place of one",
        lambda fleet: fleet.switch("gate", "five-fold"),
        frozenset({("service", "gate")}),
        frozenset({"more-calls", "deploy"}),
        announced={"kind": "deploy", "service": "gate", "version": "3.1.0"},
    ),
    Happening(
        "slower code",
        lambda fleet: fleet.switch("berths", "heavier"),
        frozenset({("service", "berths")}),
        frozenset({"slower-work", "deploy"}),
        announced={"kind": "deploy", "service": "berths", "version": "1.9.0"},
    ),
    Happening(
        "connections that are cut",
        lambda fleet: fleet.cut_connections(0.15),
        frozenset({("database", "127.0.0.1")}),
        frozenset({"errors", "network", "absence"}),
        signal="errors",
    ),
)
STORIES = (Story("quay", ROLES, ONE_OF_EACH), Story("pier", (*ROLES, "tariffs 2"), TWO_OF_TARIFFS))


def now() -> str:
    return datetime.now(UTC).isoformat().replace("+00:00", "Z")


def live(fleet: Fleet, story: Story) -> Iterator[Lived]:
    """Lets everything of a story happen to a fleet, one after the other, each after a quiet time."""
    time.sleep(SETTLE_S)  # until connections and caches are warm
    for one in story.happenings:
        time.sleep(SETTLE_S)
        began = now()
        time.sleep(REFERENCE_S)
        reference = (began, now())
        change = {"at": now(), "environment": story.environment, "id": f"real-{one.announced['kind']}-{one.name}", **one.announced} if one.announced else None
        with one.makes(fleet):
            began = now()
            time.sleep(FAULT_S)
            yield Lived(one.name, reference, (began, now()), change)
