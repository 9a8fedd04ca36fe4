"""What each kind of request is answered, by a real view on a real database."""

from __future__ import annotations

import gzip
import json
import zlib

import pytest
from django.db import DataError
from google.rpc.status_pb2 import Status
from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import ExportTraceServiceResponse

from tests.builders import request
from tests.core.test_changes import PLAIN, cloud_event
from tests.core.test_otlp_traces import EXAMPLE
from tests.door_client import Answer, knock
from wirbel.core.signals import otlp
from wirbel.core.signals.attributes import MOST_INSIDE
from wirbel.intake import bodies, commit
from wirbel.intake.models import Taken, Token
from wirbel.store import segments
from wirbel.store.models import ChangeRecord, Segment

pytestmark = pytest.mark.django_db
PROTOBUF = "application/x-protobuf"


@pytest.fixture
def token() -> str:
    return Token.make("test")


def send(token: str | None, body: bytes, kind: str = PROTOBUF, path: str = "/v1/traces", headers: dict[str, str] | None = None) -> Answer:
    authorization = {"Authorization": f"Bearer {token}"} if token else {}
    return knock(path, body, headers={"Content-Type": kind, **authorization, **(headers or {})})


def good(**more: object) -> bytes:
    return request({"start_time_unix_nano": 1_700_000_000 * 10**9, "end_time_unix_nano": 1_700_000_001 * 10**9}, **more).SerializeToString()


def rows() -> int:
    return sum(Segment.objects.values_list("rows", flat=True))


def test_good_spans_are_durable_before_the_answer(token: str) -> None:
    answer = send(token, good())
    assert (answer.status_code, answer["Content-Type"]) == (200, PROTOBUF)
    assert ExportTraceServiceResponse.FromString(answer.content) == ExportTraceServiceResponse()
    assert rows() == 1


def test_gzip_and_json_are_taken_and_answered_in_kind(token: str) -> None:
    assert send(token, gzip.compress(good()), headers={"Content-Encoding": "gzip"}).status_code == 200
    answer = send(token, json.dumps(EXAMPLE).encode(), "application/json")
    assert (answer.status_code, answer["Content-Type"], answer.json()) == (200, "application/json", {})
    assert rows() == 2


def test_the_same_body_twice_is_stored_once(token: str) -> None:
    body = good()
    assert [send(token, body).status_code, send(token, body).status_code] == [200, 200]
    assert rows() == 1


def test_bad_spans_are_counted_and_explained_and_the_rest_kept(token: str) -> None:
    message = request({"start_time_unix_nano": 1_700_000_000 * 10**9, "end_time_unix_nano": 1_700_000_001 * 10**9}, {"trace_id": bytes(16)})
    answer = ExportTraceServiceResponse.FromString(send(token, message.SerializeToString()).content)
    assert answer.partial_success.rejected_spans == 1
    assert "trace_id" in answer.partial_success.error_message
    assert rows() == 1


BOMB = gzip.compress(b"\0" * (bodies.MAX_UNPACKED + 1024), 9)


@pytest.mark.parametrize(
    ("body", "kind", "headers", "status"),
    [
        (b"\xff\xff", PROTOBUF, {}, 400),
        (b"{", "application/json", {}, 400),
        (b"\xff\xfe", "application/json", {}, 400),
        (b"not gzip", PROTOBUF, {"Content-Encoding": "gzip"}, 400),
        (gzip.compress(b"x" * 100)[:-9], PROTOBUF, {"Content-Encoding": "gzip"}, 400),
        (zlib.compress(b"x"), PROTOBUF, {"Content-Encoding": "deflate"}, 415),
        (b"", "text/plain", {}, 415),
        (BOMB, PROTOBUF, {"Content-Encoding": "gzip"}, 413),
        (b"\0" * (bodies.MAX_BODY + 1), PROTOBUF, {}, 413),
    ],
    ids=["protobuf", "json", "not text", "not gzip", "cut gzip", "deflate", "type", "bomb", "large"],
)
def test_what_cannot_be_taken_is_answered_with_a_status_message(token: str, body: bytes, kind: str, headers: dict, status: int) -> None:
    answer = send(token, body, kind, headers=headers)
    assert answer.status_code == status
    message = Status.FromString(answer.content).message if kind == PROTOBUF else json.loads(answer.content)["message"]
    assert message
    assert rows() == 0


@pytest.mark.parametrize("secret", [None, "", "wrong", "wb_" + "x" * 40])
def test_no_token_or_an_unknown_one_is_401(secret: str | None) -> None:
    answer = send(secret, good())
    assert answer.status_code == 401
    assert "token" in Status.FromString(answer.content).message
    assert answer["WWW-Authenticate"].startswith("Bearer")


def test_a_revoked_token_is_401_and_secrets_are_not_stored(token: str) -> None:
    kept = Token.objects.get()
    assert token not in (kept.digest, kept.name)
    Token.objects.update(revoked="2026-01-01T00:00:00Z")
    assert send(token, good()).status_code == 401


def test_a_backlog_over_its_bound_is_503_with_retry_after(token: str, monkeypatch: pytest.MonkeyPatch) -> None:
    send(token, good())
    monkeypatch.setattr(segments, "BACKLOG_LIMIT", 1)
    monkeypatch.setattr(segments, "_measured", (0.0, None))
    answer = send(token, good())
    assert (answer.status_code, answer["Retry-After"]) == (503, "1")
    assert rows() == 1


def test_get_is_405(token: str) -> None:
    assert knock("/v1/traces", method="GET").status_code == 405


def test_changes_plain_and_as_cdevents(token: str) -> None:
    one = send(token, json.dumps(PLAIN | {"id": "mine"}).encode(), "application/json", "/v1/changes")
    assert (one.status_code, one.json()) == (201, {"ids": ["mine"]})
    event = send(token, json.dumps(cloud_event()).encode(), "application/cloudevents+json", "/v1/changes")
    assert event.status_code == 201
    again = send(token, json.dumps(PLAIN | {"id": "mine", "version": "other"}).encode(), "application/json", "/v1/changes")
    assert again.status_code == 201
    assert set(ChangeRecord.objects.values_list("version", flat=True)) >= {"4.8.0"}
    assert ChangeRecord.objects.count() == 2


def test_a_reason_quotes_half_of_a_character_as_what_can_be_sent(token: str) -> None:
    """Found by 100 000 mutated bodies: the reader of JSON quotes a name that no answer could hold."""
    body = json.dumps({"resourceMetrics": [{"scopeMetrics": [{"metrics": [{"histogram": {"dataPoints": [{"\ud800": 1}]}}]}]}]})
    answer = send(token, body.encode(), "application/json", "/v1/metrics")
    assert answer.status_code == 400
    assert "not an OTLP/JSON metrics request" in json.loads(answer.content)["message"]


def test_a_change_that_nothing_stored_can_hold_is_refused_and_not_counted(token: str) -> None:
    taken = Taken.objects.filter(signal="changes").count()

    def tell(change: dict) -> Answer:
        return send(token, json.dumps(change).encode(), "application/json", "/v1/changes")

    refused = tell(PLAIN | {"at": "5026-03-04T09:15:00Z"})
    assert (refused.status_code, refused.json()["field"]) == (400, "at")
    assert Taken.objects.filter(signal="changes").count() == taken
    assert tell(PLAIN).status_code == 201
    assert Taken.objects.filter(signal="changes").count() == taken + 1


def test_a_wrong_change_names_its_field_and_nothing_of_the_request_is_stored(token: str) -> None:
    answer = send(token, json.dumps([PLAIN, PLAIN | {"kind": "boom"}]).encode(), "application/json", "/v1/changes")
    assert (answer.status_code, answer.json()["field"]) == (400, "kind")
    assert not ChangeRecord.objects.exists()
    assert send(None, b"{}", "application/json", "/v1/changes").status_code == 401
    assert send(token, b"{}", "text/plain", "/v1/changes").status_code == 415


def test_one_bad_request_does_not_fail_those_that_are_stored_with_it(token: str, monkeypatch: pytest.MonkeyPatch) -> None:
    many = request({"attributes": {f"k{n}": "v" for n in range(MOST_INSIDE + 1)}}).SerializeToString()
    defect = good()
    decode = otlp.DECODERS["traces"]

    def decoding(bodies: list[bytes], now_ns: int) -> otlp.Decoded:
        if defect in bodies:
            raise ZeroDivisionError
        return decode(bodies, now_ns)

    monkeypatch.setitem(otlp.DECODERS, "traces", decoding)
    sent = [good(), many, b"\xff" * 9, defect, good()]
    deliveries = [commit.Delivery(otlp.TRACES, body, segments.digest_of(body), len(body), None) for body in sent]
    commit.store_together(deliveries)
    assert [type(one.error).__name__ for one in deliveries] == ["NoneType", "TooMuchTelemetry", "MalformedTelemetry", "ZeroDivisionError", "NoneType"]
    assert [one.stored for one in deliveries] == [1, 0, 0, 0, 1]
    assert all(one.done for one in deliveries)
    assert (rows(), Segment.objects.count()) == (2, 1)


def test_a_request_that_the_database_cannot_hold_fails_by_itself(token: str, monkeypatch: pytest.MonkeyPatch) -> None:
    sent = [good(), good(), good()]
    bad, append = segments.digest_of(sent[1]), segments.receive

    def receive(digests: list[bytes]) -> set[bytes]:
        if bad in digests:
            raise DataError("a number out of range")
        return append(digests)

    monkeypatch.setattr(segments, "receive", receive)
    deliveries = [commit.Delivery(otlp.TRACES, body, segments.digest_of(body), len(body), None) for body in sent]
    commit.store_together(deliveries)
    assert [one.stored for one in deliveries] == [1, 0, 1]
    assert isinstance(deliveries[1].error, DataError)
    assert rows() == 2


def test_objects_in_each_other_cost_one_answer(token: str) -> None:
    """An archive of 211 bytes ended the process."""
    body = gzip.compress(b'{"a":' * 20_000 + b"1" + b"}" * 20_000)
    answer = send(token, body, "application/json", headers={"Content-Encoding": "gzip"})
    assert (answer.status_code, "deep" in answer.json()["message"]) == (413, True)
