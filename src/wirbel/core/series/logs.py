"""Log records as series: how many come a second, by how serious they are."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, get_args

import numpy as np
import pyarrow as pa

from wirbel.core import arrow
from wirbel.core.series.grid import Grid
from wirbel.core.series.series import Series, since_first
from wirbel.core.topology.graph import EntityId

Level = Literal["error", "warning", "lower"]
LEVELS: tuple[Level, ...] = get_args(Level)
LEAST = {"error": 17, "warning": 13}
"""Severity number from which on a record counts as one (OpenTelemetry logs data model, "Severity fields"); all others are lower."""
COUNTED = pa.schema([("point", pa.int64()), ("level", pa.int8()), ("rows", pa.int64()), ("count", pa.float64())])


def count(table: pa.Table, step_ns: int) -> pa.Table:
    """Records (columns time, severity and weight) counted by stretch of ``step_ns`` since 1970 and level (its place in LEVELS): see :data:`COUNTED`. Counts add."""
    severity = arrow.numbers(table["severity"].fill_null(0))
    level = np.select([severity >= LEAST["error"], severity >= LEAST["warning"]], [0, 1], 2)
    distinct, group = np.unique(arrow.numbers(table["time"]) // step_ns * len(LEVELS) + level, return_inverse=True)
    return pa.table(
        {
            "point": pa.array(distinct // len(LEVELS)),
            "level": pa.array((distinct % len(LEVELS)).astype(np.int8)),
            "rows": pa.array(np.bincount(group, minlength=len(distinct))),
            "count": pa.array(np.bincount(group, arrow.numbers(table["weight"]), len(distinct))),
        },
        schema=COUNTED,
    )


def rates(counted: pa.Table, grid: Grid, entity: EntityId) -> Sequence[Series]:
    """Records a second of each level, in the order of LEVELS, from counts by stretches of the grid's step; NaN before the first record of any."""
    point = arrow.numbers(counted["point"]) - grid.first // grid.step_ns
    inside = (point >= 0) & (point < grid.count)
    cell = (arrow.numbers(counted["level"]).astype(np.int64) * grid.count + point)[inside]

    def add(column: str) -> np.ndarray:
        return np.bincount(cell, arrow.numbers(counted[column])[inside], len(LEVELS) * grid.count).reshape(len(LEVELS), -1)

    rows = add("rows")
    values, samples = since_first(add("count") / grid.covered_s, rows, seen=np.broadcast_to(rows.sum(axis=0) > 0, rows.shape))
    return [Series([entity], level, "{record}/s", "rate", grid, values[[i]], samples[[i]]) for i, level in enumerate(LEVELS)]
