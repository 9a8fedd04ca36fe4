"""Notices that something is off: the watch as it runs on the store, on the requests of all services, from cells only.

Who looks asks about a front, where one is off; else about a service that takes messages, else about any that is slow or fails: that it is asked less hurts nobody.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from wirbel.core import arrow
from wirbel.core.deviation.accumulate import Budget
from wirbel.core.deviation.disturbance import NEAR_NS, Of
from wirbel.core.deviation.sentences import SIGNALS
from wirbel.core.deviation.symptoms import BUDGET, SYMPTOMS, UNITS, harm, of_requests
from wirbel.core.deviation.tracker import Tracker
from wirbel.core.diagnosis.model import Signal
from wirbel.core.series import cells as cell_series
from wirbel.core.series.grid import Grid
from wirbel.core.signals import spans
from wirbel.core.topology.graph import EntityId
from wirbel.demo.drill.noticed import MINUTE_NS, followed, told_at

Floats = npt.NDArray[np.float64]
LATELY = 20  # minutes before somebody asks: what ended earlier is not asked about
NEARLY = 1 / 3  # as bad as the worst
LASTING = 5  # minutes, in which nothing is worse for being younger


@dataclass(frozen=True)
class Seen:
    service: str
    signal: Signal
    onset: int  # ns
    detected: int
    bits: float


@dataclass(frozen=True)
class Watched:
    seen: Seen | None  # the first thing worth asking about
    anyway: Seen | None  # what to ask about where nothing is: the front that is least as usual, of late
    found: tuple[Of, ...] = ()  # of requests, all that deviated
    noticed: tuple[Of, ...] = ()  # of that, what matters to a person


def watch(whole: pa.Table, start: int, end: int) -> Watched:
    """Looks at the cells of [start, end) ns."""
    grid = Grid(start, end)
    table = cell_series.entries(whole)
    group, names = arrow.codes(table["service"])
    if not names:
        return Watched(None, None)
    found = cell_series.by_point(table, grid, [EntityId("service", name) for name in names], group)
    fronts = cell_series.entry_services(whole)
    consumers = set(cell_series.of_kind(table, [spans.CONSUMER])["service"].unique().to_pylist())
    budget = Budget(BUDGET / (len(SYMPTOMS) * len(names)))
    of_them = {
        (names[row], metric): followed(points, SYMPTOMS[metric], budget, only_high=metric == "failed share") for row, metric, points in of_requests(found)
    }
    off = [
        Of(metric, name, {}, UNITS[metric], one, EntityId("service", name))
        for (name, metric), tracker in of_them.items()
        for one in (*tracker.take_ended(), *tracker.opened())
    ]
    told = [one for one in off if _matters(one, end)]
    seen = [Seen(one.entity.name, SIGNALS[one.metric], one.deviation.onset, told_at(one), one.deviation.bits) for one in told]  # type: ignore[arg-type]
    chosen = (
        [one for one in seen if one.service in fronts],
        [one for one in seen if one.service in consumers],
        [one for one in seen if one.signal != "throughput"],
    )
    asked = next(filter(None, chosen), [])
    return Watched(_first_of_the_worst(asked, grid), _least_usual(fronts, of_them, grid), tuple(off), tuple(told))


def _first_of_the_worst(seen: list[Seen], grid: Grid) -> Seen | None:
    """Of what is nearly as bad as the worst, what began first: a front that nobody reaches any more comes long after what made it so."""
    bad = [one for one in seen if _intensity(one, grid) >= NEARLY * max(_intensity(other, grid) for other in seen)]
    first = min((one.onset for one in bad), default=0)
    return max((one for one in bad if one.onset <= first + NEAR_NS), key=lambda one: _intensity(one, grid), default=None)


def _intensity(one: Seen, grid: Grid) -> float:
    """Bits a minute since it was noticed: who looks asks about what is bad now, and not about what has been odd for longest."""
    return one.bits / max((grid.end - one.onset) / grid.step_ns, LASTING)


def _matters(one: Of, end: int) -> bool:
    """What a person sees who looks now: it goes on, or has done so lately; that it is faster, or more is asked, hurts nobody."""
    since, ended = end - LATELY * MINUTE_NS, one.deviation.ended
    return harm(one.metric, one.deviation) is not None and (ended is None or ended > since)


def _least_usual(fronts: list[str], of_them: dict[tuple[str, str], Tracker], grid: Grid) -> Seen | None:
    """The latency of the last LATELY minutes of the front that was farthest above what was expected in the mean."""
    lately = {name: float(np.nan_to_num(of_them[name, "p95"].recent.z[-LATELY:]).mean()) for name in fronts}
    worst = max(lately, key=lambda name: lately[name], default=None)
    return None if worst is None else Seen(worst, "latency", grid.end - LATELY * grid.step_ns, grid.end, lately[worst])
