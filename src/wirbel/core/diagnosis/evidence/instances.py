"""One instance of a service that does its work worse than its siblings, request by request that the service serves.

A request that asks a service many times touches all its instances, so that its requests tell none of them apart (contrast.py); what each instance serves does.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from wirbel.core.diagnosis.case import Case
from wirbel.core.diagnosis.evidence.observation import Feature, Observation, Source
from wirbel.core.diagnosis.evidence.tenants import alone_on_host, mean_of_groups, rows_of
from wirbel.core.diagnosis.parts import OWN

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
FEATURES = {"instance apart": Feature("share of what its service does worse that vanishes without it, times how far apart it is", +1, 0.5)}
MIN_SPANS = 20  # of an instance, and of its siblings, in the focus
CLEAR = 4.0  # standard errors between an instance and its siblings
LEAST = 0.1  # of what the service does worse
LEAST_FAILING, LEAST_SLOWER = 0.01, 0.05  # of what a service serves, and of its usual time: less is noise


def _observe(case: Case) -> Iterator[Observation]:
    rows, worse, least = _failing(case) if case.question.signal == "errors" else _slower(case)
    service, services = case.traces.codes("service")
    instance, instances = case.traces.codes("instance")
    rows, worse = rows[instance[rows] >= 0], worse[instance[rows] >= 0]
    weight = case.here.adjusted_count[case.here.request[rows]]
    alone_there = alone_on_host(case)
    for of in np.unique(service[rows]).tolist():
        mine = service[rows] == of
        for name, stands, siblings, share in _apart(instance[rows[mine]], worse[mine], weight[mine], least):
            apart = min(1 - max(siblings, 0.0) / stands, 1.0) * alone_there.get(instances[name], 1.0)
            facts = {"value": instances[name], "service": services[of], "with": stands, "others": siblings, "signal": case.question.signal}
            about = {"service": services[of], "key": "service.instance.id", "value": instances[name]}
            yield Observation(("instance", instances[name]), "instance apart", share * apart, None, "instance-apart", facts, about, service=services[of])
            yield Observation(("service", services[of]), "one value alone", share * apart, service=services[of])


def _failing(case: Case) -> tuple[Ints, Floats, float]:
    """Rows of what is served in the focus, and whether each failed, over what is usual."""
    here = case.here
    rows = np.flatnonzero((here.request >= 0) & case.traces.is_entry)
    group = case.traces.codes("service")[0][rows]
    return *_over_usual(case, rows, group, case.traces.failed[rows].astype(float)), LEAST_FAILING


def _slower(case: Case) -> tuple[Ints, Floats, float]:
    """Rows of own work in the focus, and how long each took, of what is usual for its operation, less one."""
    here, rows = case.here, rows_of(case, (OWN,))
    part, time = here.part[rows], here.self_time[rows].astype(float)
    usual = _usual(case, rows, part, time)[part]
    known = usual > 0
    return *_over_usual(case, rows[known], part[known], time[known] / usual[known]), LEAST_SLOWER


def _usual(case: Case, rows: Ints, group: Ints, values: Floats) -> Floats:
    """Mean of each group in the reference, shape (groups,); NaN where it has none."""
    request = case.here.request[rows]
    weight = np.where(case.here.in_focus[request], 0.0, case.here.adjusted_count[request])
    return mean_of_groups(group, values, weight, int(group.max(initial=0)) + 1)


def _over_usual(case: Case, rows: Ints, group: Ints, values: Floats) -> tuple[Ints, Floats]:
    over = values - _usual(case, rows, group, values)[group]
    kept = case.here.in_focus[case.here.request[rows]] & np.isfinite(over)
    return rows[kept], over[kept]


def _apart(instance: Ints, worse: Floats, weight: Floats, least: float) -> Iterator[tuple[int, float, float, float]]:
    """Instances of one service that clearly do worse than their siblings: which, its mean, theirs, and the share of the service's that vanishes without it."""
    whole = float(np.average(worse, weights=weight)) if len(worse) else 0.0
    if whole <= least:
        return
    for name in np.unique(instance).tolist():
        mine = instance == name
        if min(int(mine.sum()), int((~mine).sum())) < MIN_SPANS:
            continue
        (mean, error), (others, theirs) = (_mean(worse[which], weight[which]) for which in (mine, ~mine))
        share = float(weight[mine].sum() / weight.sum()) * (mean - others) / whole
        if mean - others > CLEAR * np.hypot(error, theirs) and share > LEAST:
            yield name, mean, others, min(share, 1.0)


def _mean(values: Floats, weight: Floats) -> tuple[float, float]:
    """Weighted mean and its standard error (of weighted sampling: each record counts with its own squared residual)."""
    mean = float(np.average(values, weights=weight))
    return mean, float(np.sqrt((weight**2 * (values - mean) ** 2).sum()) / weight.sum())


SOURCE = Source("instances", FEATURES, _observe, ("latency", "errors"))
