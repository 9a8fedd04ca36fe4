"""The doors: OTLP/HTTP traces, metrics and logs, and changes."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import cachetools
from django.db import DatabaseError, DataError, transaction
from django.http import HttpResponse, JsonResponse
from opentelemetry.proto.collector.logs.v1.logs_service_pb2 import ExportLogsServiceResponse
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceResponse
from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import ExportTraceServiceResponse

from wirbel.core.errors import InvalidChange, MalformedTelemetry, TooMuchTelemetry
from wirbel.core.signals import otlp
from wirbel.core.signals.changes import parse_request
from wirbel.intake import quota
from wirbel.intake.bodies import JSON, PROTOBUF, Knock, Refusal, answer, read_body, refuse, sendable
from wirbel.intake.commit import Delivery, deliver
from wirbel.intake.models import Taken, Token
from wirbel.store import reachable, reading, segments

log = logging.getLogger(__name__)
View = Callable[[Knock, Token], HttpResponse]
_RESPONSES = {
    "traces": (ExportTraceServiceResponse, "rejected_spans"),
    "metrics": (ExportMetricsServiceResponse, "rejected_data_points"),
    "logs": (ExportLogsServiceResponse, "rejected_log_records"),
}


@dataclass(frozen=True)
class Door:
    """What all doors share: their path /v1/NAME, POST only, a valid token, and every refusal as a clear answer that is counted."""

    name: str
    view: View

    def turned_away(self, request: Knock) -> HttpResponse | None:
        """What strangers are told before anything of their body is kept; None to whom the door is open."""
        if request.method != "POST":
            return HttpResponse("POST only\n", status=405, headers={"Allow": "POST"}, content_type="text/plain")
        return self._answer(request, lambda token: None)

    def is_open_to(self, request: Knock) -> bool:
        """Whether a token is known to be good, without a look at the database."""
        return request.method == "POST" and known_tokens.holds(_secret(request))

    def answer(self, request: Knock) -> HttpResponse:
        found = self._answer(request, lambda token: self.view(request, token))
        assert found is not None
        return found

    def _answer(self, request: Knock, then: Callable[[Token], HttpResponse | None]) -> HttpResponse | None:
        kind, token = request.content_type, None
        try:
            reachable.check()
            token = _authenticate(request)
            return then(token)
        except Refusal as refusal:
            refused = refusal
        except TooMuchTelemetry as error:
            refused = Refusal(413, str(error))
        except MalformedTelemetry as error:
            refused = Refusal(400, str(error))
        except reachable.Unreachable:
            return refuse(kind, Refusal(503, "the store cannot be reached; send again"))
        except (DataError, UnicodeEncodeError):
            refused = Refusal(400, "the request holds a character or number that nothing stored can have")
        except DatabaseError:
            log.exception("intake could not store a request")
            return refuse(kind, Refusal(503, "the request could not be stored; send again"))
        _refusals.count(self.name, token, refused)
        return refuse(kind, refused)


DOORS: dict[str, Door] = {}
"""Every door by its path; :func:`door` puts each in."""


def door(name: str) -> Callable[[View], View]:
    """Makes a view the door /v1/NAME."""

    def wrap(view: View) -> View:
        DOORS[f"/v1/{name}"] = Door(name, view)
        return view

    return wrap


class KnownTokens:
    """Tokens that were good a moment ago: a sender shows the same one many times a second."""

    TRUSTED_S = 2.0  # a revoked token is refused this much later at most
    MOST = 10_000

    def __init__(self) -> None:
        self._known: cachetools.TTLCache[str, Token] = cachetools.TTLCache(self.MOST, self.TRUSTED_S)
        self._lock = threading.Lock()

    def find(self, secret: str) -> Token | None:
        digest = Token.digest_of(secret)
        with self._lock:
            token = self._known.get(digest)
        if token is None and (token := Token.of(secret)) is not None:
            with self._lock:
                self._known[digest] = token
        return token

    def holds(self, secret: str) -> bool:
        with self._lock:
            return Token.digest_of(secret) in self._known

    def forget(self) -> None:
        with self._lock:
            self._known.clear()


known_tokens = KnownTokens()


class _Refusals:
    """Counts what was turned away, so that the Intake view can say why. Strangers cannot make it write often."""

    WRITE_EVERY_S = 2.0

    def __init__(self) -> None:
        self._held: dict[tuple[str, int | None], dict[str, int]] = {}
        self._written = 0.0
        self._lock = threading.Lock()

    def count(self, name: str, token: Token | None, refusal: Refusal) -> None:
        with self._lock:
            reasons = self._held.setdefault((name, token and token.pk), {})
            reason = f"{refusal.status}: {refusal.reason[:200]}"
            reasons[reason] = reasons.get(reason, 0) + 1
            if time.monotonic() - self._written < self.WRITE_EVERY_S:
                return
            held, self._held, self._written = self._held, {}, time.monotonic()
        rows = [Taken(token_id=pk, signal=signal, requests=sum(reasons.values()), refused=reasons) for (signal, pk), reasons in held.items()]
        try:
            Taken.objects.bulk_create(rows)
        except DatabaseError:
            log.warning("%s refusals could not be counted", len(rows))


_refusals = _Refusals()


def _secret(request: Knock) -> str:
    """The token that is shown; empty where there is none."""
    scheme, _, secret = request.headers.get("Authorization", "").partition(" ")
    return secret.strip() if scheme.lower() == "bearer" else ""


def _authenticate(request: Knock) -> Token:
    secret = _secret(request)
    if not secret:
        raise Refusal(401, "send an ingest token: Authorization: Bearer TOKEN (make one with ./wirbel token NAME)")
    token = known_tokens.find(secret)
    if token is None:
        raise Refusal(401, "this ingest token is unknown or was revoked")
    return token


def _take(signal: otlp.Signal, request: Knock, token: Token) -> HttpResponse:
    """200 only after the good records are durable; what was refused is counted and explained."""
    kind = request.content_type
    if kind not in (PROTOBUF, JSON):
        raise Refusal(415, f"Content-Type must be {PROTOBUF} or {JSON}")
    room = segments.room()
    if room.backlog > segments.BACKLOG_LIMIT:
        raise Refusal(503, "too much waits to be packed; is a worker running?")
    if room.free is not None and room.free < segments.LEAST_FREE + room.backlog:
        raise Refusal(503, f"the database's disk has only {room.free >> 20} MB left; free some, or keep records for a shorter time")
    if quota.exceeded(token):
        raise Refusal(429, f"this token may send {token.quota} records a minute")
    body = read_body(request)
    size = int(request.headers.get("Content-Length") or len(body))
    held = otlp.JsonText(body) if kind == JSON else body
    delivery = Delivery(signal, held, segments.digest_of(signal.name.encode() + body), size, token.pk, otlp.weigh(signal, held))
    deliver(delivery)
    quota.note(token, delivery.stored)
    response_type, rejected = _RESPONSES[signal.name]
    response: Any = response_type()
    if delivery.refused:
        setattr(response.partial_success, rejected, sum(delivery.refused.values()))
        response.partial_success.error_message = sendable(delivery.refused_message())
    return answer(kind, response)


@door("traces")
def traces(request: Knock, token: Token) -> HttpResponse:
    """POST /v1/traces"""
    return _take(otlp.TRACES, request, token)


@door("metrics")
def metrics(request: Knock, token: Token) -> HttpResponse:
    """POST /v1/metrics"""
    return _take(otlp.METRICS, request, token)


@door("logs")
def logs(request: Knock, token: Token) -> HttpResponse:
    """POST /v1/logs"""
    return _take(otlp.LOGS, request, token)


@door("changes")
def changes(request: Knock, token: Token) -> HttpResponse:
    """POST /v1/changes: 201 with the stored ids; 400 names the field, and then nothing is stored."""
    kind = request.content_type
    if kind not in (JSON, "application/cloudevents+json"):
        raise Refusal(415, "Content-Type must be application/json or application/cloudevents+json")
    try:
        found = parse_request(kind, request.headers, read_body(request))
    except InvalidChange as error:
        return JsonResponse({"field": error.field, "error": str(error)}, status=400)
    with transaction.atomic():  # what is refused is not counted as taken
        Taken.objects.create(token=token, signal="changes", requests=1, rows=len(found), size=int(request.headers.get("Content-Length") or 0))
        ids = reading.store_changes(found).ids
    return JsonResponse({"ids": ids}, status=201)
