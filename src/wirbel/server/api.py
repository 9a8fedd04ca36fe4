"""The HTTP API that the front end and scripts use. Its OpenAPI schema makes the front end's types."""

from __future__ import annotations

import time
import uuid
from typing import Any, Literal

from django.contrib.auth import authenticate, login, logout
from django.core.cache import cache
from django.db import DataError
from django.http import HttpRequest, StreamingHttpResponse
from ninja import NinjaAPI, Query, Schema
from ninja.errors import HttpError
from ninja.security import django_auth
from pydantic import Field

from wirbel.core.errors import InvalidQuestion, NotEnoughData, WirbelError
from wirbel.core.signals.changes import parse_time
from wirbel.core.text import rfc3339
from wirbel.explore import export, known, schemas, windows
from wirbel.explore.breakdown import breakdown
from wirbel.explore.figures import listed, window_out
from wirbel.explore.health import overview
from wirbel.explore.metrics import metric_view
from wirbel.explore.service import service_view
from wirbel.explore.traces import Filter, list_traces, trace_pair
from wirbel.inquiry import as_json
from wirbel.inquiry.ask import Asked, ask, check_signal
from wirbel.inquiry.models import Inquiry
from wirbel.inquiry.schemas import InquiryView
from wirbel.intake.api import router as intake_router
from wirbel.server.practice import router as stage_router
from wirbel.store import reading
from wirbel.store.models import Service

MOST_ROWS = 500
SIGN_IN_TRIES = 10  # wrong passwords for one name before a pause
SIGN_IN_PAUSE_S = 60

api = NinjaAPI(title="Wirbel", version="1", auth=django_auth, docs_url=None)
api.add_router("", intake_router)
api.add_router("", stage_router)


@api.exception_handler(WirbelError)
def _say_what_to_do(request: HttpRequest, error: WirbelError) -> Any:
    status = 404 if isinstance(error, NotEnoughData) else 400
    return api.create_response(request, {"detail": str(error)}, status=status)


@api.exception_handler(DataError)
def _say_it_cannot_be(request: HttpRequest, error: DataError) -> Any:
    """The database refused a value as such: a NUL in a name, a number beyond its range."""
    return api.create_response(request, {"detail": "The question holds a character or number that nothing stored can have."}, status=400)


class Credentials(Schema):
    name: str
    password: str


class Me(Schema):
    name: str
    role: str


@api.post("/session", auth=None, response=Me)
def sign_in(request: HttpRequest, given: Credentials) -> Any:
    key = f"sign-in:{given.name[:150].lower()}"
    if cache.get(key, 0) >= SIGN_IN_TRIES:
        raise HttpError(429, "Too many wrong passwords for this name; wait a minute.")
    user = authenticate(request, username=given.name, password=given.password)
    if user is None:
        cache.set(key, cache.get(key, 0) + 1, SIGN_IN_PAUSE_S)
        raise HttpError(401, "Name or password is wrong.")
    login(request, user)
    return Me(name=user.get_username(), role=user.role)


@api.get("/session", response=Me)
def who_am_i(request: HttpRequest) -> Any:
    return Me(name=request.user.get_username(), role=request.user.role)  # type: ignore[union-attr]


@api.delete("/session", response={204: None})
def sign_out(request: HttpRequest) -> Any:
    logout(request)
    return 204, None


def _window(start: str, end: str, name: str) -> tuple[int, int]:
    window = (parse_time(start, f"{name} from"), parse_time(end, f"{name} to"))
    if window[1] <= window[0]:
        raise InvalidQuestion(f"{name} ends before it starts")
    if window[1] - window[0] > windows.LONGEST_NS:
        raise InvalidQuestion(f"{name} is longer than 14 days; choose a shorter one")
    return window


def _range(start: str | None, end: str | None) -> tuple[int, int]:
    """The range asked for; without one, six hours up to now, or up to the newest record if none is recent."""
    if start and end:
        return _window(start, end, "range")
    now = time.time_ns()
    stored = reading.time_range()
    if stored and stored[1] < now - windows.RANGE_NS:
        now = stored[1]
    return now - windows.RANGE_NS, now


@api.get("/ribbon", response=schemas.Ribbon)
def ribbon(request: HttpRequest, start: str | None = None, end: str | None = None, service: str | None = None, environment: str | None = None) -> Any:
    """The scope's p95 with its band, its changes, and the two windows that Wirbel proposes."""
    low, high = _range(start, end)
    found = windows.signal(low, high, environment, service)
    grid, band = found.grid, found.band

    def window_of(pair: tuple[int, int]) -> schemas.WindowOut:
        return window_out(grid.first + pair[0] * grid.step_ns, min(grid.first + pair[1] * grid.step_ns, high))

    stored = reading.time_range()
    return schemas.Ribbon(
        start=rfc3339(grid.first),
        end=rfc3339(high),
        step_s=grid.step,
        label=service or "all entry points",
        unit="s",
        values=listed(found.values),
        expected=listed(band.expected),
        low=listed(band.low),
        high=listed(band.high),
        samples=[int(n) for n in found.samples],
        deviations=[window_of(pair) for pair in found.deviations],
        changes=[schemas.ChangeOut(**as_json.change(c)) for c in reading.changes(low, high, environment)][-MOST_ROWS:],
        focus=window_of(found.proposal.focus),
        reference=window_of(found.proposal.reference),
        departed=found.proposal.departed,
        newest=rfc3339(stored[1]) if stored else None,
        environments=list(Service.objects.order_by("environment").values_list("environment", flat=True).distinct()[:50]),
    )


@api.get(
    "/export/{stream}",
    openapi_extra={"responses": {200: {"description": "The file", "content": {kind.partition(";")[0]: {} for kind in export.FORMATS.values()}}}},
)
def get_export(
    request: HttpRequest,
    stream: str,
    start: str,
    end: str,
    form: str = "parquet",
    environment: str | None = None,
    service: str | None = None,
    containing: str | None = None,
) -> Any:
    """The records of a window as Parquet, OTLP JSON Lines (jsonl) or CSV; logs may be searched for words."""
    wanted = export.Wanted(stream, *_window(start, end, "window"), form, environment, service, containing)
    pieces = export.write(wanted)
    return StreamingHttpResponse(pieces, content_type=export.FORMATS[form], headers={"Content-Disposition": f'attachment; filename="{wanted.file_name}"'})


class Compared(Schema):
    """The two windows, and the range and environment around them."""

    focus_from: str
    focus_to: str
    reference_from: str
    reference_to: str
    start: str | None = None
    end: str | None = None
    environment: str | None = None

    def windows(self) -> tuple[tuple[int, int], tuple[int, int]]:
        return _window(self.focus_from, self.focus_to, "focus"), _window(self.reference_from, self.reference_to, "reference")


@api.get("/overview", response=schemas.Overview)
def get_overview(request: HttpRequest, asked: Query[Compared]) -> Any:
    """The health of all services, worst first."""
    return overview(*_range(asked.start, asked.end), *asked.windows(), asked.environment)


@api.get("/services", response=list[str])
def services(request: HttpRequest, environment: str | None = None) -> Any:
    found = Service.objects.order_by("name")
    if environment:
        found = found.filter(environment=environment)
    return list(found.values_list("name", flat=True).distinct()[:MOST_ROWS])


@api.get("/services/{name}", response=schemas.ServiceView)
def service(request: HttpRequest, name: str, asked: Query[Compared]) -> Any:
    if not Service.objects.filter(name=name).exists():
        raise NotEnoughData(f"No service {name!r} has sent anything.")
    return service_view(name, *_range(asked.start, asked.end), *asked.windows(), asked.environment)


class Conditions(Schema):
    """Which requests; each condition may be left out."""

    service: str | None = None
    operation: str | None = None
    version: str | None = None
    instance: str | None = None
    outcome: Literal["ok", "client error", "error"] | None = None
    slower_than_s: float | None = None
    faster_than_s: float | None = None
    carrying: list[str] = Field(default=[], max_length=10, description="ATTRIBUTE=VALUE; a request must have them all")

    def filter(self) -> Filter:
        pairs = [text.partition("=") for text in self.carrying]
        if wrong := next((key for key, sign, _ in pairs if not sign or not key), None):
            raise InvalidQuestion(f"write ATTRIBUTE=VALUE, not {wrong!r}")
        return Filter(
            self.service,
            self.operation,
            self.version,
            self.instance,
            self.outcome,
            self.slower_than_s,
            self.faster_than_s,
            tuple((key, value) for key, _, value in pairs),
        )


@api.get("/traces", response=schemas.TraceList)
def traces(
    request: HttpRequest,
    start: str,
    end: str,
    conditions: Query[Conditions],
    order: Literal["slowest", "fastest", "newest", "oldest"] = "slowest",
    most: int = 100,
    environment: str | None = None,
) -> Any:
    return list_traces(_window(start, end, "range"), conditions.filter(), order, max(1, min(most, MOST_ROWS)), environment)


@api.get("/breakdown", response=schemas.Breakdown)
def get_breakdown(request: HttpRequest, by: str, conditions: Query[Conditions], asked: Query[Compared]) -> Any:
    """Requests split by the values of an attribute, focus beside reference."""
    return breakdown(*asked.windows(), conditions.filter(), by, asked.environment)


@api.get("/known/attributes", response=list[schemas.AttributeRow])
def known_attributes(request: HttpRequest, stream: Literal["spans", "logs"] = "spans", environment: str | None = None) -> Any:
    """Attributes of a stream's records, the commonest first."""
    return known.attributes(stream, environment)


@api.get("/known/metrics", response=list[schemas.KnownMetric])
def known_metrics(request: HttpRequest, service: str | None = None, environment: str | None = None) -> Any:
    return known.metrics(service, environment)


@api.get("/known/entities", response=list[schemas.EntityRow])
def known_entities(request: HttpRequest, kind: str | None = None, service: str | None = None, environment: str | None = None) -> Any:
    """Hosts, pods, containers, processes, databases …, and what each runs on."""
    return known.entities(kind, service, environment)


@api.get("/services/{name}/metric", response=schemas.MetricView)
def get_metric(request: HttpRequest, name: str, metric: str, asked: Query[Compared], by: str | None = None) -> Any:
    """A metric of a service over time, in one line or in one for each value of a label."""
    return metric_view(name, metric, *_range(asked.start, asked.end), list(asked.windows()), asked.environment, by)


@api.get("/traces/{trace}", response=schemas.TracePair)
def trace(request: HttpRequest, trace: str, span: str | None = None, against: str | None = None) -> Any:
    """One trace, from its root or from ``span``; ``against`` is TRACE or TRACE:SPAN of one to compare it with."""
    return trace_pair(trace, span, against)


@api.get("/changes", response=list[schemas.ChangeOut])
def changes(request: HttpRequest, start: str, end: str, service: str | None = None, environment: str | None = None) -> Any:
    low, high = _window(start, end, "range")
    return [as_json.change(c) for c in reading.changes(low, high, environment, service)][-MOST_ROWS:]


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


@api.post("/inquiries", response={201: InquiryView}, by_alias=True)
def make_inquiry(request: HttpRequest, given: NewInquiry) -> Any:
    """Finds the cause of a symptom; the answer is kept under its id."""
    user: Any = request.user
    if not user.may_respond:
        raise HttpError(403, "Your role may look, but not open inquiries; ask an administrator.")
    focus = _window(given.focus.start, given.focus.end, "focus")
    reference = _window(given.reference.start, given.reference.end, "reference") if given.reference else None
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


@api.get("/inquiries", response=list[InquiryRow])
def list_inquiries(request: HttpRequest, most: int = 100) -> Any:
    found = Inquiry.objects.select_related("asked_by").order_by("-created")[: max(1, min(most, MOST_ROWS))]
    return [_inquiry_row(inquiry) for inquiry in found]


def _inquiry_row(inquiry: Inquiry) -> InquiryRow:
    first = next(iter(inquiry.answer["candidates"]), None)
    return InquiryRow(
        id=str(inquiry.id),
        created=inquiry.created.isoformat(),
        asked_by=inquiry.asked_by.get_username() if inquiry.asked_by else None,
        service=inquiry.service,
        operation=inquiry.answer["symptom"]["operation"],
        signal=inquiry.signal,
        candidate=first and first["entity"]["name"],
        confidence=first and first["confidence"],
    )


@api.get("/inquiries/{inquiry}", response=InquiryView, by_alias=True)
def get_inquiry(request: HttpRequest, inquiry: uuid.UUID) -> Any:
    found = Inquiry.objects.filter(id=inquiry).first()
    if found is None:
        raise NotEnoughData("No such inquiry.")
    return found.answer
