"""A fault: what it does to the world, what people and machines record of it, and the truth about it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from typing import Any

import numpy as np

from wirbel.core.text import rfc3339
from wirbel.demo.world.conditions import Effect, Form, Name, Shape
from wirbel.demo.world.happenings import Happenings, LogLines
from wirbel.demo.world.load import load_at
from wirbel.demo.world.topology import INSTANCES

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

    @property
    def load(self) -> float:
        """The usual load of the hour after the onset: with its burst, whenever in it that comes."""
        return float(load_at(self.onset + self.ahead + np.arange(60) * MINUTE).mean())


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


@dataclass
class Fault:
    truth: Truth
    happenings: Happenings = field(default_factory=Happenings)

    @property
    def begins(self) -> int:
        """When the world first differs (ns): what builds up begins before it is felt."""
        return min((effect.shape.start for effect in self.happenings.effects), default=self.truth.onset)

    def effect(self, *name: str | int, span: Span, times: float = 1.0, plus: float = 0.0, form: Form = "step", rise_s: float = 600.0) -> Fault:
        self.happenings.effects.append(Effect(as_name(name), Shape(span.onset, span.end, form, rise_s), times, plus))
        return self

    def restarted(self, service: str, at: int, who: str = "s.berg") -> Fault:
        """People restart what suffers; it does not help."""
        if at < self.truth.end:
            self.happenings = self.happenings.add([restart_by_hand(service, at, who)])
        return self

    def told_late(self, rng: np.random.Generator) -> Fault:
        """Hours after it, passengers are told all at once what they should have been told in time."""
        sent = self.truth.end + round(float(rng.uniform(90, 180))) * MINUTE
        return self.effect("load", "notice-fanout CONSUME notices", span=Span(sent, sent + 20 * MINUTE), times=float(rng.uniform(4, 7)))


Make = Callable[[np.random.Generator, Span], Fault]


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


def scaled_down(service: str, at: int, until: int) -> Happenings:
    """The autoscaler takes the last instance away, and brings it back; the others do its work meanwhile. Where there is one only, nothing."""
    count = len(INSTANCES[service])
    found = Happenings()
    if count < 3:  # of two, one would be left to do all
        return found
    found.effects.append(Effect(("instance", service, count - 1), Shape(at, until), times=0.0))
    for moment, before, after in ((at, count, count - 1), (until, count - 1, count)):
        told = change("scale", moment, service, f"{before} to {after} instances", actor="autoscaler", before={"instances": before}, after={"instances": after})
        found.changes.append(told)
    return found


def restart_by_hand(service: str, at: int, who: str = "s.berg") -> Happenings:
    """Told, and done: one instance after the other is away for a while and slow until it is warm."""
    found = Happenings(changes=[change("restart", at, service, f"{service} restarted by hand", actor=who)])
    for instance in range(len(INSTANCES[service])):
        away = at + instance * AWAY
        found.effects.append(Effect(("instance", service, instance), Shape(away, away + AWAY), times=0.0))
        found.effects.append(Effect(("work", service, instance), Shape(away + AWAY, away + AWAY + COLD), times=COLD_WORK))
    found.lines.append(LogLines(service, "INFO", "serving after {ms} ms", SECOND / AWAY, at + AWAY, away + 2 * AWAY))
    return found
