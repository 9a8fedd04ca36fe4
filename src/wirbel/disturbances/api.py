"""Disturbances, and marks that people set on deviations."""

from __future__ import annotations

from typing import Any

from django.http import HttpRequest
from ninja import Query, Router, Schema
from ninja.errors import HttpError

from wirbel.core.deviation.contract import contract
from wirbel.core.deviation.model import Mark
from wirbel.core.errors import NotFound
from wirbel.disturbances import told
from wirbel.disturbances.schemas import DeviationOut, DisturbanceList, DisturbanceRow, deviation_out
from wirbel.explore.asked import Within, range_of, window_of
from wirbel.explore.windows import LONGEST_RANGE_NS
from wirbel.watch import found, marks
from wirbel.watch.models import DeviationRecord

MOST_ROWS = 500
router = Router()


@router.get("/disturbances", response=DisturbanceList)
def list_disturbances(
    request: HttpRequest, asked: Query[Within], start: str | None = None, end: str | None = None, last_s: int | None = None, most: int = 100
) -> Any:
    """Those of a range, the latest first."""
    return told.listed(*range_of(start, end, asked.environment, last_s), asked.environment, asked.services(), max(1, min(most, MOST_ROWS)))


@router.get("/disturbances/{identity}", response=DisturbanceRow)
def get_disturbance(request: HttpRequest, identity: str) -> Any:
    """One of them, by the id of any of its deviations."""
    return told.one(identity)


@router.get("/deviations", response=dict[str, Any])
def get_deviations(request: HttpRequest, start: str, end: str, asked: Query[Within]) -> Any:
    """Deviations and disturbances of a range, as scripts rely on them (docs/guide.md)."""
    window = window_of(start, end, "range", LONGEST_RANGE_NS)
    records = found.records(*window, asked.environment, asked.services())[: found.MOST]
    return contract([record.of() for record in records], found.linked(*window, asked.environment))


class MarkGiven(Schema):
    mark: Mark | None


@router.put("/deviations/{identity}/mark", response=DeviationOut)
def mark_deviation(request: HttpRequest, identity: str, given: MarkGiven) -> Any:
    """What a person says of it; null takes that back."""
    user: Any = request.user
    if not user.may_respond:
        raise HttpError(403, "Your role may look, but not mark deviations; ask an administrator.")
    record = DeviationRecord.objects.select_related("series", "marked_by").filter(identity=identity).first()
    if record is None:
        raise NotFound("There is no such deviation.")
    marks.mark(record, given.mark, user)
    return deviation_out(record)
