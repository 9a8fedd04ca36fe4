"""A stock OpenTelemetry SDK with its OTLP/HTTP exporter as the sender, a live server as the receiver."""

from __future__ import annotations

import contextlib
import http.client
import time
import urllib.request
from datetime import UTC, datetime, timedelta
from http.cookiejar import CookieJar
from urllib.parse import urlparse

import pytest
from opentelemetry import trace
from opentelemetry.exporter.otlp.proto.http.trace_exporter import OTLPSpanExporter
from opentelemetry.sdk.resources import Resource
from opentelemetry.sdk.trace import TracerProvider
from opentelemetry.sdk.trace.export import BatchSpanProcessor
from opentelemetry.trace import Link, SpanKind, Status, StatusCode

from tests.api_client import Api
from tests.conftest import Instance
from wirbel.intake.bodies import MAX_BODY

VISIBLE_WITHIN_S = 5


@pytest.fixture(scope="module")
def api(instance: Instance) -> Api:
    return Api(instance)


def provider(instance: Instance, name: str) -> TracerProvider:
    made = TracerProvider(
        resource=Resource.create({"service.name": name, "service.version": "1.2.3", "host.name": "desk", "deployment.environment.name": "workshop"})
    )
    exporter = OTLPSpanExporter(endpoint=f"{instance.url}/v1/traces", headers={"Authorization": f"Bearer {instance.token}"})
    made.add_span_processor(BatchSpanProcessor(exporter))
    return made


def wait_for_trace(api: Api, trace_id: str, spans: int) -> dict:
    deadline = time.monotonic() + VISIBLE_WITHIN_S
    while True:
        status, found = api.get(f"/api/traces/{trace_id}")
        if status == 200 and len(found["this"]["spans"]["span"]) >= spans:
            return found["this"]
        assert time.monotonic() < deadline, f"not visible within {VISIBLE_WITHIN_S} s: {status}"
        time.sleep(0.05)


def test_traces_arrive_complete_with_attributes_intact(instance: Instance, api: Api) -> None:
    sender = provider(instance, "lock-administrator")
    tracer = sender.get_tracer("tests", "1")
    attributes = {
        "text": "schön",
        "number": 7,
        "share": 0.25,
        "yes": True,
        "list": ["a", "b"],
        "numbers": [1, 2],
        "http.request.method": "GET",
        "http.route": "/locks/{id}",
    }
    with tracer.start_as_current_span("GET /locks/{id}", kind=SpanKind.SERVER, attributes=attributes) as root:
        with tracer.start_as_current_span(
            "SELECT",
            kind=SpanKind.CLIENT,
            attributes={"db.system.name": "postgresql", "server.address": "lock-db", "db.query.text": "SELECT * FROM lock WHERE id = 5"},
        ):
            pass
        with tracer.start_as_current_span("work", links=[Link(root.get_span_context(), {"why": "test"})]) as inner:
            inner.add_event("looked", {"at": "gate"})
            inner.record_exception(ValueError("stuck"))
            inner.set_status(Status(StatusCode.ERROR, "gate is stuck"))
    trace_id = trace.format_trace_id(root.get_span_context().trace_id)
    assert sender.force_flush()
    found = wait_for_trace(api, trace_id, 3)
    columns = found["spans"]
    top, database, work = (
        {**columns["alike"][of], **api.get(f"/api/traces/{trace_id}/spans/{span}")[1]} for of, span in zip(columns["of"], columns["span"], strict=True)
    )
    assert top["attributes"] == attributes
    assert {k: top["resource"][k] for k in ("service.name", "service.version", "host.name", "deployment.environment.name", "telemetry.sdk.language")} == {
        "service.name": "lock-administrator", "service.version": "1.2.3", "host.name": "desk", "deployment.environment.name": "workshop", "telemetry.sdk.language": "python",
    }  # fmt: skip
    assert (top["operation"], database["operation"], database["peer"]) == ("GET /locks/{id}", "SELECT lock", "lock-db")
    assert columns["parent"] == [-1, 0, 0]
    assert columns["events"] == [0, 0, 2]
    assert (work["outcome"], work["status_message"]) == ("error", "gate is stuck")
    assert [event["name"] for event in work["events"]] == ["looked", "exception"]
    assert work["events"][1]["attributes"]["exception.type"] == "ValueError"
    assert sum(columns["self_ms"]) == pytest.approx(found["seconds"] * 1000, abs=1e-6)


def test_a_new_service_appears_and_can_be_asked_about(instance: Instance, api: Api) -> None:
    """Real requests of a real program, fast ones and then slow ones, sent as history: the same questions work."""
    sender = provider(instance, "bell-ringer")
    tracer = sender.get_tracer("tests")
    begin = datetime.now(UTC) - timedelta(minutes=40)

    def at(when: datetime) -> int:
        return int(when.timestamp() * 1e9)

    for n in range(240):
        start = begin + timedelta(seconds=10 * n)
        wait = 0.02 if n < 150 else 0.35
        root = tracer.start_span("POST /ring", kind=SpanKind.SERVER, start_time=at(start), attributes={"http.request.method": "POST", "http.route": "/ring"})
        call = tracer.start_span(
            "GET",
            context=trace.set_span_in_context(root),
            kind=SpanKind.CLIENT,
            start_time=at(start) + 10**6,
            attributes={"http.request.method": "GET", "url.full": f"http://tower.example/bells/{n}"},
        )
        call.end(at(start) + 10**6 + int(wait * 1e9) + n % 7 * 10**5)
        root.end(at(start) + int((wait + 0.01) * 1e9) + n % 11 * 10**5)
    assert sender.force_flush()
    deadline = time.monotonic() + VISIBLE_WITHIN_S
    while "bell-ringer" not in api.get("/api/services")[1]:
        assert time.monotonic() < deadline
        time.sleep(0.05)
    wait_for_trace(api, trace.format_trace_id(root.get_span_context().trace_id), 2)
    turn = begin + timedelta(seconds=1500)
    body = {
        "service": "bell-ringer",
        "signal": "latency",
        "focus": {"start": turn.isoformat(), "end": (begin + timedelta(minutes=40)).isoformat()},
        "reference": {"start": begin.isoformat(), "end": turn.isoformat()},
    }
    status, answer = api.post("/api/inquiries", body)
    assert status == 201, answer
    assert answer["effect"]["delta"] == pytest.approx(0.33, abs=0.01)
    assert (answer["candidates"][0]["entity"]["name"], answer["candidates"][0]["mechanism"]) == ("tower.example", "external")
    assert abs(datetime.fromisoformat(answer["onset"]["at"]) - turn) < timedelta(seconds=15)


def test_bodies_over_the_bound_are_refused_before_they_are_read(instance: Instance) -> None:
    """A body of 100 MB, announced and in chunks; the server goes on answering."""
    status, _, _ = _announced(instance, 100_000_000)
    assert status == 413
    assert _chunked(instance, MAX_BODY + 2**20) == 413
    assert instance.post("/v1/traces", b"")[0] == 200


def _announced(instance: Instance, size: int) -> tuple[int, bytes, dict]:
    connection = http.client.HTTPConnection(urlparse(instance.url).netloc, timeout=20)
    connection.putrequest("POST", "/v1/traces")
    for name, value in (("Authorization", f"Bearer {instance.token}"), ("Content-Type", "application/x-protobuf"), ("Content-Length", str(size))):
        connection.putheader(name, value)
    connection.endheaders()
    answer = connection.getresponse()
    return answer.status, answer.read(), dict(answer.headers)


def _chunked(instance: Instance, size: int) -> int:
    connection = http.client.HTTPConnection(urlparse(instance.url).netloc, timeout=20)
    chunks = (b"\0" * 2**16 for _ in range(size // 2**16))
    with contextlib.suppress(BrokenPipeError, ConnectionResetError):  # refused while still sending
        connection.request(
            "POST", "/v1/traces", chunks, {"Authorization": f"Bearer {instance.token}", "Content-Type": "application/x-protobuf"}, encode_chunked=True
        )
    return connection.getresponse().status


def test_events_are_sent_while_the_page_listens(instance: Instance, api: Api) -> None:
    with api.opener.open(urllib.request.Request(f"{instance.url}/api/live"), timeout=20) as stream:
        assert stream.readline() == b"event: open\n"
        sender = provider(instance, "fog-horn")
        with sender.get_tracer("t").start_as_current_span("blow"):
            pass
        sender.force_flush()
        lines = [stream.readline() for _ in range(6)]
        assert b"event: stored\n" in lines
    assert isinstance(api.cookies, CookieJar)
