"""Everything that is watched of a service, of what it runs on and of what it asks, at one minute: what is out of the usual first."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import numpy as np
from django.db.models import Q, QuerySet
from django.http import HttpRequest
from ninja import Query, Router
from pydantic import BaseModel, Field

from wirbel.core.cells import MINUTE_NS
from wirbel.core.deviation import sentences
from wirbel.core.errors import NotFound
from wirbel.core.signals.entities import address_of
from wirbel.core.text import rfc3339
from wirbel.core.topology.graph import SERVER_KINDS, EntityGraph, EntityId
from wirbel.disturbances.schemas import EntityOut
from wirbel.explore.asked import Within, window_of
from wirbel.explore.figures import maybe
from wirbel.store import reading
from wirbel.store.streams import DAY_NS
from wirbel.watch import found, kept
from wirbel.watch.models import WatchedSeries

MOST_ROWS = 1_000
AROUND_NS = 3600 * 10**9  # of the moment, in which relations tell what the service has to do with
router = Router()


class MomentRow(BaseModel):
    """A series at that minute; numbers that are not known are null."""

    series: int
    entity: EntityOut
    measure: str
    unit: str
    value: float | None
    low: float | None
    high: float | None
    told: str = Field(description="The value, and what was expected, in words.")
    deviation: str | None = Field(description="The id of the deviation that goes on then.")


class Moment(BaseModel):
    """``found`` series are watched of it in all."""

    at: str
    rows: list[MomentRow]
    found: int
    deviating: int


@router.get("/moment", response=Moment)
def get_moment(request: HttpRequest, service: str, at: str, asked: Query[Within], most: int = 200) -> Any:
    """Deviations that go on first, then what lies farthest outside of what was expected."""
    minute = window_of(at, None, "the moment", 400 * DAY_NS)[0]
    minute -= minute % MINUTE_NS
    graph = reading.graph_of_hours(minute - AROUND_NS, minute + AROUND_NS, asked.environment)
    rows = _watched(service, graph, asked.environment)
    series = list(rows.order_by("id")[:MOST_ROWS])
    if not series:
        raise NotFound(f"nothing of {service} is watched in this environment")
    told = _at(series, minute)
    going_on = {r.series_id: r for r in found.records(minute, minute + MINUTE_NS, asked.environment, known=True).filter(series__in=series)[: found.MOST]}
    known = np.flatnonzero(np.isfinite(told[:, 0]) | np.isin([one.pk for one in series], list(going_on)))
    out = _outside(told, np.array([one.only_high for one in series]))
    order = sorted(
        known.tolist(), key=lambda n: (-(going_on[series[n].pk].bits if series[n].pk in going_on else 0.0), -out[n], series[n].entity, series[n].metric)
    )
    return Moment(
        at=rfc3339(minute),
        rows=[_row(series[n], told[n], going_on.get(series[n].pk)) for n in order[: max(1, min(most, MOST_ROWS))]],
        found=len(known),
        deviating=len(going_on),
    )


def _watched(service: str, graph: EntityGraph, environment: str | None) -> QuerySet[WatchedSeries]:
    own = EntityId("service", service)
    parts = graph.subjects(own, "part of")
    beneath = {place for part in parts for place in graph.beneath(part, "runs on") if place.kind != "zone"}
    mine = Q(service=service)
    for kind, names in _names({own, *parts, *beneath, *graph.objects(own, "calls", "uses")}).items():
        mine |= Q(entity_kind=kind, entity__in=names)
    rows = WatchedSeries.objects.defer("tracker").filter(mine, is_paused=False)
    return rows if environment is None else rows.filter(environment=environment)


def _names(entities: Iterable[EntityId]) -> dict[str, set[str]]:
    """By kind; what is called at an address sends its own metrics under that."""
    found: dict[str, set[str]] = {}
    for one in entities:
        names = found.setdefault(one.kind, set())
        names.add(one.name)
        if one.kind in SERVER_KINDS:
            names.add(address_of(one.name))
    return found


def _at(series: list[WatchedSeries], minute: int) -> np.ndarray[Any, np.dtype[np.float64]]:
    """Value, what was expected, and its band from and to, shape (series, 4); NaN where that is not known."""
    days = kept.up_to_now([one.pk for one in series], minute, minute + MINUTE_NS)
    day = minute - minute % DAY_NS
    place = (minute - day) // MINUTE_NS
    nothing = kept.empty()
    return np.stack([days.get((one.pk, day), nothing)[[0, 2, 3, 4], place] for one in series])


def _outside(told: np.ndarray[Any, np.dtype[np.float64]], only_high: np.ndarray[Any, np.dtype[np.bool_]]) -> np.ndarray[Any, np.dtype[np.float64]]:
    """How far each value is outside of its band, in widths of it; −1 where it is inside, or no band is known. That some fall is no trouble."""
    value, _, low, high = told.T
    with np.errstate(invalid="ignore"):
        away = np.maximum(value - high, np.where(only_high, -np.inf, low - value)) / np.maximum(high - low, 1e-12)
    return np.maximum(np.nan_to_num(away, nan=-1.0), -1.0)


def _row(series: WatchedSeries, told: np.ndarray[Any, np.dtype[np.float64]], deviation: Any) -> MomentRow:
    value, _, low, high = (maybe(number) for number in told)
    return MomentRow(
        series=series.pk,
        entity=EntityOut(kind=series.entity_kind, name=series.entity),
        measure=sentences.named(series.metric, series.labels),
        unit=series.unit,
        value=value,
        low=low,
        high=high,
        told=sentences.at_a_moment(value, low, high, series.unit),
        deviation=None if deviation is None else deviation.identity,
    )
