"""Connections that are held without work: in use, while calls of databases keep few of them busy (Little's law, Operations Research 9, 1961)."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from wirbel.core.diagnosis.case import Case
from wirbel.core.diagnosis.evidence.observation import Feature, Observation, Source
from wirbel.core.diagnosis.measures import Measures

FEATURES = {"held without work": Feature("share of the connections it may have", +1, 0.3)}
LEAST = 0.1  # of the limit
MIN_CONNECTIONS = 1.0  # that no calls keep busy


def _observe(case: Case) -> Iterator[Observation]:
    m, services = case.measures, case.services
    for service, rows in _pools(m).items():
        asking = services.asking.get(service)
        if asking is None or not services.reference.any() or not services.focus.any():
            continue
        used = tuple(_mean(m, rows, window) for window in (m.reference, m.focus))
        busy = tuple(float(asking[window].mean()) for window in (services.reference, services.focus))
        limit = float(np.nansum(m.after[[m.limits[row] for row in rows]]))
        # What is held between the calls of one request, and what sampling hides, is in proportion to the calls.
        times = max(used[0] / busy[0], 1.0) if busy[0] > 0 else 1.0
        idle = used[1] - max(busy[1] * times, used[0])
        if limit > 0 and idle >= max(LEAST * limit, MIN_CONNECTIONS):
            facts = {"service": service, "used": used, "busy": busy, "limit": limit}
            about = {"service": service, "metric": m.metric[rows[0]]}
            yield Observation(("service", service), "held without work", min(idle / limit, 1.0), "waiting", "held", facts, about, service=service)


def _pools(m: Measures) -> dict[str, list[int]]:
    """Rows of the connections that each service has in use, of those that are limited."""
    found: dict[str, list[int]] = defaultdict(list)
    for row in m.limits:
        service = m.service[row]
        if service is not None and "connection" in m.metric[row] and np.isfinite(m.before[row]) and np.isfinite(m.after[row]):
            found[service].append(row)
    return found


def _mean(m: Measures, rows: list[int], window: npt.NDArray[np.bool_]) -> float:
    """Of the sum of some series: they are whole numbers, of which a median would be too coarse."""
    return float(np.nanmean(m.values[rows][:, window], axis=1).sum())


SOURCE = Source("holding", FEATURES, _observe)
