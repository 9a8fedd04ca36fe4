"""Asking for the cause of a symptom, and the answers that are kept."""

from __future__ import annotations

import json
import uuid
from typing import Any
from urllib.parse import urlencode

from django.http import HttpRequest
from ninja import Query, Router, Schema
from ninja.decorators import decorate_view
from ninja.errors import HttpError

from wirbel.core.errors import NotFound
from wirbel.explore.answerer import asked_there, elsewhere
from wirbel.explore.asked import Within, window_of
from wirbel.inquiry import forms
from wirbel.inquiry.ask import Asked, ask, check_signal
from wirbel.inquiry.models import Inquiry
from wirbel.inquiry.schemas import AnswerView, InquiryView

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

    def question(self) -> Symptom:
        reference = self.reference.model_dump() if self.reference else {}
        return Symptom(
            **self.model_dump(include={"service", "operation", "signal", "environment"}),
            focus_from=self.focus.start,
            focus_to=self.focus.end,
            reference_from=reference.get("start"),
            reference_to=reference.get("end"),
        )


class Symptom(Schema):
    """The same in the address of a question."""

    service: str
    operation: str | None = None
    signal: str = "latency"
    focus_from: str
    focus_to: str
    reference_from: str | None = None
    reference_to: str | None = None
    environment: str | None = None

    def asked(self) -> Asked:
        focus, reference = window_of(self.focus_from, self.focus_to, "focus"), None
        if self.reference_from is not None or self.reference_to is not None:
            reference = window_of(self.reference_from or "", self.reference_to or "", "reference")
        return Asked(self.service, self.operation, check_signal(self.signal), focus, reference, self.environment)


@router.post("/inquiries", response={201: InquiryView}, by_alias=True)
def make_inquiry(request: HttpRequest, given: NewInquiry) -> Any:
    """Finds the cause of a symptom; the answer is kept under its id."""
    _may_ask(request)
    symptom = given.question()
    asked = symptom.asked()
    answer = _found_there(request, symptom) or ask(asked).everything()
    user: Any = request.user
    kept = Inquiry(asked_by=user, service=given.service, signal=given.signal)
    forms.keep(kept, answer)
    kept.save()
    return 201, kept.answer


@router.get("/cause", response=AnswerView, by_alias=True)
@decorate_view(elsewhere)
def get_cause(request: HttpRequest, symptom: Query[Symptom]) -> Any:
    """The same, and nothing is kept."""
    _may_ask(request)
    return ask(symptom.asked()).everything()


def _may_ask(request: HttpRequest) -> None:
    user: Any = request.user
    if not user.may_respond:
        raise HttpError(403, "Your role may look, but not open inquiries; ask an administrator.")


def _found_there(request: HttpRequest, symptom: Symptom) -> dict[str, Any] | None:
    """By the process that answers questions; None where there is none that can. Raises HttpError with what it says."""
    told = asked_there(request, f"/api/cause?{urlencode(symptom.model_dump(exclude_none=True))}")
    if told is None or told.status_code >= 500:
        return None
    found = json.loads(told.content)
    if told.status_code != 200:
        raise HttpError(told.status_code, found["detail"])
    return dict(found)


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
    found = Inquiry.objects.select_related("asked_by").defer("answer").order_by("-created")
    services = asked.services()
    found = found if services is None else found.filter(service__any_of=services)
    return InquiryList(rows=[_inquiry_row(inquiry) for inquiry in found[: max(1, min(most, MOST_ROWS))]], found=found.count())


def _inquiry_row(inquiry: Inquiry) -> InquiryRow:
    return InquiryRow(
        id=str(inquiry.id),
        created=inquiry.created.isoformat(),
        asked_by=inquiry.asked_by.get_username() if inquiry.asked_by else None,
        service=inquiry.service,
        operation=inquiry.operation,
        signal=inquiry.signal,
        candidate=inquiry.candidate,
        confidence=inquiry.confidence,
    )


@router.get("/inquiries/{inquiry}", response=InquiryView, by_alias=True)
def get_inquiry(request: HttpRequest, inquiry: uuid.UUID) -> Any:
    found = Inquiry.objects.filter(id=inquiry).first()
    if found is None:
        raise NotFound("No such inquiry.")
    answer = forms.read(found)
    if answer is None:
        raise HttpError(410, f"This answer about {found.service} ({found.signal}) was kept by an older version and cannot be shown any more. Ask again.")
    return answer
