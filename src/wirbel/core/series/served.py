"""What many services served over the points of a chart: the headline percentile and the rate of each."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from wirbel.core import arrow, sketch
from wirbel.core.series import cells as cell_series
from wirbel.core.series.grid import Grid
from wirbel.core.series.percentiles import HEADLINE, SHARES
from wirbel.core.series.series import Series, since_first
from wirbel.core.topology.graph import EntityId

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]


def over_time(table: pa.Table, grid: Grid, entities: Sequence[EntityId], group: Ints, seen: npt.NDArray[np.bool_] | None = None) -> tuple[Series, Series]:
    """The headline percentile (s) and the rate (requests a second) of ``entities`` over the points of ``grid``.

    ``table`` is of served.SERVED_SCHEMA; ``group``, shape (rows of ``table``,), is the entity of each row; −1: none. Of those that were
    ``seen`` before, shape (entities,), it is known from the first point on that nobody asked them for anything.
    """
    shape = (len(entities), grid.count)
    mine = group >= 0
    cell = np.where(mine, group * grid.count + grid.index(table), -1)

    def added(name: str) -> Floats:
        return np.bincount(cell[mine], weights=arrow.numbers(table[name])[mine], minlength=shape[0] * shape[1]).astype(float).reshape(shape)

    samples = added("rows")
    latency = Series(entities, HEADLINE, "s", "quantile", grid, _headline(table, cell, shape[0] * shape[1]).reshape(shape), samples)
    rates, known = since_first(added("count") / grid.covered_s, samples, samples > 0 if seen is None else (samples > 0) | seen[:, None])
    return latency, Series(entities, "requests", "{request}/s", "rate", grid, rates, known)


def _headline(table: pa.Table, group: Ints, groups: int) -> Floats:
    """The headline percentile of each group, NaN where it is empty. Of a group that is one row it is known already."""
    rows = np.bincount(group[group >= 0], minlength=groups)
    alone = np.flatnonzero((group >= 0) & (rows[group] == 1))
    found = np.full(groups, np.nan)
    found[group[alone]] = sketch.value_of(arrow.numbers(table["headline"])[alone])
    several = np.flatnonzero(rows > 1)
    if len(several):
        place = np.full(groups + 1, -1)  # one more for rows of no group
        place[several] = np.arange(len(several))
        found[several] = sketch.quantiles(*cell_series.exploded(table, place[group]), len(several), SHARES[HEADLINE])[:, 0]
    return found
