"""Who fills a host on which others suffer: a tenant that takes more of the processors, told from a host that is busy with something else.

Where the tenant's siblings on other hosts take more too, it is their service that does.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

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
ALIKE = 0.5  # of what it takes more: siblings that take as much more do what it does


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
        as_all = _siblings_rise(case, used, row) >= ALIKE * rises[most]
        name = (m.service[row] if as_all else m.instance[row]) or ""
        facts = {"metric": m.metric[row], "unit": m.unit[row], "before": float(m.before[row]), "after": float(m.after[row]), "series": m.sampled(row)}
        facts |= {"name": name, "as_all": as_all, "host": host, "services": others}
        about = {"service": m.service[row] or "", "metric": m.metric[row]}
        tenant, where = (("service", name), {}) if as_all else (("instance", name), {"host.name": host})
        yield Observation(tenant, "fills its host", rose, "saturation", "fills-host", facts, about, where, m.service[row], whole=("host", host))
        yield Observation(("host", host), "filled by a tenant", rose)


def _siblings_rise(case: Case, used: Sequence[int], row: int) -> float:
    """How much more the other instances of its service take, the middle of them; nothing if it has none."""
    m = case.measures
    rises = [m.after[other] - m.before[other] for other in used if m.service[other] == m.service[row] and m.instance[other] != m.instance[row]]
    known = [float(rise) for rise in rises if np.isfinite(rise)]
    return float(np.median(known)) if known else 0.0


SOURCE = Source("filling a host", FEATURES, _observe, ("latency", "errors"))
