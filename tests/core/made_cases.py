"""Cases made for the tests of evidence: a small fleet, its metrics and its logs, and what a source sees of them."""

from __future__ import annotations

import numpy as np
import pyarrow as pa

from tests.builders import NOW, table
from tests.core.test_diagnosis import FOCUS_MS, question
from wirbel.core.diagnosis.case import Case, Records
from wirbel.core.diagnosis.evidence import SOURCES
from wirbel.core.diagnosis.evidence.observation import Observation
from wirbel.core.patterns.counts import COUNTED
from wirbel.core.signals import points, spans

MINUTE_NS = 60 * 10**9
ZONE = "resource.s:cloud.availability_zone"
HOSTS = {"h1": "north", "h2": "north", "h3": "south", "h4": "south"}


def fleet(slow_host: str | None = None, slow_zone: str | None = None, slow_database: bool = False, count: int = 700, seed: int = 3) -> pa.Table:
    """front → back → db; both services run on four hosts of two zones; what goes wrong begins with the second hour."""
    rng = np.random.default_rng(seed)
    rows, span = [], 0
    for trace, at in enumerate(np.sort(rng.uniform(0, 2 * FOCUS_MS, 2 * count)), 1):
        wrong = at >= FOCUS_MS
        places = [str(rng.choice(list(HOSTS))) for _ in range(2)]
        stretch = [2.5 if wrong and host == slow_host else 1.0 for host in places]
        crossing = wrong and slow_zone is not None and (HOSTS[places[0]] == slow_zone) != (HOSTS[places[1]] == slow_zone)
        way = 0.4 + (float(rng.exponential(40)) if crossing else 0.0)
        query = float(rng.lognormal(2, 0.2)) * (4 if wrong and slow_database else 1)
        work = [float(rng.lognormal(3, 0.2)) * s for s in stretch]
        front, client, server, call = span + 1, span + 2, span + 3, span + 4
        span += 4
        where = [{"host": host, ZONE: HOSTS[host], "instance": f"{name}-{host}"} for host, name in zip(places, ("front", "back"), strict=True)]
        inner = work[1] + query
        rows += [
            {"trace": trace, "span": front, "service": "front", "operation": "GET /x", "start": at, "duration": work[0] + inner + 2 * way, **where[0]},
            {
                "trace": trace, "span": client, "parent": front, "service": "front", "operation": "GET /y", "kind": spans.CLIENT, "start": at + work[0],
                "duration": inner + 2 * way, "peer": "back", "peer_kind": "service", **where[0],
            },
            {"trace": trace, "span": server, "parent": client, "service": "back", "operation": "GET /y", "start": at + work[0] + way, "duration": inner, **where[1]},
            {
                "trace": trace, "span": call, "parent": server, "service": "back", "operation": "SELECT t", "kind": spans.CLIENT,
                "start": at + work[0] + way + work[1] / 2, "duration": query, "peer": "ns at db", "peer_kind": "database", **where[1],
            },
        ]  # fmt: skip
    return table(*rows)


def samples(given: dict[tuple[str, str | None, str | None, str, str], tuple[float, float]], labels: dict[str, str] | None = None, unit: str = "1") -> pa.Table:
    """Gauges by the minute over both hours; values are the level in each hour, with a little noise. Keys: service, instance, host, metric, label."""
    rng = np.random.default_rng(1)
    rows = []
    for (service, instance, host, metric, label), (before, after) in given.items():
        for minute in range(120):
            level = before if minute < 60 else after
            if np.isnan(level):
                continue
            rows.append(
                {
                    "service": service,
                    "instance": instance,
                    "host": host,
                    "metric": metric,
                    "unit": unit,
                    "kind": points.GAUGE,
                    "temporality": points.NO_TEMPORALITY,
                    "labels": label,
                    "time": NOW + minute * MINUTE_NS + 1,
                    "value": level * (1 + 0.01 * rng.standard_normal()),
                    "environment": "default",
                    "monotonic": False,
                    "resource": "{}",
                }
            )
    return points.combine([pa.Table.from_pylist(rows, points.POINT_SCHEMA)])


def case(table: pa.Table, **records: object) -> Case:
    return Case(question(), Records(spans=table, **records))  # type: ignore[arg-type]


def seen(given: Case, source: str) -> dict[tuple[tuple[str, str], str], Observation]:
    [found] = [one for one in SOURCES if one.name == source]
    strongest: dict[tuple[tuple[str, str], str], Observation] = {}
    for one in found.observe(given):
        key = one.entity, one.feature
        if key not in strongest or one.value > strongest[key].value:
            strongest[key] = one
    return strongest


def counted(*rows: tuple[str, str, int, float, float, float]) -> pa.Table:
    names = COUNTED.names
    return pa.Table.from_pylist([dict(zip(names, row, strict=True)) for row in rows], COUNTED)
