"""Who fills a host on which others suffer: a tenant that takes more of the processors, told from a host that is busy with something else."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from wirbel.core.diagnosis.case import Case
from wirbel.core.diagnosis.evidence.observation import Feature, Observation, Source
from wirbel.core.diagnosis.evidence.tenants import Changes
from wirbel.core.diagnosis.measures import CLEAR, MUCH_MORE
from wirbel.core.diagnosis.parts import OWN

FEATURES = {
    "fills its host": Feature("processors that it takes more than before, beyond what others there do", +1, 0.3),
    "filled by a tenant": Feature("processors that one tenant takes more than before, beyond what others there do", -1, 0.3),
}


def _observe(case: Case) -> Iterator[Observation]:
    m = case.measures
    used = m.uses_of_processors
    if not used or "host" not in case.traces.table.column_names:
        return
    changes = Changes.of(case, "host", OWN)
    for place, host in enumerate(changes.places):
        hurt = changes.hurt(place)
        mine = [row for row in used if m.host[row] == host and np.isfinite(m.after[row] - m.before[row])]
        if not hurt or not mine:
            continue
        rises = np.array([m.after[row] - m.before[row] for row in mine])
        most = int(np.argmax(rises))
        row, rose = mine[most], float(rises[most] - np.median(np.delete(rises, most))) if len(mine) > 1 else float(rises[most])
        others = [service for service in hurt if service != m.service[row]]
        if rose < MUCH_MORE or m.z[row] < CLEAR or not others:
            continue
        facts = {"metric": m.metric[row], "unit": m.unit[row], "before": float(m.before[row]), "after": float(m.after[row]), "series": m.sampled(row)}
        facts |= {"instance": m.instance[row], "host": host, "services": others}
        about = {"service": m.service[row] or "", "metric": m.metric[row]}
        instance, where = ("instance", m.instance[row] or ""), {"host.name": host}
        yield Observation(instance, "fills its host", rose, "saturation", "fills-host", facts, about, attributes=where, service=m.service[row])
        yield Observation(("host", host), "filled by a tenant", rose)


SOURCE = Source("filling a host", FEATURES, _observe, ("latency", "errors"))
