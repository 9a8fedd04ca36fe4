"""Who stands out: one instance, host, zone, version or other value that slow or failed requests have and others have not."""

from __future__ import annotations

import math
from collections.abc import Iterator

from wirbel.core.diagnosis.case import Case, Entity
from wirbel.core.diagnosis.contrast import Standout
from wirbel.core.diagnosis.evidence.observation import Feature, Observation, Source
from wirbel.core.diagnosis.marks import ASKED, OUTCOMES

FEATURES = {
    "stands out": Feature("share of the change that vanishes with it, times how far apart it is", +1, 0.5),
    "surely stands out": Feature("-log10 p", +1, 20.0),
    "alike": Feature("other places that mark the same requests", -1, 2.0),
    "others suffer too": Feature("excess of the siblings over its own", -1, 0.5),
    "one value alone": Feature("share of the change that vanishes with one value of its requests, times how far apart it is", -1, 0.5),
}
PLACES = {"service.instance.id": "instance", "k8s.pod.name": "instance", "host.name": "host", "cloud.availability_zone": "zone"}
_OF_SERVICE = {"service.version", "operation"}
MOST_ATTRIBUTES = 5
CERTAIN = 1e-30


def _observe(case: Case) -> Iterator[Observation]:
    attributes = 0
    for standout in case.standouts:
        values = [(standout.service, standout.key, standout.value), *standout.same_as]
        places = {(PLACES[key], value): service for service, key, value in values if key in PLACES}
        alone = 1 - _siblings_alike(case, standout)
        for entity, service in places.items():
            yield from _of(case, standout, entity, service, len(places) - 1, values, alone)
        if places:
            yield from _alone(standout, alone)
        found = [(service, key, value) for service, key, value in values if not (key in PLACES or key in _OF_SERVICE or key.startswith(OUTCOMES + ASKED))]
        if found and not places and attributes < MOST_ATTRIBUTES:
            attributes += 1
            service, key, value = found[0]
            yield from _of(case, standout, ("attribute", key), service, 0, [(service, key, value)], 1.0)
            yield from _alone(standout, 1.0)


def _alone(s: Standout, alone: float) -> Iterator[Observation]:
    """Where the siblings of a value are well, not all of the service is to blame."""
    if s.others == "focus":
        yield Observation(("service", s.service), "one value alone", _does(s) * alone, service=s.service)


def _siblings_alike(case: Case, s: Standout) -> float:
    """How much as an instance stands out the next of its service does, between 0 and 1.

    A request that asks a service again meets several instances, and each stands out by what all do: then it is none of them alone.
    """
    others = [_does(one) for one in case.standouts if one is not s and one.service == s.service and one.key == s.key and PLACES.get(s.key) == "instance"]
    return min(max(others, default=0.0) / max(_does(s), 1e-9), 1.0)


def _does(s: Standout) -> float:
    """The share of the change that vanishes with it, times how far apart it is."""
    return max(s.explains, 0.0) * _apart(s)


def _of(case: Case, s: Standout, entity: Entity, service: str, alike: int, values: list[tuple[str, str, str]], alone: float) -> Iterator[Observation]:
    attributes = {key: value for _, key, value in values}
    if s.only_with is not None:
        attributes.setdefault(s.only_with.key, s.only_with.value)
    of = service if entity[0] in ("instance", "attribute") else None
    apart = _apart(s)
    name = s.value if entity[0] == "attribute" else entity[1]
    facts = {"value": name, "with": s.excess_with, "others": s.excess_others, "unit": case.effect.unit, "only_with": s.only_with}
    about = {"service": service, "key": s.key, "value": s.value}
    yield Observation(entity, "stands out", _does(s) * alone, None, "stands-out", facts, about, attributes, of)
    yield Observation(entity, "surely stands out", -math.log10(max(s.p, CERTAIN)) * (1.0 if s.others == "focus" else 0.5), None, None, {}, {}, attributes, of)
    yield Observation(entity, "others suffer too", 1 - apart, None, None, {}, {}, attributes, of)
    if alike:
        others = sorted({(PLACES[key], value) for _, key, value in values if key in PLACES} - {entity})
        yield Observation(entity, "alike", float(alike), None, "same-requests", {"value": name, "others": others}, {}, attributes, of)


def _apart(s: Standout) -> float:
    """How far what touches the value is from what touches its siblings: 1 where these are as usual, 0 where they are as bad."""
    return min(max(1 - s.excess_others / s.excess_with, 0.0), 1.0) if s.excess_with > 0 else 0.0


SOURCE = Source("contrast", FEATURES, _observe, ("latency", "errors"))
