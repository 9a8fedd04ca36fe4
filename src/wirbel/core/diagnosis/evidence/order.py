"""What moved first: order is claimed only where the intervals of two onsets do not overlap."""

from __future__ import annotations

from collections.abc import Iterator

from wirbel.core.diagnosis.case import Case
from wirbel.core.diagnosis.evidence.observation import Feature, Observation, Source

FEATURES = {
    "moved first": Feature("1 if all others moved later", +1, 0.5),
    "moved after": Feature("1 if the symptom was there before", -1, 0.5),
}


def _observe(case: Case) -> Iterator[Observation]:
    onsets = {m.entity: m.onset for m in case.order if not m.is_symptom}
    for entity, onset in onsets.items():
        others = [other for name, other in onsets.items() if name != entity]
        service = entity[1] if entity[0] == "service" else None
        if case.onset is not None and onset.low > case.onset.high:
            yield Observation(entity, "moved after", 1.0, None, "onset", {"onset": onset, "order": "after"}, service=service)
        elif others and all(onset.high < other.low for other in others):
            yield Observation(entity, "moved first", 1.0, None, "onset", {"onset": onset, "order": "first"}, service=service)


SOURCE = Source("onset order", FEATURES, _observe, ("latency", "errors"))
