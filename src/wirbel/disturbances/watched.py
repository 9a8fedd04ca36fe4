"""What is watched: all series, their budgets, and what another budget would have found."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from django.db.models import Count, Exists, OuterRef, Q, QuerySet
from django.http import HttpRequest
from ninja import Query, Router, Schema
from ninja.decorators import decorate_view
from ninja.errors import HttpError
from pydantic import BaseModel, Field

from wirbel.core.deviation import sentences
from wirbel.core.errors import InvalidQuestion, NotFound
from wirbel.core.expected.forecast import forecast, meets
from wirbel.core.series.grid import fewer
from wirbel.core.text import rfc3339
from wirbel.disturbances.schemas import EntityOut
from wirbel.explore.answerer import elsewhere
from wirbel.explore.asked import Within
from wirbel.explore.figures import listed
from wirbel.store import failures
from wirbel.store.models import Failure
from wirbel.store.streams import DAY_NS
from wirbel.watch import calendar, choose, found
from wirbel.watch.models import DeviationRecord, WatchedSeries, of
from wirbel.watch.replay import history, replay

MOST_ROWS = 1_000
DRAWN = 720  # points of a replay
MOST_DAYS = 14
MOST_AHEAD_H = 14 * 24.0
LATELY_NS = 7 * DAY_NS
ONLY = {"deviating": Q(deviates=True), "paused": Q(is_paused=True), "learning": Q(state="learning"), "chosen": Q(has_own_budget=True)}
router = Router()


class WatchedRow(BaseModel):
    id: int
    environment: str
    entity: EntityOut
    service: str | None
    metric: str
    attributes: dict[str, str]
    measure: str
    unit: str
    state: Literal["learning", "provisional", "steady", "seasonal", "weekly"]
    budget: float = Field(description="False deviations a week.")
    has_own_budget: bool = Field(description="Otherwise it has its part of the one that all share.")
    is_paused: bool
    made_by: str | None = Field(description="Null: watched from the start.")
    error: str | None = Field(description="Why it is not followed at present; it is tried again within an hour.")
    deviates: bool = Field(description="Now.")
    lately: int = Field(description="Deviations of the last week.")


class Failing(BaseModel):
    since: str
    reason: str


class WatchedList(BaseModel):
    rows: list[WatchedRow]
    found: int
    failing: Failing | None = Field(description="Why nothing is judged at present.")


class Replayed(BaseModel):
    onset: str
    ended: str | None
    direction: Literal["high", "low", "absent"]
    bits: float
    deviates: str
    provisional: bool


class Banded(BaseModel):
    """Values in even steps from ``start`` on, and what was or is expected of them; null where nothing is known."""

    start: str
    step_s: float
    unit: str
    values: list[float | None]
    expected: list[float | None]
    low: list[float | None]
    high: list[float | None]


class Replay(Banded):
    found: list[Replayed]
    days: float = Field(description="Of the history that was read.")


class MeetingOut(BaseModel):
    at: str | None
    earliest: str | None
    latest: str | None


class ForecastOut(Banded):
    """The values that it rests on, then what is expected, with an interval of 95 %."""

    now: str
    limit: float | None
    meets: MeetingOut | None = Field(description="When the limit is met; null where none was given.")


class NewWatched(Schema):
    environment: str
    service: str | None = Field(None, description="Null: of a scope, or of all services together, where people come in.")
    scope: str | None = Field(None, description="The name of a scope.")
    metric: str = Field(max_length=200, description="Of a service p50, p99 or a metric that it sends; of many p50, p95, p99, failed share or requests.")
    budget: float = 1.0


class ChangedWatched(Schema):
    budget: float | None = None
    is_paused: bool | None = None


class WatchedCalendar(BaseModel):
    """Whose days and weeks the watched series have."""

    zone: str = Field(max_length=60, description="A name of the time zone database.")
    holidays: str = Field(
        "", max_length=20, description="Whose public holidays are days off: a country or a part of it (ISO 3166: DE, DE-BY); empty: none are known."
    )


@router.get("/watched/calendar", response=WatchedCalendar)
def get_calendar(request: HttpRequest) -> Any:
    return WatchedCalendar(**vars(calendar.current()))


@router.put("/watched/calendar", response=WatchedCalendar)
def set_calendar(request: HttpRequest, given: WatchedCalendar) -> Any:
    """All series learn anew by it, within an hour."""
    if not request.user.may_administer:  # type: ignore[union-attr]
        raise HttpError(403, "Only an administrator says whose days and weeks the series have.")
    return WatchedCalendar(**vars(calendar.change(given.zone, given.holidays)))


@router.get("/watched", response=WatchedList)
def list_watched(
    request: HttpRequest, asked: Query[Within], containing: str = "", only: Literal["deviating", "paused", "learning", "chosen"] | None = None, most: int = 100
) -> Any:
    """Series that are watched, those that deviate first; of a scope, those of its services and those of none."""
    rows = _rows(WatchedSeries.objects.all())
    if asked.environment is not None:
        rows = rows.filter(environment=asked.environment)
    if (services := asked.services()) is not None:
        rows = rows.filter(Q(service__any_of=services) | Q(service=None))
    for word in containing[:200].split():
        rows = rows.filter(Q(entity__icontains=word) | Q(metric__icontains=word) | Q(labels_text__icontains=word))
    if only is not None:
        rows = rows.filter(ONLY[only])
    ordered = rows.order_by("-deviates", "-lately", "entity", "metric", "labels_text", "id")
    failure = Failure.objects.filter(work=failures.WATCH).first()
    failing = None if failure is None else Failing(since=rfc3339(failure.since), reason=failure.reason)
    return WatchedList(rows=[_out(row) for row in ordered[: max(1, min(most, MOST_ROWS))]], found=rows.count(), failing=failing)


@router.post("/watched", response={201: WatchedRow})
def watch(request: HttpRequest, given: NewWatched) -> Any:
    """Watches one more series, over its history too."""
    row = choose.watch(given.environment, given.metric, given.budget, _may_change(request), given.service, given.scope)
    return 201, _out(_one(row.pk))


@router.put("/watched/{series}", response=WatchedRow)
def change_watched(request: HttpRequest, series: int, given: ChangedWatched) -> Any:
    _may_change(request)
    choose.change(_one(series), given.budget, given.is_paused)
    return _out(_one(series))


@router.delete("/watched/{series}", response={204: None})
def delete_watched(request: HttpRequest, series: int) -> Any:
    """Of those that people have chosen, with what was found in it."""
    _may_change(request)
    row = _one(series)
    if row.made_by_id is None:
        raise InvalidQuestion("what is watched from the start cannot be deleted; pause it")
    row.delete()
    return 204, None


@router.get("/watched/{series}/replay", response=Replay)
@decorate_view(elsewhere)
def get_replay(request: HttpRequest, series: int, budget: float, days: int = 7) -> Any:
    """What would have been found with another budget."""
    row = _one(series)
    points, result = replay(row, budget, found.until() or 0, max(1, min(days, MOST_DAYS)))
    stride = max(1, -(-len(points.times) // DRAWN))
    first = len(points.times) % stride
    return Replay(
        start=rfc3339(int(points.times[first])),
        step_s=60 * stride,
        unit=row.unit,
        **{
            name: listed(fewer(values, stride))
            for name, values in (
                ("values", points.values),
                ("expected", result.expected.middle),
                ("low", result.expected.low),
                ("high", result.expected.high),
            )
        },
        found=[
            Replayed(
                onset=rfc3339(one.onset),
                ended=None if one.ended is None else rfc3339(one.ended),
                direction=one.direction,
                bits=round(one.bits, 1),
                deviates=sentences.deviates(of(row, one)),
                provisional=one.provisional,
            )
            for one in result.deviations
        ],
        days=float(np.round(len(points.times) / (24 * 60), 2)),
    )


@router.get("/watched/{series}/forecast", response=ForecastOut)
@decorate_view(elsewhere)
def get_forecast(request: HttpRequest, series: int, ahead_h: float = 24.0, limit: float | None = None) -> Any:
    """Where a series is heading, and when it meets a limit."""
    row = _one(series)
    if not 0 < ahead_h <= MOST_AHEAD_H:
        raise InvalidQuestion(f"a forecast reaches from a little to {MOST_AHEAD_H:g} hours ahead")
    points = history(row, found.until() or 0, MOST_DAYS)
    told = forecast(points.times, points.values, ahead_h * 3600)
    step_ns = int(told.times[1] - told.times[0]) if len(told.times) > 1 else int(points.times[1] - points.times[0])
    none = np.full(len(told.known), np.nan)
    met = None if limit is None else meets(told, limit, rising=bool(told.known[-1] <= limit))
    return ForecastOut(
        start=rfc3339(int(told.times[0]) - len(none) * step_ns),
        step_s=step_ns / 1e9,
        unit=row.unit,
        now=rfc3339(int(told.times[0])),
        values=listed(np.r_[told.known, np.full(len(told.times), np.nan)]),
        expected=listed(np.r_[none, told.middle]),
        low=listed(np.r_[none, told.low]),
        high=listed(np.r_[none, told.high]),
        limit=limit,
        meets=None if met is None else MeetingOut(**{name: None if at is None else rfc3339(at) for name, at in vars(met).items()}),
    )


def _may_change(request: HttpRequest) -> Any:
    user: Any = request.user
    if not user.may_respond:
        raise HttpError(403, "Your role may look, but not change what is watched; ask an administrator.")
    return user


def _rows(rows: QuerySet[WatchedSeries]) -> QuerySet[WatchedSeries]:
    since = (found.until() or 0) - LATELY_NS
    open_ones = DeviationRecord.objects.filter(series=OuterRef("pk"), ended=None).exclude(mark__in=found.KNOWN)
    of_late = Count("deviationrecord", filter=Q(deviationrecord__onset__gte=since))
    return rows.defer("tracker").select_related("made_by").annotate(deviates=Exists(open_ones), lately=of_late)


def _one(series: int) -> WatchedSeries:
    row = _rows(WatchedSeries.objects.filter(pk=series)).first()
    if row is None:
        raise NotFound("No such series is watched; somebody may have deleted it.")
    return row


def _out(row: Any) -> WatchedRow:
    return WatchedRow(
        id=row.pk,
        environment=row.environment,
        entity=EntityOut(kind=row.entity_kind, name=row.entity),
        service=row.service,
        metric=row.metric,
        attributes=row.labels,
        measure=sentences.named(row.metric, row.labels),
        unit=row.unit,
        state=row.state,
        budget=row.budget,
        has_own_budget=row.has_own_budget,
        is_paused=row.is_paused,
        made_by=row.made_by.get_username() if row.made_by else None,
        error=row.error or None,
        deviates=row.deviates,
        lately=row.lately,
    )
