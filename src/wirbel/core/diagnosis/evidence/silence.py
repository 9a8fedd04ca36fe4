"""What stopped: services that serve no more, series that are sent no more, consumers that fall behind."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from wirbel.core.diagnosis.case import Case
from wirbel.core.diagnosis.evidence.observation import Feature, Observation, Source

FEATURES = {
    "serves less": Feature("share of its rate that is gone, beyond the symptom's own", +1, 0.5),
    "silent": Feature("1 if nothing is served any more", +1, 0.5),
    "sends nothing": Feature("share of its metrics that stopped", +1, 0.5),
}


def _observe(case: Case) -> Iterator[Observation]:
    s, m = case.services, case.measures
    for n, (kind, name) in enumerate(s.entities):
        before = float(s.rate[n, s.reference].mean()) if s.reference.any() else 0.0
        late = np.flatnonzero(s.focus)[int(s.focus.sum()) // 2 :]
        after = float(s.rate[n, late].mean()) if len(late) else before
        if before <= 0 or s.rate[n, s.reference].sum() < 20:
            continue
        gone = 1 - after / before
        if gone > 0.4:
            service = name if kind == "service" else None
            facts = {"name": name, "before": before / s.step_s, "after": after / s.step_s}
            yield Observation((kind, name), "serves less", gone, "absence", "serves-less", facts, {"service": name} if service else {}, service=service)
            if gone > 0.99:
                yield Observation((kind, name), "silent", 1.0, "absence", service=service)
    gone_by_metric: dict[tuple[str, str], list[bool]] = {}
    for row, lost in enumerate(m.lost):
        gone_by_metric.setdefault((m.service[row] or "", m.metric[row]), []).append(bool(lost))
    by_service: dict[str, list[bool]] = {}
    for (service, _), lost in gone_by_metric.items():
        by_service.setdefault(service, []).append(all(lost))  # what others still send has not stopped
    for name, stopped in by_service.items():
        share = float(np.mean(stopped))
        if name and share > 0.3:
            yield Observation(
                ("service", name), "sends nothing", share, "absence", "sends-nothing", {"name": name, "share": share}, {"service": name}, service=name
            )


SOURCE = Source("silence", FEATURES, _observe)
