"""Metrics and logs at their doors; requests that come together; quotas, rules, and what is said of refusals."""

from __future__ import annotations

import gzip
import json
import threading
from datetime import timedelta
from typing import Any

import pytest
from django.db import OperationalError, connection
from django.utils import timezone
from opentelemetry.proto.collector.logs.v1.logs_service_pb2 import ExportLogsServiceResponse
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceResponse

from tests.core import test_otlp_logs as log_requests
from tests.core import test_otlp_metrics as metric_requests
from tests.intake.test_doors import good, send
from wirbel.core.signals import otlp
from wirbel.intake import commit, quota, rules, tasks, views
from wirbel.intake.commit import Delivery, Line
from wirbel.intake.models import DropRule, Minute, Taken, Token
from wirbel.store import reading, segments
from wirbel.store.models import Receipt, Segment

pytestmark = pytest.mark.django_db
EVER = (0, 2**62)


@pytest.fixture
def token() -> str:
    return Token.make("test")


def log_body(*records: dict, **more: object) -> bytes:
    return log_requests.request(*(records or ({"body": "hello"},)), **more)  # type: ignore[arg-type]


def test_logs_and_metrics_are_durable_before_the_answer(token: str) -> None:
    answer = send(token, log_body({"body": "a"}, {"body": "b"}), path="/v1/logs")
    assert answer.status_code == 200
    assert ExportLogsServiceResponse.FromString(answer.content) == ExportLogsServiceResponse()
    assert reading.logs(*EVER)["body"].to_pylist() == ["a", "b"]
    answer = send(token, metric_requests.request(metric_requests.metric("gauge", as_int=4)), path="/v1/metrics")
    assert ExportMetricsServiceResponse.FromString(answer.content) == ExportMetricsServiceResponse()
    assert reading.points(*EVER)["value"].to_pylist() == [4.0]


def test_json_and_gzip_for_every_signal(token: str) -> None:
    answer = send(token, json.dumps(metric_requests.EXAMPLE).encode(), "application/json", path="/v1/metrics")
    assert (answer.status_code, answer.json()) == (200, {})
    assert send(token, gzip.compress(log_body()), path="/v1/logs", headers={"Content-Encoding": "gzip"}).status_code == 200
    assert reading.points(*EVER).num_rows == 3


def test_what_is_refused_is_counted_in_the_signals_own_field(token: str) -> None:
    answer = send(token, log_body({"body": "a"}, {"time_unix_nano": 5}), path="/v1/logs")
    partial = ExportLogsServiceResponse.FromString(answer.content).partial_success
    assert (partial.rejected_log_records, partial.error_message) == (1, "1 refused: time_unix_nano must be nanoseconds since 1970")
    answer = send(token, metric_requests.request(metric_requests.metric("gauge")), path="/v1/metrics")
    assert ExportMetricsServiceResponse.FromString(answer.content).partial_success.rejected_data_points == 1


def test_the_same_bytes_at_two_doors_are_two_requests(token: str) -> None:
    empty = b"\x0a\x00"  # one resource, nothing in it
    assert [send(token, empty, path=path).status_code for path in ("/v1/logs", "/v1/metrics")] == [200, 200]
    assert Receipt.objects.count() == 2


@pytest.mark.parametrize("path", ["/v1/logs", "/v1/metrics"])
def test_every_door_refuses_what_is_malformed(token: str, path: str) -> None:
    assert send(token, b"\xff\xff\xff\xff", path=path).status_code == 400
    assert send(token, b"{", "application/json", path=path).status_code == 400
    assert send(token, b"", "text/plain", path=path).status_code == 415
    assert send(None, b"", path=path).status_code == 401


def delivery(body: bytes, signal: otlp.Signal = otlp.LOGS) -> Delivery:
    return Delivery(signal, body, segments.digest_of(body), len(body), None)


def test_requests_stored_together_keep_their_own_outcomes() -> None:
    same = log_body({"body": "twice"})
    together = [
        delivery(log_body({"body": "one"}, {"body": "bad", "time_unix_nano": 7})),
        delivery(b"\xff\xff\xff"),
        delivery(same),
        delivery(same),
        delivery(log_body({"body": "x"}, {"body": "y"})),
    ]
    commit.store_together(together)
    assert [d.stored for d in together] == [1, 0, 1, 0, 2]
    assert [d.repeated for d in together] == [False, False, False, True, False]
    assert [sum(d.refused.values()) for d in together] == [1, 0, 0, 0, 0]
    assert [type(d.error).__name__ for d in together] == ["NoneType", "MalformedTelemetry", "NoneType", "NoneType", "NoneType"]
    assert sorted(reading.logs(*EVER)["body"].to_pylist()) == ["one", "twice", "x", "y"]
    assert Segment.objects.count() == 1


@pytest.mark.django_db(transaction=True)
def test_a_connection_that_broke_is_replaced_and_the_request_stored_once(monkeypatch: pytest.MonkeyPatch) -> None:
    append, failed = segments.append, []

    def broken_once(*given: Any) -> None:
        if not failed:
            failed.append(True)
            raise OperationalError("server closed the connection")
        append(*given)

    monkeypatch.setattr(segments, "append", broken_once)
    together = [delivery(log_body({"body": "a"})), delivery(log_body({"body": "b"}))]
    commit.store_together(together)
    assert [(d.error, d.stored) for d in together] == [(None, 1), (None, 1)]
    assert sorted(reading.logs(*EVER)["body"].to_pylist()) == ["a", "b"]


def test_when_the_database_fails_every_sender_is_told_and_may_send_again(monkeypatch: pytest.MonkeyPatch) -> None:
    def gone(*_: object) -> None:
        raise OperationalError("server closed the connection")

    together = [delivery(log_body({"body": "a"})), delivery(log_body({"body": "b"}))]
    monkeypatch.setattr(segments, "append", gone)
    commit.store_together(together)
    assert all(isinstance(d.error, OperationalError) for d in together)
    monkeypatch.undo()
    again = [delivery(d.body) for d in together]
    commit.store_together(again)
    assert [d.stored for d in again] == [1, 1]


@pytest.mark.django_db(transaction=True)
def test_many_senders_at_once_lose_and_double_nothing() -> None:
    line, outcomes = Line(), []

    def sender(number: int) -> None:
        one = delivery(log_body({"body": f"from {number % 20}"}))  # each body is sent twice
        line.deliver(one)
        outcomes.append(one.stored)
        connection.close()

    threads = [threading.Thread(target=sender, args=(n,)) for n in range(40)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sum(outcomes) == 20
    assert sorted(reading.logs(*EVER)["body"].to_pylist()) == sorted(f"from {n}" for n in range(20))
    assert Segment.objects.count() <= 20


def test_a_database_that_is_away_is_503_with_retry_after(token: str, monkeypatch: pytest.MonkeyPatch) -> None:
    def gone(*_: object) -> None:
        raise OperationalError("no space left on device")

    monkeypatch.setattr(views, "deliver", gone)
    answer = send(token, good())
    assert (answer.status_code, answer["Retry-After"]) == (503, "1")


def test_a_quota_is_kept_and_said() -> None:
    secret = Token.make("small", quota=3)
    bodies = [log_body({"body": f"{n}"}, {"body": f"{n}b"}) for n in range(3)]
    answers = [send(secret, body, path="/v1/logs") for body in bodies]
    assert [answer.status_code for answer in answers] == [200, 200, 429]
    assert int(answers[2]["Retry-After"]) > 0
    assert b"3 records a minute" in answers[2].content
    assert reading.logs(*EVER).num_rows == 4
    quota._measured.clear()
    Taken.objects.update(at=timezone.now() - timedelta(seconds=61))
    assert send(secret, bodies[2], path="/v1/logs").status_code == 200


def test_a_rule_leaves_out_what_it_names_and_shows_it(token: str) -> None:
    rule = DropRule.objects.create(signal="logs", attribute="logger.kind", value="health*")
    body = log_body({"body": "a", "attributes": {"logger.kind": "health check"}}, {"body": "b", "attributes": {"logger.kind": "orders"}}, {"body": "c"})
    answer = send(token, body, path="/v1/logs")
    assert ExportLogsServiceResponse.FromString(answer.content) == ExportLogsServiceResponse()
    assert reading.logs(*EVER)["body"].to_pylist() == ["b", "c"]
    rule.refresh_from_db()
    assert (rule.dropped, rule.example["body"]) == (1, "a")
    assert rule.last_dropped is not None
    assert Taken.objects.get(token__isnull=False).dropped == 1


@pytest.mark.parametrize(
    ("attribute", "value", "hit"),
    [
        ("service.name", "shop", 3),
        ("host.name", "isl*", 3),
        ("order", "2", 1),
        ("vip", "true", 1),
        ("body", "*%_*", 1),
        ("body", "a", 1),
        ("nothing", "*", 0),
        ("order", "*", 2),
    ],
)
def test_what_a_rule_matches(attribute: str, value: str, hit: int) -> None:
    records = [{"body": "a", "attributes": {"order": 2, "vip": True}}, {"body": "b%_c", "attributes": {"order": "22"}}, {"body": "z"}]
    table = log_requests.decode(*records, resource={"service.name": "shop", "host.name": "islet"}).table
    assert int(rules.matches(table, attribute, value).sum()) == hit


def test_rules_match_labels_of_samples(token: str) -> None:
    DropRule.objects.create(signal="metrics", attribute="state", value="idle")
    DropRule.objects.create(signal="metrics", attribute="metric", value="system.*")
    rules.forget()
    made = [
        metric_requests.metric("gauge", "cpu", as_int=1, attributes={"state": "idle"}),
        metric_requests.metric("gauge", "cpu", as_int=2, attributes={"state": "busy"}),
        metric_requests.metric("gauge", "system.load", as_int=3),
    ]
    assert send(token, metric_requests.request(*made), path="/v1/metrics").status_code == 200
    assert reading.points(*EVER)["value"].to_pylist() == [2.0]


def test_what_came_is_added_up_by_minute(token: str) -> None:
    for n in range(3):
        send(token, log_body({"body": f"{n}"}, {"time_unix_nano": 7}), path="/v1/logs")
    send("unknown", log_body(), path="/v1/logs")
    at = timezone.now().replace(second=5) - timedelta(minutes=10)
    Taken.objects.update(at=at)
    tasks.add_up(0)
    tasks.add_up(0)
    assert Taken.objects.count() == 0
    known = Minute.objects.get(token__isnull=False)
    assert (known.requests, known.rows, known.refused) == (3, 3, {"time_unix_nano must be nanoseconds since 1970": 3})
    assert known.at == at.replace(second=0, microsecond=0)
    [stranger] = Minute.objects.filter(token=None)
    assert stranger.refused == {"401: this ingest token is unknown or was revoked": 1}


def test_strangers_cannot_fill_the_database() -> None:
    for _ in range(50):
        assert send("unknown", b"", path="/v1/logs").status_code == 401
    assert Taken.objects.count() <= 2
