"""What stopped: services that serve no more, series that are sent no more, consumers that fall behind."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from wirbel.core.diagnosis.case import Case
from wirbel.core.diagnosis.evidence.observation import Feature, Observation, Source

FEATURES = {
    "serves less": Feature("share of its rate that is gone, beyond what its callers serve less", +1, 0.5),
    "silent": Feature("1 if nothing is served any more", +1, 0.5),
    "sends nothing": Feature("share of its metrics that stopped", +1, 0.5),
}
LEAST_REQUESTS = 20  # in the reference
CLEAR = 4.0  # standard deviations of what is counted in as much time, as it scatters from step to step of the reference
MUCH, ALL = 0.4, 0.99  # of a rate


def _observe(case: Case) -> Iterator[Observation]:
    s, m = case.services, case.measures
    late = np.flatnonzero(s.focus)[int(s.focus.sum()) // 2 :]
    known = bool(s.reference.any() and len(late))
    for n, (kind, name) in enumerate(s.entities if known else []):
        before, after = float(s.rate[n, s.reference].mean()), float(s.rate[n, late].mean())
        scatter = max(float(s.rate[n, s.reference].var()), before) * len(late)
        if s.rate[n, s.reference].sum() < LEAST_REQUESTS or (before - after) * len(late) < CLEAR * np.sqrt(scatter):
            continue
        gone = 1 - after / before / _of_callers(case, n, late)
        if gone > MUCH:
            service = name if kind == "service" else None
            facts = {"name": name, "before": before / s.step_s, "after": after / s.step_s}
            yield Observation((kind, name), "serves less", gone, "absence", "serves-less", facts, {"service": name} if service else {}, service=service)
            if gone > ALL:
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


def _of_callers(case: Case, n: int, late: npt.NDArray[np.int64]) -> float:
    """The share of their rate that those who call it still have; 1 where nobody is known to call, or these do more."""
    s = case.services
    callers = s.rate[s.calls[:, n] & (np.arange(len(s.entities)) != n)]
    before, after = callers[:, s.reference].mean(axis=1).sum(), callers[:, late].mean(axis=1).sum()
    return float(np.clip(after / before, 1e-3, 1.0)) if before > 0 else 1.0


SOURCE = Source("silence", FEATURES, _observe)
