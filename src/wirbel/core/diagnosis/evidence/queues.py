"""Who keeps a queue waiting: what waits at a broker is explained by the consumer that is behind, and not by the broker that holds it."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from wirbel.core.diagnosis.case import LEAST_EXPLAINED, Case, Entity
from wirbel.core.diagnosis.evidence.observation import Feature, Observation, Source

FEATURES = {
    "keeps its queue waiting": Feature("share of the change that waits at brokers, while it is slower at each message", +1, 0.4),
    "a consumer is behind": Feature("1 if one of those who take its messages is slower at each", -1, 0.5),
}
SLOWER = 3.0  # standard deviations of its mean time, or of what waits for it
LEAST_LONGER = 0.5  # of its usual time


def _observe(case: Case) -> Iterator[Observation]:
    s = case.services
    waits = {entity: case.effect_of(entity) for entity in _brokers(case)} if case.question.signal != "throughput" else {}
    held = max(waits.values(), default=0.0)
    before, after = s.took
    for n, entity in enumerate(s.entities):
        longer = float(after[n] / before[n]) if before[n] > 0 else 1.0
        if not (s.is_consumer[n] and s.slower[n] > SLOWER and longer > 1 + LEAST_LONGER):
            continue
        if held >= LEAST_EXPLAINED:
            facts = {"name": entity[1], "before": float(before[n]), "after": float(after[n]), "share": held}
            yield Observation(entity, "keeps its queue waiting", held, "waiting", "keeps-waiting", facts, {"service": entity[1]}, service=entity[1])
        for broker in waits:
            yield Observation(broker, "a consumer is behind", 1.0, None, "consumer-behind", {"name": entity[1]})


def _brokers(case: Case) -> Iterator[Entity]:
    kind, kinds = case.traces.codes("peer_kind")
    peer, peers = case.traces.codes("peer")
    if "broker" in kinds:
        yield from (("database", peers[n]) for n in np.unique(peer[kind == kinds.index("broker")]).tolist() if n >= 0)


SOURCE = Source("queues", FEATURES, _observe)
