"""What a chart showed a day or a week before, moved to where it is drawn: whether it is always so at this hour."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from ninja import Schema
from pydantic import Field

from wirbel.core.series.grid import Grid
from wirbel.core.series.series import Series
from wirbel.core.text import rfc3339
from wirbel.explore.figures import listed
from wirbel.explore.schemas import Before, Earlier
from wirbel.store.streams import DAY_NS

SHIFT_NS: dict[Before, int] = {"day": DAY_NS, "week": 7 * DAY_NS}


class Beside(Schema):
    """What is asked for beside a chart's own time."""

    beside: list[Before] = Field(default=[], max_length=2)


def shifted(start: int, end: int, before: Before) -> tuple[int, int]:
    """The same range so much earlier."""
    return start - SHIFT_NS[before], end - SHIFT_NS[before]


def whole(grid: Grid) -> Grid:
    """The grid to the end of its last stretch: what is past is there in full."""
    return replace(grid, end=grid.first + grid.count * grid.step_ns)


def earlier(series: Series, before: Before, of: str = "") -> Earlier:
    """A series of a shifted range; ``of`` tells several of one chart apart."""
    return Earlier(
        before=before,
        name=f"{of} a {before} before".strip(),
        start=rfc3339(series.grid.first + SHIFT_NS[before]),
        step_s=series.grid.step,
        values=listed(series.values[0]),
    )


def together(series: Sequence[Series]) -> Series:
    """The sum of what is counted apart."""
    first = series[0]
    values, samples = (np.sum([getattr(one, name) for one in series], axis=0) for name in ("values", "sample_size"))
    return Series(first.entities, first.name, first.unit, first.kind, first.grid, values, samples)
