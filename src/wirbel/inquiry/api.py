"""Asking for the cause of a symptom, and the answers that are kept."""

from __future__ import annotations

import uuid
from typing import Any

from django.http import HttpRequest
from ninja import Query, Router, Schema
from ninja.errors import HttpError

from wirbel.core.errors import NotFound
from wirbel.explore.asked import Within, window_of
from wirbel.inquiry.ask import Asked, ask, check_signal
from wirbel.inquiry.models import Inquiry
from wirbel.inquiry.schemas import InquiryView

MOST_ROWS = 500
router = Router()


class Times(Schema):
    start: str
    end: str


class NewInquiry(Schema):
    service: str
    operation: str | None = None
    signal: str = "latency"
    focus: Times
    reference: Times | None = None
    environment: str | None = None


@router.post("/inquiries", response={201: InquiryView}, by_alias=True)
def make_inquiry(request: HttpRequest, given: NewInquiry) -> Any:
    """Finds the cause of a symptom; the answer is kept under its id."""
    user: Any = request.user
    if not user.may_respond:
        raise HttpError(403, "Your role may look, but not open inquiries; ask an administrator.")
    focus = window_of(given.focus.start, given.focus.end, "focus")
    reference = window_of(given.reference.start, given.reference.end, "reference") if given.reference else None
    asked = Asked(given.service, given.operation, check_signal(given.signal), focus, reference, given.environment)
    answer = ask(asked).everything()
    kept = Inquiry(asked_by=user, service=given.service, signal=given.signal, answer=answer)
    kept.answer = {"id": str(kept.id), **answer}
    kept.save()
    return 201, kept.answer


class InquiryRow(Schema):
    id: str
    created: str
    asked_by: str | None
    service: str
    operation: str | None
    signal: str
    candidate: str | None
    confidence: float | None


class InquiryList(Schema):
    rows: list[InquiryRow]
    found: int


@router.get("/inquiries", response=InquiryList)
def list_inquiries(request: HttpRequest, asked: Query[Within], most: int = 100) -> Any:
    """The newest first; of a scope, those about its services."""
    found = Inquiry.objects.select_related("asked_by").order_by("-created")
    services = asked.services()
    found = found if services is None else found.filter(service__any_of=services)
    return InquiryList(rows=[_inquiry_row(inquiry) for inquiry in found[: max(1, min(most, MOST_ROWS))]], found=found.count())


def _inquiry_row(inquiry: Inquiry) -> InquiryRow:
    first = next(iter(inquiry.answer["candidates"]), None)
    return InquiryRow(
        id=str(inquiry.id),
        created=inquiry.created.isoformat(),
        asked_by=inquiry.asked_by.get_username() if inquiry.asked_by else None,
        service=inquiry.service,
        operation=inquiry.answer["symptom"]["operation"],
        signal=inquiry.signal,
        candidate=first and first["title"],
        confidence=first and first["confidence"],
    )


@router.get("/inquiries/{inquiry}", response=InquiryView, by_alias=True)
def get_inquiry(request: HttpRequest, inquiry: uuid.UUID) -> Any:
    found = Inquiry.objects.filter(id=inquiry).first()
    if found is None:
        raise NotFound("No such inquiry.")
    return found.answer
