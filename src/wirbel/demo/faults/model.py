"""A fault: where it can strike, what it does to the world, what people and machines record of it, and the truth about it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass, field
from typing import Any

import numpy as np

from wirbel.core.text import rfc3339
from wirbel.demo.world.conditions import Effect, Form, Name, Shape
from wirbel.demo.world.happenings import Happenings, LogLines, Rollout
from wirbel.demo.world.topology import Topology

SECOND = 10**9
MINUTE = 60 * SECOND
AWAY = 20 * SECOND  # of an instance that is restarted
COLD = 40 * SECOND  # and slow afterwards
COLD_WORK = 2.0


@dataclass(frozen=True)
class Span:
    """When a fault acts, ns, in a world whose clock is so far ahead of UTC."""

    onset: int
    end: int
    ahead: int = 0


@dataclass(frozen=True)
class Site:
    """Where a fault strikes; what its kind does not need is empty."""

    service: str = ""
    operation: str = ""  # its key
    backend: str = ""
    statement: str = ""
    host: str = ""
    zone: str = ""

    @property
    def names(self) -> set[str]:
        return {name for name in (self.service, self.operation, self.backend, self.statement, self.host, self.zone) if name}


@dataclass(frozen=True)
class Truth:
    """What a diagnosis should find. Kept apart from all that is stored of the world."""

    kind: str
    entities: tuple[tuple[str, str], ...]  # (kind, name) of what is at fault; any of them is right
    mechanisms: tuple[str, ...]  # any of them is right
    services: tuple[str, ...]  # lenient: where a person would look and find it
    change: str | None
    onset: int
    end: int
    hurts: bool = True  # users feel it

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


@dataclass(frozen=True)
class Case:
    """All that a fault is made from. ``strength`` is between 0, where it hardly shows, and 1; equal seeds give equal ``rng``."""

    topology: Topology
    span: Span
    site: Site
    strength: float
    rng: np.random.Generator

    def between(self, low: float, high: float) -> float:
        """The size of an effect by its strength, in equal factors."""
        return float(low * (high / low) ** self.strength)


@dataclass
class Fault:
    case: Case
    truth: Truth
    happenings: Happenings = field(default_factory=Happenings)

    @property
    def begins(self) -> int:
        """When the world first differs (ns): what builds up begins before it is felt."""
        return min((effect.shape.start for effect in self.happenings.effects), default=self.truth.onset)

    def effect(self, *name: str | int, span: Span | None = None, times: float = 1.0, plus: float = 0.0, form: Form = "step", rise_s: float = 600.0) -> Fault:
        span = span or self.case.span
        self.happenings.effects.append(Effect(as_name(name), Shape(span.onset, span.end, form, rise_s), times, plus))
        return self

    def says(self, service: str, severity: str, template: str, per_second: float, start: int | None = None) -> Fault:
        """A log line while it lasts."""
        span = self.case.span
        self.happenings.lines.append(LogLines(service, severity, template, per_second, span.onset if start is None else start, span.end))
        return self

    def restarted(self, service: str | None, at: int, who: str = "s.berg") -> Fault:
        """People restart what suffers; it does not help."""
        if service and at < self.truth.end:
            self.happenings = self.happenings.add([restart_by_hand(self.case.topology, service, at, who)])
        return self

    def told_late(self) -> Fault:
        """Hours after it, users are told all at once what they should have been told in time."""
        rng, topology = self.case.rng, self.case.topology
        sent, times = self.truth.end + round(float(rng.uniform(90, 180))) * MINUTE, float(rng.uniform(4, 7))
        tellers = [
            o.key
            for o in topology.operations.values()
            if o.source and any(topology.backends[c.to].kind == "external" for c in o.calls if c.to in topology.backends)
        ]
        return self.effect("load", tellers[0], span=Span(sent, sent + 20 * MINUTE), times=times) if tellers else self


Sites = Callable[[Topology], Sequence[Site]]
Build = Callable[[Case], Fault]


def as_name(name: tuple[str | int, ...]) -> Name:
    return tuple(name)


def change(kind: str, at: int, service: str | None, summary: str, **more: Any) -> dict[str, Any]:
    """A change as the door for changes takes it; its id follows from what it says."""
    until = more.pop("until", None)
    return {
        "id": f"{kind}-{service or more.get('entity', {}).get('host.name', 'all')}-{at // SECOND}",
        "kind": kind,
        "at": rfc3339(at),
        "until": None if until is None else rfc3339(until),
        "service": service,
        "summary": summary,
        "environment": "production",
        "actor": "deploy-bot",
        **more,
    }


def next_version(topology: Topology, service: str) -> str:
    major, minor, _ = topology.services[service].version.split(".")
    return f"{major}.{int(minor) + 1}.0"


def release(case: Case, at: int) -> tuple[dict[str, Any], Rollout]:
    """The next version of the service where a fault strikes, on all its instances from ``at`` (ns) on: as it is told, and as it happens."""
    service, version = case.site.service, next_version(case.topology, case.site.service)
    return change("deploy", at, service, f"{service} {version}", version=version), Rollout(service, version, at, ends=case.span.end)


def a_front(case: Case) -> str | None:
    """A front that suffers, to which people look first."""
    fronts = [name for name in case.topology.fronts if name != case.site.service]
    return str(case.rng.choice(fronts)) if fronts else None


def scaled_down(topology: Topology, service: str, at: int, until: int) -> Happenings:
    """The autoscaler takes the last instance away, and brings it back; the others do its work meanwhile. Where there is one only, nothing."""
    count = len(topology.instances[service])
    found = Happenings()
    if count < 3:  # of two, one would be left to do all
        return found
    found.effects.append(Effect(("instance", service, count - 1), Shape(at, until), times=0.0))
    for moment, before, after in ((at, count, count - 1), (until, count - 1, count)):
        told = change("scale", moment, service, f"{before} to {after} instances", actor="autoscaler", before={"instances": before}, after={"instances": after})
        found.changes.append(told)
    return found


def restart_by_hand(topology: Topology, service: str, at: int, who: str = "s.berg") -> Happenings:
    """Told, and done: one instance after the other is away for a while and slow until it is warm."""
    found = Happenings(changes=[change("restart", at, service, f"{service} restarted by hand", actor=who)])
    for instance in range(len(topology.instances[service])):
        away = at + instance * AWAY
        found.effects.append(Effect(("instance", service, instance), Shape(away, away + AWAY), times=0.0))
        found.effects.append(Effect(("work", service, instance), Shape(away + AWAY, away + AWAY + COLD), times=COLD_WORK))
    found.lines.append(LogLines(service, "INFO", "serving after {ms} ms", SECOND / AWAY, at + AWAY, away + 2 * AWAY))
    return found
