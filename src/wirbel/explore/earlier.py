"""What a chart showed a day or a week before, moved to where it is drawn: whether it is always so at this hour."""

from __future__ import annotations

from ninja import Schema
from pydantic import Field

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


def earlier(series: Series, before: Before, of: str = "") -> Earlier:
    """A series of a shifted range; ``of`` tells several of one chart apart."""
    return Earlier(
        before=before,
        name=f"{of} a {before} before".strip(),
        start=rfc3339(series.grid.first + SHIFT_NS[before]),
        step_s=series.grid.step,
        values=listed(series.values[0]),
    )
