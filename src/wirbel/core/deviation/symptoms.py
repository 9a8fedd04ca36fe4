"""What is followed of a service's requests: how long they take, whether they fail, and how many there are."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Final

import numpy as np

from wirbel.core.deviation.model import Deviation
from wirbel.core.deviation.points import Points
from wirbel.core.series.cells import OverTime
from wirbel.core.series.series import Kind

SYMPTOMS: Final[dict[str, Kind]] = {"p95": "quantile", "failed share": "share", "requests": "rate"}
"""Metrics and what their values are."""
FALLEN = 0.25  # of the requests that were expected: with more, people may just have gone to bed
UNITS: Final = {"p95": "s", "failed share": "1", "requests": "{request}/s"}
BUDGET: Final = 2.0
"""False deviations a week, of all services of an environment together."""
BUDGET_OF_OTHERS: Final = 1.0
"""Of all else of it that is watched from the start."""


def of_requests(found: OverTime) -> Iterator[tuple[int, str, Points]]:
    """Of each entity, by its row, its symptoms by their metrics. Of a time without requests only that is known that there were none."""
    latency, failed, rate = found.latency().values, found.failed_share().values, found.totals.count / found.grid.step
    for row, seen in enumerate(found.totals.sample_size):
        behind = np.where(seen > 0, seen, np.nan)
        yield row, "p95", Points(found.grid.times, latency[row], behind)
        yield row, "failed share", Points(found.grid.times, failed[row], behind)
        yield row, "requests", Points(found.grid.times, rate[row], np.maximum(seen, 1.0))


def harm(metric: str, one: Deviation) -> str | None:
    """What is wrong with a service of which a symptom deviates: slow, failing or silent; None where that hurts nobody."""
    if one.direction == "high":
        return {"p95": "slow", "failed share": "failing"}.get(metric)
    is_silent = one.direction == "absent" or (one.peak.actual or 0.0) < FALLEN * one.peak.expected
    return "silent" if metric == "requests" and is_silent else None
