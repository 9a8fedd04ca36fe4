"""Waiting told from working: time that passes in a service before it first asks a database, or anything, is mostly spent in lines, for a worker or a connection."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from wirbel.core.diagnosis.case import Case
from wirbel.core.diagnosis.evidence.observation import Feature, Observation, Source
from wirbel.core.diagnosis.parts import OWN
from wirbel.core.topology.trace_set import TraceSet

Ints = npt.NDArray[np.int64]
Bools = npt.NDArray[np.bool_]
FEATURES = {"waits before it asks": Feature("share of the change that passes just before the first call of a database, or of anything", +1, 0.4)}
LEAST = 0.1  # of the change
MIN_SPANS = 20


def _observe(case: Case) -> Iterator[Observation]:
    here, traces, delta = case.here, case.traces, case.effect.delta
    if case.effect.unit != "s" or delta <= 0:
        return
    idle, calls_any = _idle(traces)
    own = np.array([part.kind == OWN for part in here.parts] + [False])
    rows = np.flatnonzero((here.request >= 0) & own[here.part] & calls_any)
    service, names = traces.codes("service")
    gap = np.clip(idle[rows], 0, here.self_time[rows]) / 1e9
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


def _idle(traces: TraceSet) -> tuple[Ints, Bools]:
    """ns in which each span does nothing that is seen before its first call, and before each of its calls of a database since the last that ended; and whether it calls anything. Shape (rows,) each."""
    calls = np.flatnonzero(traces.parent >= 0)
    calls = calls[np.lexsort((traces.start[calls], traces.parent[calls]))]
    above, start, end = traces.parent[calls], traces.start[calls], traces.end[calls]
    first = np.r_[True, above[1:] != above[:-1]][: len(calls)]
    # The latest end among the calls before, of the same span, since that began: a running maximum that begins anew with each.
    number = np.cumsum(first) - 1
    ended = np.maximum(end - traces.start[above], 0)
    width = int(ended.max(initial=0)) + 1
    running = np.maximum.accumulate(ended + number * width) - number * width
    since = traces.start[above] + np.where(first, 0, np.r_[0, running[:-1]][: len(calls)])
    counted = first | traces.equal("peer_kind", "database")[calls]
    idle = np.bincount(above, np.where(counted, np.maximum(start - since, 0), 0), len(traces)).astype(np.int64)
    return idle, np.bincount(above, minlength=len(traces)) > 0


SOURCE = Source("waiting", FEATURES, _observe, ("latency",))
