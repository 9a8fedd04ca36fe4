"""The doors: OTLP/HTTP traces, and changes."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable
from functools import wraps

from django.db import DatabaseError
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.views.decorators.csrf import csrf_exempt
from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import ExportTraceServiceResponse

from wirbel.core.errors import InvalidChange, MalformedTelemetry
from wirbel.core.signals import otlp
from wirbel.core.signals.changes import parse_request
from wirbel.intake.bodies import JSON, PROTOBUF, Refusal, answer, content_type_of, read_body, refuse
from wirbel.intake.models import Token
from wirbel.store import reading, segments

log = logging.getLogger(__name__)
RETRY_BACKLOG_S = 5
RETRY_DATABASE_S = 2
Door = Callable[[HttpRequest], HttpResponse]


def door(view: Door) -> Door:
    """What all doors share: POST only, a valid token, and every refusal as a clear answer."""

    @csrf_exempt  # senders hold a token, not a session
    @wraps(view)
    def guarded(request: HttpRequest) -> HttpResponse:
        kind = content_type_of(request)
        if request.method != "POST":
            return HttpResponse("POST only\n", status=405, headers={"Allow": "POST"}, content_type="text/plain")
        try:
            _authenticate(request)
            return view(request)
        except Refusal as refusal:
            return refuse(kind, refusal)
        except MalformedTelemetry as error:
            return refuse(kind, Refusal(400, str(error)))
        except DatabaseError:
            log.exception("intake could not reach the database")
            return refuse(kind, Refusal(503, "the store cannot be reached; send again", RETRY_DATABASE_S))

    return guarded


def _authenticate(request: HttpRequest) -> None:
    scheme, _, secret = request.headers.get("Authorization", "").partition(" ")
    if scheme.lower() != "bearer" or not secret.strip():
        raise Refusal(401, "send an ingest token: Authorization: Bearer TOKEN (make one with ./wirbel token NAME)")
    if not Token.is_valid(secret.strip()):
        raise Refusal(401, "this ingest token is unknown or was revoked")


@door
def traces(request: HttpRequest) -> HttpResponse:
    """POST /v1/traces: 200 only after the spans are durable."""
    kind = content_type_of(request)
    if kind not in (PROTOBUF, JSON):
        raise Refusal(415, f"Content-Type must be {PROTOBUF} or {JSON}")
    if segments.backlog_bytes() > segments.BACKLOG_LIMIT:
        raise Refusal(503, "too much waits to be packed; is a worker running?", RETRY_BACKLOG_S)
    body = read_body(request)
    digest = segments.digest_of(body)
    protobuf = otlp.json_to_protobuf(body) if kind == JSON else body
    decoded = otlp.traces.decode([protobuf], time.time_ns())
    segments.append_spans(decoded.spans, digest)
    response = ExportTraceServiceResponse()
    if decoded.refused:
        response.partial_success.rejected_spans = decoded.refused_count
        response.partial_success.error_message = decoded.message()
    return answer(kind, response)


@door
def changes(request: HttpRequest) -> HttpResponse:
    """POST /v1/changes: 201 with the stored ids; 400 names the field, and then nothing is stored."""
    kind = content_type_of(request)
    if kind not in (JSON, "application/cloudevents+json"):
        raise Refusal(415, "Content-Type must be application/json or application/cloudevents+json")
    try:
        found = parse_request(kind, request.headers, read_body(request))
    except InvalidChange as error:
        return JsonResponse({"field": error.field, "error": str(error)}, status=400)
    return JsonResponse({"ids": reading.store_changes(found)}, status=201)
