"""Who is slow at everything: a process that is short of a processor takes longer for its own work, is late at every answer, and keeps its callers waiting.

What it calls looks slow through its eyes, and is not.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

import numpy as np

from wirbel.core.diagnosis.attribution import Split
from wirbel.core.diagnosis.case import Case, Entity
from wirbel.core.diagnosis.evidence.observation import Feature, Observation, Source
from wirbel.core.diagnosis.parts import OWN, TRANSFER
from wirbel.core.diagnosis.responsibility import callee

FEATURES = {
    "slow at everything": Feature("log2 of time, of the least slowed of its own work, its calls and the way to it", +1, 1.0),
    "called by one who is slow": Feature("log2 of time, of the least slowed of its only caller's own work and the way to it", -1, 1.0),
}
SOME = 0.1  # log2: less is noise
MIN_CALLS = 20


def _observe(case: Case) -> Iterator[Observation]:
    here = case.here
    if not here.in_focus.any() or here.in_focus.all():
        return
    split = Split.of(here, here.time, here.calls)
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
    seen = float(here.in_focus.sum()), float((~here.in_focus).sum())
    for service, mine in own.items():
        itself = [_slower(split, parts, seen) for parts in (mine, way.get(service, []))]
        least = min((x for x in itself if x is not None), default=0.0)
        calls = {entity: _slower(split, parts, seen) for entity, parts in asked[service].items()}
        known = [x for x in calls.values() if x is not None]
        if None not in itself and least > SOME:
            for entity in calls:
                if entity[0] != "service" and callers[entity] == {service}:
                    yield Observation(entity, "called by one who is slow", least)
        both = min([least, *known]) if known else 0.0
        if both > SOME:
            facts = {"service": service, "own": 2.0 ** (itself[0] or 0.0), "calls": 2.0 ** min(known)}
            yield Observation(
                ("service", service), "slow at everything", both, "saturation", "slow-at-everything", facts, {"service": service}, service=service
            )


def _slower(split: Split, parts: list[int], seen: tuple[float, float]) -> float | None:
    """log2 of the time of calls of some parts, focus over reference, each against its own usual time; None where too few are known."""
    (n0, n1), (t0, t1) = ((x[parts] for x in pair) for pair in (split.calls, split.time))
    known = (n0 > 0) & (n1 > 0) & (t0 > 0)
    if (n1[known].sum() * seen[0]) < MIN_CALLS or (n0[known].sum() * seen[1]) < MIN_CALLS:
        return None
    expected = float((n1[known] * t0[known] / n0[known]).sum())
    return float(np.log2(max(float(t1[known].sum()), 1e-9) / max(expected, 1e-9)))


SOURCE = Source("slow at everything", FEATURES, _observe, ("latency",))
