"""Where the time went, or where errors began: what each entity adds to the change."""

from __future__ import annotations

from collections.abc import Iterator

from wirbel.core.diagnosis.case import LEAST_EXPLAINED, Case, Entity, Share
from wirbel.core.diagnosis.evidence.observation import Feature, Observation, Source
from wirbel.core.diagnosis.parts import TRANSFER

FEATURES = {
    "explains": Feature("share of the change", +1, 0.5),
    "errors begin": Feature("share of the change", +1, 0.5),
    "errors begin on the way": Feature("share of the change", +1, 0.5),  # by calls that were not answered in time, or not taken
    "largest": Feature("1 for what adds most", +1, 0.5),
}


def _observe(case: Case) -> Iterator[Observation]:
    delta = case.effect.delta
    by_entity: dict[Entity, list[Share]] = {}
    for share in case.shares:
        by_entity.setdefault(share.doer.entity, []).append(share)
    explained = _without_eyes(case, {entity: sum(share.amount for share in shares) / delta for entity, shares in by_entity.items()})
    most = max(explained.values(), default=0.0)
    for entity, shares in by_entity.items():
        explains = explained[entity]
        if explains < LEAST_EXPLAINED:
            continue
        main = max(shares, key=lambda share: share.amount / delta)
        about = {"service": entity[1]} if entity[0] == "service" else {}
        service = entity[1] if entity[0] == "service" else None
        feature = _feature(case, main)
        facts, seen = _facts(case, main)
        kind = "where-time-went" if case.question.signal == "latency" else "where-errors-began"
        yield Observation(entity, feature, min(explains, 1.0), _mechanism(case, entity[0], main), kind, facts, about | seen, service=service)
        if explains == most:
            yield Observation(entity, "largest", 1.0, service=service)


def _without_eyes(case: Case, explained: dict[Entity, float]) -> dict[Entity, float]:
    """What is slow only as seen by a caller that is slow at all it does is that caller's."""
    found = dict(explained)
    for entity, share in explained.items():
        through = case.pace.seen_through(entity) if case.question.signal == "latency" else None
        if through is not None and share > 0 and ("service", through[0]) in found:
            found[entity] -= through[1] * share
            found["service", through[0]] += through[1] * share
    return found


def _feature(case: Case, main: Share) -> str:
    if case.question.signal == "latency":
        return "explains"
    on_the_way = all(part.kind == TRANSFER for part in main.parts)
    return "errors begin on the way" if on_the_way else "errors begin"


def _mechanism(case: Case, kind: str, main: Share) -> str:
    if case.is_better:
        return "unknown"  # what made it better is told by its changes
    return "external" if kind == "external" and main.doer.mechanism == "slower-work" else main.doer.mechanism


def _facts(case: Case, main: Share) -> tuple[dict[str, object], dict[str, str]]:
    """The part of the requests in which most of it is seen."""
    mine = set(main.parts)
    inside = [c for c in case.contributions if c.part in mine]
    c = max(inside, key=lambda c: (c.more_calls if main.doer.mechanism == "more-calls" else c.delta) / case.effect.delta)
    about = {"service": c.part.service, "operation": c.part.operation}
    if c.example:
        about |= {"trace": c.example[0], "span": c.example[1]}
        about |= {"against": ":".join(c.beside)} if c.beside else {}
    facts = {
        "mechanism": main.doer.mechanism,
        "part": c.part,
        "calls": (c.calls_reference, c.calls_focus),
        "amount": (c.reference, c.focus),
        "adds": main.amount,
        "share": main.amount / case.effect.delta,
        "unit": case.effect.unit,
    }
    return facts, about


SOURCE = Source("time split", FEATURES, _observe, ("latency", "errors"))
