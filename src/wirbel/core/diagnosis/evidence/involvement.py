"""What has no part in it: what the symptom's requests never met, nor anything beneath them, and what they met that adds nothing."""

from __future__ import annotations

from collections.abc import Iterator

from wirbel.core.diagnosis.case import LEAST_EXPLAINED, Case
from wirbel.core.diagnosis.evidence.observation import Feature, Observation, Source

FEATURES = {
    "not involved": Feature("1 for what the symptom's requests do not meet, nor call through others", -1, 0.5),
    "no effect seen": Feature("1 for what they meet that adds nothing to the change", -1, 0.5),
}


def _observe(case: Case) -> Iterator[Observation]:
    for kind, name in case.services.entities:
        service = name if kind == "service" else None
        about = {"service": name} if service else {}
        if (kind, name) not in case.involved:
            yield Observation((kind, name), "not involved", 1.0, None, "not-involved", {"name": name}, about, service=service)
        elif case.question.signal != "throughput" and case.effect_of((kind, name)) < LEAST_EXPLAINED:
            yield Observation((kind, name), "no effect seen", 1.0, None, "no-effect", {"name": name}, about, service=service)


SOURCE = Source("involvement", FEATURES, _observe)
