"""Plain ways to name a culprit, on the same drills: what a diagnosis has to be better than.

Each ranks services by one figure from their series of p95, share of failures and requests a minute.
Sources: n-sigma and nearest change are common practice; median and IQR as in Pham et al., FSE 2024;
correlation with the symptom; random walk on the reversed call graph as in Kim, Sumbaly and Shah, SIGMETRICS 2013.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow
from wirbel.core.diagnosis import services
from wirbel.core.series import cells as cell_series
from wirbel.core.series.grid import Grid
from wirbel.core.series.percentiles import HEADLINE
from wirbel.core.signals import spans
from wirbel.core.signals.changes import Change
from wirbel.core.signals.entities import place_of
from wirbel.core.topology.graph import EntityId

Floats = npt.NDArray[np.float64]
STEPS = 200  # of the random walk
SMOOTHED = 5  # minutes
ANOMALOUS = 3.0  # standard deviations


@dataclass(frozen=True)
class Given:
    """All that the plain ways look at."""

    services: list[str]
    values: Floats  # (services, 3, minutes): p95, failed share, requests
    before: npt.NDArray[np.bool_]  # minutes of the reference
    during: npt.NDArray[np.bool_]  # of the focus
    symptom: int  # row of the service that was seen to suffer
    calls: npt.NDArray[np.bool_]  # (services, services): the first calls the second
    changes: list[tuple[int, str]]  # (ns, service)
    onset: int


def given(table: pa.Table, announced: list[Change], start: int, end: int, focus: tuple[int, int], symptom: str) -> Given:
    """The series of the cells of [start, end) ns; backends count as services, by what their callers see of them."""
    grid = Grid(start, end)
    served = cell_series.entries(table)
    asked = cell_series.of_kind(table, spans.CALL_KINDS)
    asked = asked.filter(pc.is_valid(asked["peer"]))
    behind = asked.filter(pc.invert(pc.equal(asked["peer_kind"], "service")))
    group, services = arrow.codes(served["service"])
    peer, peers = arrow.codes(behind["peer"])
    parts = [
        cell_series.by_point(served, grid, [EntityId("service", name) for name in services], group).totals,
        cell_series.by_point(behind, grid, [EntityId("peer", name) for name in peers], peer).totals,
    ]
    peers = [place_of(name)["server.address"] for name in peers]
    names = [*services, *peers]
    values = np.concatenate([_series_of(part) for part in parts])
    place = {name: n for n, name in enumerate(names)}
    calls = np.zeros((len(names), len(names)), np.bool_)
    pairs = [row | {"peer": place_of(row["peer"])["server.address"]} for row in asked.group_by(["service", "peer"]).aggregate([]).to_pylist()]
    for pair in pairs:
        if pair["service"] in place and pair["peer"] in place:
            calls[place[pair["service"]], place[pair["peer"]]] = True
    times = grid.times
    changes = [(change.at, change.service) for change in announced if change.service and start <= change.at < end]
    return Given(names, values, times < focus[0] - 2 * grid.step_ns, (times >= focus[0]) & (times < focus[1]), place.get(symptom, 0), calls, changes, focus[0])


def _series_of(found: cell_series.Totals) -> Floats:
    """Means of five minutes: single minutes of what is seldom asked scatter too much for any of these ways.

    Where nothing was asked the last p95 holds, as is common practice: none is not the same as fast.
    """
    share = _smooth(found.failed) / np.maximum(_smooth(found.count), 1e-9)
    return np.stack([_smooth(_held(found.percentile(HEADLINE))), share, _smooth(found.count)], axis=1)


def _held(values: Floats) -> Floats:
    """Each missing value as the last one before it, or the first after it."""
    known = np.isfinite(values)
    minutes = np.arange(values.shape[1])
    last = np.maximum.accumulate(np.where(known, minutes, -1), axis=1)
    at = np.where(last >= 0, last, np.argmax(known, axis=1)[:, None])
    return np.nan_to_num(np.take_along_axis(values, at, axis=1))


def _smooth(values: Floats) -> Floats:
    total = np.cumsum(np.pad(values, ((0, 0), (1, 0))), axis=1)
    first = np.maximum(np.arange(values.shape[1]) + 1 - SMOOTHED, 0)
    return np.asarray((total[:, 1:] - total[:, first]) / (np.arange(values.shape[1]) + 1 - first))


def _scores(g: Given, center: Callable[..., Floats], spread: Callable[..., Floats], floor: float) -> Floats:
    """How far each service's worst series left its usual range."""
    before, during = g.values[:, :2, g.before], g.values[:, :2, g.during]
    usual, width = center(before, axis=2), spread(before)
    # A series that never moved needs some width, or any failure would be endless surprise.
    width = np.maximum(width, np.maximum(floor * np.abs(usual), [[1e-4, 2e-3]]))
    return np.asarray(np.abs(np.max(during, axis=2, initial=0) - usual) / width).max(axis=1)


def n_sigma(g: Given) -> list[str]:
    return _ranked(g, _scores(g, np.mean, lambda x: x.std(axis=2), 0.02))


def median_iqr(g: Given) -> list[str]:
    return _ranked(g, _scores(g, np.median, lambda x: np.subtract(*np.percentile(x, [75, 25], axis=2)), 0.02))


def correlation(g: Given) -> list[str]:
    score = _correlated(g)
    score[g.symptom] = -1.0  # always like itself, which says nothing
    return _ranked(g, score)


def _correlated(g: Given) -> Floats:
    """The highest correlation of any of a service's series with one of the symptom's, in reference and focus together."""
    used = g.before | g.during
    values = g.values[:, :2, used]
    return services.correlated(values, values[g.symptom])


def random_walk(g: Given) -> list[str]:
    """Where a walker ends up who goes from callers to callees, the rather the more one correlates with the symptom."""
    return _ranked(g, services.visits(g.calls, _correlated(g), g.symptom, STEPS))


def deepest(g: Given) -> list[str]:
    """The anomalous services that call no anomalous one, the most anomalous first."""
    score = _scores(g, np.mean, lambda x: x.std(axis=2), 0.02)
    off = score > ANOMALOUS
    leaf = off & ~(g.calls & off[None, :]).any(axis=1)
    return _ranked(g, np.where(leaf, score + 1e6, np.where(off, score, 0.0)))


def nearest_change(g: Given) -> list[str]:
    by_distance = sorted(g.changes, key=lambda change: abs(change[0] - g.onset))
    return list(dict.fromkeys(service for _, service in by_distance))


def _ranked(g: Given, score: Floats) -> list[str]:
    return [g.services[n] for n in np.argsort(-score, kind="stable")]


METHODS: dict[str, Callable[[Given], list[str]]] = {
    "n-sigma": n_sigma,
    "median and IQR": median_iqr,
    "correlation": correlation,
    "random walk": random_walk,
    "deepest anomalous": deepest,
    "nearest change": nearest_change,
}
