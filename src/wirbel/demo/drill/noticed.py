"""What the watch notices: requests of services, and what runs short, by the trackers that follow the same series on the store."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import dataclass

import numpy as np
import pyarrow as pa

from wirbel.core.deviation.accumulate import Budget
from wirbel.core.deviation.model import Deviation
from wirbel.core.deviation.points import Points
from wirbel.core.deviation.symptoms import BUDGET_OF_OTHERS
from wirbel.core.deviation.tracker import Tracker
from wirbel.core.series.grid import Grid
from wirbel.core.series.resources import resources
from wirbel.core.series.samples import by_step
from wirbel.core.series.series import Kind

MINUTE_S = 60.0


@dataclass(frozen=True)
class Noticed:
    """A measure of an entity that deviated: when that was known, and when a plain threshold on the same series would have told (None: it did not), ns."""

    at: int
    threshold: int | None
    entity: tuple[str, str]
    service: str | None
    metric: str

    @classmethod
    def of(cls, one: Deviation, grid: Grid, entity: tuple[str, str], service: str | None, metric: str) -> Noticed:
        """A minute is known when it is over."""
        return cls(one.opened + grid.step_ns, None if one.threshold_at is None else one.threshold_at + grid.step_ns, entity, service, metric)


def followed(points: Points, kind: Kind, budget: Budget, only_high: bool) -> Tracker:
    tracker = Tracker(kind, MINUTE_S, budget, only_high=only_high)
    tracker.follow(points, points.between)
    return tracker


def of_resources(samples: pa.Table, serving: Collection[str], grid: Grid) -> Iterator[Noticed]:
    """All that ran shorter than it used to, or fails more, in the minutes of ``grid``."""
    found = resources(by_step(samples, grid.first, grid.step, grid.count), serving) if samples.num_rows else []
    for one in found:
        points = Points(grid.times, one.values, np.where(np.isfinite(one.values), 1.0, np.nan))
        tracker = followed(points, one.kind, Budget(BUDGET_OF_OTHERS / len(found)), only_high=True)
        for deviation in (*tracker.take_ended(), *tracker.opened()):
            yield Noticed.of(deviation, grid, (one.entity.kind, one.entity.name), one.service, one.metric)
