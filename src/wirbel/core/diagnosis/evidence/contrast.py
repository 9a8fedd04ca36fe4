"""Who stands out: one instance, host, zone, version or other value that slow or failed requests have and others have not."""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from wirbel.core import arrow
from wirbel.core.diagnosis.case import Case, Entity
from wirbel.core.diagnosis.contrast import Standout
from wirbel.core.diagnosis.evidence.observation import Feature, Observation, Source
from wirbel.core.diagnosis.evidence.tenants import alone_on_host
from wirbel.core.diagnosis.marks import ASKED, OUTCOMES

Bools = npt.NDArray[np.bool_]
FEATURES = {
    "stands out": Feature("share of the change that vanishes with it, times how far apart it is", +1, 0.5),
    "surely stands out": Feature("-log10 p", +1, 20.0),
    "alike": Feature("other places that mark the same requests", -1, 2.0),
    "others suffer too": Feature("excess of the siblings over its own", -1, 0.5),
    "one value alone": Feature("share of the change that vanishes with one value of its requests, times how far apart it is", -1, 0.5),
}
PLACES = {"service.instance.id": "instance", "k8s.pod.name": "instance", "host.name": "host", "cloud.availability_zone": "zone"}
_OF_SERVICE = {"service.version", "operation"}
POD = arrow.attribute_column("resource", "s", "k8s.pod.name")
MOST_ATTRIBUTES = 5
ALL = 0.99  # of the spans of some operations
CERTAIN = 1e-30


def _observe(case: Case) -> Iterator[Observation]:
    attributes = 0
    alone_there = alone_on_host(case)
    owners = _owners(case)
    instance_of_pod = _instance_of_pod(case)
    for standout in case.standouts:
        values = [(standout.service, standout.key, standout.value), *standout.same_as]
        places = {}
        for service, key, value in values:
            kind = PLACES.get(key)
            # New ids come with every roll-out: an instance that has no siblings beside it is all of its service.
            if kind and not (kind == "instance" and standout.others != "focus"):
                places[kind, instance_of_pod.get(value, value) if kind == "instance" else value] = service
        alone = 1 - _siblings_alike(case, standout)
        for entity, service in places.items():
            own = alone_there.get(entity[1], 1.0) if entity[0] == "instance" else 1.0
            yield from _of(case, standout, entity, service, len(places) - 1, values, alone * own)
        if places:
            yield from _alone(standout, alone)
        found = [
            (service, key, value)
            for service, key, value in values
            if not (key in PLACES or key in _OF_SERVICE or key.startswith(OUTCOMES + ASKED) or _names_an_operation(case, service, key, value))
        ]
        if found and not places and attributes < MOST_ATTRIBUTES:
            attributes += 1
            _, key, value = found[0]
            service = owners.get((key, value), found[0][0])
            yield from _of(case, standout, ("attribute", key), service, 0, [(service, key, value)], 1.0)
            yield from _alone(standout, 1.0)


def _owners(case: Case) -> dict[tuple[str, str], str]:
    """Of a value that is carried through several services, the one that adds most to the change."""
    services: dict[tuple[str, str], set[str]] = {}
    for standout in case.standouts:
        for service, key, value in [(standout.service, standout.key, standout.value), *standout.same_as]:
            services.setdefault((key, value), set()).add(service)
    return {mark: max(sorted(found), key=lambda service: case.effect_of(("service", service))) for mark, found in services.items() if len(found) > 1}


def _instance_of_pod(case: Case) -> dict[str, str]:
    """One thing under two names is one candidate: the instance that each pod is, where a pod is one."""
    if POD not in case.traces.table.column_names:
        return {}
    pods, instances = case.traces.codes(POD)[1], case.traces.codes("instance")[1]
    found: dict[str, set[str]] = {}
    for pod, instance in case.traces.together(POD, "instance"):
        found.setdefault(pods[pod], set()).add(instances[instance])
    return {pod: names.pop() for pod, names in found.items() if len(names) == 1}


def _names_an_operation(case: Case, service: str, key: str, value: str) -> bool:
    """Whether a value tells no more than an operation does: where in a program a span is made, or by which way a request came."""
    traces = case.traces
    with_value = np.zeros(len(traces), np.bool_)
    for column in arrow.columns_of(key):
        if column in traces.table.column_names:
            code, names = traces.codes(column)
            with_value |= np.isin(code, [n for n, name in enumerate(names) if str(name) == value])
    mine = with_value & traces.equal("service", service)
    if not mine.any():
        return False
    operation = traces.codes("operation")[0]
    of = traces.equal("service", service) & np.isin(operation, np.unique(operation[mine])) & np.isin(traces.kind, np.unique(traces.kind[mine]))
    return bool(mine.sum() >= ALL * of.sum()) or _same_traces_as_an_operation(case, mine)


def _same_traces_as_an_operation(case: Case, rows: Bools) -> bool:
    """Whether the traces of some spans are those in which some one operation is met."""
    trace, met = case.operations_by_trace
    marked = np.zeros(met.shape[1], np.float64)
    marked[trace[rows]] = 1.0
    both, either = met @ marked, np.asarray(met.sum(axis=1)).reshape(-1) + marked.sum()
    return bool((both >= ALL * (either - both)).any())


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
    yield Observation(
        entity, "stands out", _does(s) * alone, None, "stands-out", facts, about, attributes, of, ("service", service) if entity[0] == "host" else None
    )
    yield Observation(entity, "surely stands out", -math.log10(max(s.p, CERTAIN)) * (1.0 if s.others == "focus" else 0.5), None, None, {}, {}, attributes, of)
    yield Observation(entity, "others suffer too", 1 - apart, None, None, {}, {}, attributes, of)
    if alike:
        others = sorted({(PLACES[key], value) for _, key, value in values if key in PLACES} - {entity})
        yield Observation(entity, "alike", float(alike), None, "same-requests", {"value": name, "others": others}, {}, attributes, of)


def _apart(s: Standout) -> float:
    """How far what touches the value is from what touches its siblings: 1 where these are as usual, 0 where they are as bad."""
    return min(max(1 - s.excess_others / s.excess_with, 0.0), 1.0) if s.excess_with > 0 else 0.0


SOURCE = Source("contrast", FEATURES, _observe, ("latency", "errors"))
