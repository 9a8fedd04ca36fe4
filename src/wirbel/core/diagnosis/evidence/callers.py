"""Who calls more, or less, than before: of a question about traffic."""

from __future__ import annotations

from collections.abc import Iterator

from wirbel.core.diagnosis.case import LEAST_EXPLAINED, Case
from wirbel.core.diagnosis.evidence.observation import Feature, Observation, Source
from wirbel.core.diagnosis.parts import OUTSIDE

FEATURES = {
    "calls more": Feature("share of the change", +1, 0.5),
    "calls less": Feature("share of the change", +1, 0.5),
}
MOST = 10


def _observe(case: Case) -> Iterator[Observation]:
    rises = case.effect.delta > 0
    for c in case.contributions[:MOST]:
        share = c.delta / case.effect.delta if case.effect.delta else 0.0
        if share < LEAST_EXPLAINED:
            continue
        outside = c.part.service == OUTSIDE
        entity = ("load", case.question.service) if outside else ("service", c.part.service)
        facts = {"operation": c.part.operation, "caller": None if outside else c.part.service, "rate": (c.reference, c.focus), "share": share}
        about = {"service": case.question.service, "operation": c.part.operation}
        feature, mechanism = ("calls more", "traffic") if rises else ("calls less", "absence")
        yield Observation(entity, feature, min(share, 1.0), mechanism, "traffic", facts, about, service=None if outside else c.part.service)


SOURCE = Source("callers", FEATURES, _observe, ("throughput",))
