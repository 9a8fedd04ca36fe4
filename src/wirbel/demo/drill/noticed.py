"""What the watch notices: requests of services, and what runs short, by the trackers that follow the same series on the store."""

from __future__ import annotations

from collections.abc import Collection, Iterator

import numpy as np
import pyarrow as pa

from wirbel.core.deviation.accumulate import Budget
from wirbel.core.deviation.disturbance import Of
from wirbel.core.deviation.points import Points
from wirbel.core.deviation.symptoms import BUDGET_OF_OTHERS
from wirbel.core.deviation.tracker import Tracker
from wirbel.core.series.grid import Grid
from wirbel.core.series.resources import resources
from wirbel.core.series.samples import by_step
from wirbel.core.series.series import Kind

MINUTE_S, MINUTE_NS = 60.0, 60 * 10**9


def followed(points: Points, kind: Kind, budget: Budget, only_high: bool) -> Tracker:
    tracker = Tracker(kind, MINUTE_S, budget, only_high=only_high)
    tracker.follow(points, points.between)
    return tracker


def of_resources(samples: pa.Table, serving: Collection[str], grid: Grid) -> Iterator[Of]:
    """All that ran shorter than it used to, or fails more, in the minutes of ``grid``."""
    found = resources(by_step(samples, grid.first, grid.step, grid.count), serving) if samples.num_rows else []
    for one in found:
        points = Points(grid.times, one.values, np.where(np.isfinite(one.values), 1.0, np.nan))
        tracker = followed(points, one.kind, Budget(BUDGET_OF_OTHERS / len(found)), only_high=True)
        for deviation in (*tracker.take_ended(), *tracker.opened()):
            yield Of(one.metric, one.service, dict(one.labels), one.unit, deviation, one.entity)


def told_at(one: Of) -> int:
    """When it was known, ns: a minute is when it is over."""
    return one.deviation.opened + MINUTE_NS


def threshold_at(one: Of) -> int | None:
    """When a plain threshold on the same series told, ns; None if it did not."""
    at = one.deviation.threshold_at
    return None if at is None else at + MINUTE_NS
