"""Waiting told from working: time that passes in a service before it asks for anything is mostly spent in lines, for a worker or a connection."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from wirbel.core.diagnosis.case import Case
from wirbel.core.diagnosis.evidence.observation import Feature, Observation, Source
from wirbel.core.diagnosis.parts import OWN

FEATURES = {"waits before it asks": Feature("share of the change that passes before the first call", +1, 0.4)}
LEAST = 0.1  # of the change
MIN_SPANS = 20
NEVER = np.iinfo(np.int64).max


def _observe(case: Case) -> Iterator[Observation]:
    here, traces, delta = case.here, case.traces, case.effect.delta
    if case.effect.unit != "s" or delta <= 0:
        return
    first = np.full(len(traces), NEVER)
    calls = np.flatnonzero(traces.parent >= 0)
    np.minimum.at(first, traces.parent[calls], traces.start[calls])
    own = np.array([part.kind == OWN for part in here.parts] + [False])
    rows = np.flatnonzero((here.request >= 0) & own[here.part] & (first < NEVER))
    service, names = traces.codes("service")
    gap = np.clip(first[rows] - traces.start[rows], 0, here.self_time[rows]) / 1e9
    weight, focus = here.adjusted_count[here.request[rows]], here.in_focus[here.request[rows]]
    total = here.adjusted_count[here.in_focus].sum(), here.adjusted_count[~here.in_focus].sum()
    for code in np.unique(service[rows]):
        mine = service[rows] == code
        after, before = mine & focus, mine & ~focus
        if min(after.sum(), before.sum()) < MIN_SPANS:
            continue
        added = float((weight * gap)[after].sum() / total[0] - (weight * gap)[before].sum() / total[1])
        if added > LEAST * delta:
            mean = tuple(float(np.average(gap[which], weights=weight[which])) for which in (before, after))
            facts = {"service": names[code], "gap": mean, "share": added / delta}
            yield Observation(
                ("service", names[code]),
                "waits before it asks",
                min(added / delta, 1.0),
                "waiting",
                "waits-first",
                facts,
                {"service": names[code]},
                service=names[code],
            )


SOURCE = Source("waiting", FEATURES, _observe, ("latency",))
