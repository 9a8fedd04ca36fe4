"""What changed: entities with a change whose own part stepped at it, or rose from it on."""

from __future__ import annotations

from collections.abc import Iterator

from wirbel.core.diagnosis.case import Case, Entity
from wirbel.core.diagnosis.changes import HELD, Judged
from wirbel.core.diagnosis.evidence.observation import Feature, Observation, Source

FEATURES = {
    "change stepped": Feature("share of the change that stepped there", +1, 0.3),
    "change of caller stepped": Feature("share of the change that stepped there", +1, 0.3),
    "rose from a change on": Feature("1 if it did", +1, 0.5),
    "control stayed": Feature("1 if what was not changed stayed", +1, 0.5),
    "changed at the onset": Feature("1 at the onset, less the further away", +1, 0.5),
    "version stands out": Feature("share of bad requests beyond that of normal ones", +1, 0.3),
}
NEAR_S = 300.0
GRADUAL_S = 3600.0


def _observe(case: Case) -> Iterator[Observation]:
    for judged in case.judged:
        for entity, service in _entities(case, judged):
            yield from _of(case, judged, entity, service)


def _entities(case: Case, judged: Judged) -> Iterator[tuple[Entity, str | None]]:
    """What a change is about: the entity that was judged, and the instance it names."""
    change = judged.change
    instance = change.entity.get("service.instance.id")
    if judged.entity is not None and judged.entity[0] != "everything":
        yield judged.entity, judged.entity[1] if judged.entity[0] == "service" else None
    elif change.service:
        yield ("service", change.service), change.service
    if instance:
        yield ("instance", instance), change.service
    elif judged.entity == ("service", change.service) and change.version:
        for standout in case.standouts:
            values = [(standout.service, standout.key, standout.value), *standout.same_as]
            if (change.service, "service.version", change.version) in values:
                for service, key, value in values:
                    if key == "service.instance.id" and service == change.service:
                        yield ("instance", value), change.service


def _of(case: Case, judged: Judged, entity: Entity, service: str | None) -> Iterator[Observation]:
    facts = {"judged": judged, "unit": case.effect.unit}
    about = {"change": judged.change.id}
    if judged.verdict == "responsible":
        yield Observation(entity, "change stepped", min(judged.share, 1.0), None, "change", facts, about, service=service)
        if judged.control is not None:
            yield Observation(entity, "control stayed", 1.0, None, "control", {"control": judged.control, "unit": case.effect.unit}, about, service=service)
    elif judged.verdict == "calls":
        yield Observation(entity, "change of caller stepped", min(judged.share, 1.0), None, "change", facts, about, service=service)
    elif judged.verdict == "gradual":
        yield Observation(entity, "rose from a change on", 1.0, None, "change", facts, about, service=service)
    near = max(0.0, 1 - abs(judged.lead_s) / NEAR_S)
    if near > 0 and judged.verdict in HELD:
        yield Observation(entity, "changed at the onset", near, None, None if judged.verdict == "responsible" else "change-near", facts, about, service=service)
    version = judged.change.version
    for s in case.standouts if version else []:
        if (judged.change.service, "service.version", version) in [(s.service, s.key, s.value), *s.same_as]:
            told = {"service": judged.change.service, "version": version, "bad": s.share_bad, "normal": s.share_normal}
            seen = {"service": str(judged.change.service), "key": "service.version", "value": str(version)}
            yield Observation(entity, "version stands out", max(s.share_bad - s.share_normal, 0.0), None, "version", told, seen, service=service)
            return


SOURCE = Source("changes", FEATURES, _observe, ("latency", "errors"))
