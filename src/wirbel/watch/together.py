"""Requests of many services as one series: where people come in to a scope, or to all of an environment."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core.cells import MINUTE_NS
from wirbel.core.deviation.grouping import Linked
from wirbel.core.deviation.points import Points
from wirbel.core.deviation.symptoms import SYMPTOMS, of_requests
from wirbel.core.errors import NotFound
from wirbel.core.series import cells as cell_series
from wirbel.core.series.grid import Grid
from wirbel.core.series.percentiles import SHARES
from wirbel.core.topology.graph import EntityId
from wirbel.scopes.members import services_of
from wirbel.store import reading

SCOPE, ENVIRONMENT = "scope", "environment"
KINDS = (SCOPE, ENVIRONMENT)
MEASURES = (*SHARES, *(metric for metric in SYMPTOMS if metric not in SHARES))
SEEN_NS = 60 * MINUTE_NS  # by which it is told where people come in: in one minute not everybody is called


def entity(environment: str, scope: str | None) -> EntityId:
    """Of whom such a series tells."""
    return EntityId(ENVIRONMENT, environment) if scope is None else EntityId(SCOPE, scope)


def members(one: EntityId, environment: str | None) -> tuple[str, ...] | None:
    """The services of a scope; None: all. Of a scope that somebody has deleted or renamed, nobody."""
    if one.kind == ENVIRONMENT:
        return None
    try:
        return services_of(one.name, environment)
    except NotFound:
        return ()


def told(cells: pa.Table, grid: Grid, environment: str, one: EntityId, metrics: Sequence[str]) -> Iterator[tuple[str, Points]]:
    """What was served over the points of a grid; ``cells`` are entries of all environments."""
    among = members(one, environment)
    if among == ():
        yield from ((metric, Points(grid.times, *np.full((2, grid.count), np.nan))) for metric in metrics)
        return
    entered = reading.entry_points(grid.first - SEEN_NS, grid.end, environment, among, grid.cell_step)
    mine = pc.and_(pc.equal(cells["environment"], environment), pc.is_in(cells["service"], pa.array(entered or among or [], pa.string())))
    over = cell_series.by_point(cells.filter(mine), grid, [one])
    found = {metric: points for _, metric, points in of_requests(over)}
    for metric in metrics:
        yield metric, found[metric] if metric in found else Points(grid.times, over.latency(metric).values[0], found["p95"].samples)


def linked(close: Linked, environment: str | None) -> Linked:
    """As ``close``, and a scope has to do with each of its services, and an environment with all."""
    kept: dict[EntityId, frozenset[str] | None] = {}

    def holds(one: EntityId, other: EntityId) -> bool:
        if one.kind not in KINDS:
            return False
        if one not in kept:
            of = members(one, environment)
            kept[one] = None if of is None else frozenset(of)
        named = kept[one]
        return named is None or other.name in named

    return lambda a, b: close(a, b) or holds(a, b) or holds(b, a)
