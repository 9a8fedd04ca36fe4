"""How much slower each service became at all it does, and what is seen through the eyes of such a one.

A process that is short of a processor takes longer for its own work, is late at every answer, and keeps its callers waiting. What only it calls
looks slow by as much, and is not.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from wirbel.core.diagnosis.attribution import Split
from wirbel.core.diagnosis.parts import OWN, TRANSFER
from wirbel.core.diagnosis.requests import Requests
from wirbel.core.diagnosis.responsibility import callee

Entity = tuple[str, str]
MIN_CALLS = 20


@dataclass(frozen=True)
class Pace:
    """log2 of the time of calls, focus over reference, each against its own usual time; None where too few are known.

    ``own`` is of the work of each service, ``way`` of the way to it, ``calls`` of what it calls, ``each`` of every kind of call that it makes;
    ``callers`` are those that call something.
    """

    own: Mapping[str, float | None]
    way: Mapping[str, float | None]
    calls: Mapping[str, Mapping[Entity, float | None]]
    each: Mapping[str, list[float]]
    callers: Mapping[Entity, set[str]]

    @classmethod
    def of(cls, here: Requests) -> Pace:
        if not here.in_focus.any() or here.in_focus.all():
            return cls({}, {}, {}, {}, {})
        split = Split.of(here, here.time, here.calls)
        seen = float(here.in_focus.sum()), float((~here.in_focus).sum())
        own: dict[str, list[int]] = defaultdict(list)
        way: dict[str, list[int]] = defaultdict(list)
        asked: dict[str, dict[Entity, list[int]]] = defaultdict(lambda: defaultdict(list))
        callers: dict[Entity, set[str]] = defaultdict(set)
        for number, part in enumerate(here.parts):
            if part.kind == OWN:
                own[part.service].append(number)
                continue
            if part.kind == TRANSFER:
                way[part.peer or ""].append(number)
            asked[part.service][callee(part)].append(number)
            callers[callee(part)].add(part.service)
        return cls(
            {name: _slower(split, parts, seen) for name, parts in own.items()},
            {name: _slower(split, way.get(name, []), seen) for name in own},
            {name: {entity: _slower(split, parts, seen) for entity, parts in asked[name].items()} for name in own},
            {name: [x for parts in asked[name].values() for part in parts if (x := _slower(split, [part], seen)) is not None] for name in own},
            callers,
        )

    def at_everything(self, service: str) -> float:
        """Of its own work, the way to it where it is known, and each kind of call that it makes, the least slowed; 0 where calls or work are not known."""
        known = [x for x in (self.own[service], self.way[service]) if x is not None]
        return max(min([*known, *self.each[service]]), 0.0) if known and self.each[service] else 0.0

    def seen_through(self, entity: Entity) -> tuple[str, float] | None:
        """The only service that calls something, and how much of the added time is that service's own, between 0 and 1; None if there are more."""
        callers = self.callers.get(entity, set())
        if len(callers) != 1 or entity[0] == "service":
            return None
        [caller] = callers
        slower = self.calls.get(caller, {}).get(entity)
        if slower is None or slower <= 0:
            return None
        # Had it stayed as fast as it was, its caller would have seen it slower by as much as it is itself.
        return caller, min((2.0 ** self.at_everything(caller) - 1) / (2.0**slower - 1), 1.0)


def _slower(split: Split, parts: list[int], seen: tuple[float, float]) -> float | None:
    (n0, n1), (t0, t1) = ((x[parts] for x in pair) for pair in (split.calls, split.time))
    known = (n0 > 0) & (n1 > 0) & (t0 > 0)
    if n1[known].sum() * seen[0] < MIN_CALLS or n0[known].sum() * seen[1] < MIN_CALLS:
        return None
    expected = float((n1[known] * t0[known] / n0[known]).sum())
    return float(np.log2(max(float(t1[known].sum()), 1e-9) / max(expected, 1e-9)))
