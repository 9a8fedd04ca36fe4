from __future__ import annotations

import json

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import ExportTraceServiceRequest

from tests.builders import MS, NOW, request
from wirbel.core import arrow
from wirbel.core.errors import MalformedTelemetry
from wirbel.core.signals import otlp, spans
from wirbel.core.signals.attributes import plain_value


def decode(message: ExportTraceServiceRequest) -> otlp.Decoded:
    return otlp.traces.decode([message.SerializeToString()], NOW)


def plain_loop(body: bytes) -> list[dict]:
    """The slow, obvious way: a loop over protobuf objects. What the fast decoder is held against."""
    message = ExportTraceServiceRequest.FromString(body)
    found = []
    for resource in message.resource_spans:
        shared = {pair.key: plain_value(pair.value) for pair in resource.resource.attributes}
        for scope in resource.scope_spans:
            for span in scope.spans:
                own = {pair.key: plain_value(pair.value) for pair in span.attributes if pair.value.WhichOneof("value")}
                found.append(
                    {
                        "trace_id": span.trace_id,
                        "span_id": span.span_id,
                        "parent_id": span.parent_span_id or None,
                        "name": span.name or "unnamed",
                        "kind": span.kind,
                        "start": span.start_time_unix_nano,
                        "duration": span.end_time_unix_nano - span.start_time_unix_nano,
                        "scope": scope.scope.name or None,
                        "own": own,
                        "shared": shared,
                        "events": [event.name for event in span.events],
                    }
                )
    return found


TEXT = st.text(st.characters(exclude_categories=["Cs"]), max_size=12)
SIMPLE = st.one_of(TEXT, st.integers(-(2**63), 2**63 - 1), st.floats(allow_nan=False, allow_infinity=False), st.booleans())
KEYS = st.sampled_from(["k", "other", "http.route", "n", "q.r", "", "ünicode"])


@settings(max_examples=150, deadline=None)
@given(
    st.lists(
        st.tuples(TEXT, st.integers(0, 5), st.integers(0, 10**9), st.dictionaries(KEYS, SIMPLE, max_size=5), st.lists(TEXT, max_size=2)), min_size=1, max_size=6
    ),
    TEXT,
)
def test_the_fast_decoder_agrees_with_a_plain_loop(rows: list, scope: str) -> None:
    given_spans = [
        {"name": name, "kind": kind, "start_time_unix_nano": NOW - length, "end_time_unix_nano": NOW, "attributes": attributes}
        for name, kind, length, attributes, _ in rows
    ]
    message = request(*given_spans, resource={"service.name": "shop", "zone": "z"})
    message.resource_spans[0].scope_spans[0].scope.name = scope
    for span, (*_, events) in zip(message.resource_spans[0].scope_spans[0].spans, rows, strict=True):
        for name in events:
            span.events.add(name=name, time_unix_nano=NOW)
    expected = plain_loop(message.SerializeToString())
    decoded = decode(message)
    assert decoded.refused == [{}]
    records = decoded.table.select(["trace_id", "span_id", "parent_id", "name", "kind", "start", "duration", "scope", "events"]).to_pylist()
    for row, (record, want) in enumerate(zip(records, expected, strict=True)):
        assert {k: record[k] for k in record if k != "events"} == {k: want[k] for k in record if k != "events"}
        assert [event["name"] for event in record["events"] or []] == want["events"]
        attributes = arrow.attributes_of(decoded.table, row)
        own, shared = attributes["span"], attributes["resource"]
        assert own == want["own"]
        assert {k: type(v) for k, v in own.items()} == {k: type(v) for k, v in want["own"].items()}
        assert shared == want["shared"]


# The example of the OTLP specification's repository (opentelemetry-proto, examples/trace.json), from memory.
EXAMPLE = {
    "resourceSpans": [
        {
            "resource": {"attributes": [{"key": "service.name", "value": {"stringValue": "my.service"}}]},
            "scopeSpans": [
                {
                    "scope": {
                        "name": "my.library",
                        "version": "1.0.0",
                        "attributes": [{"key": "my.scope.attribute", "value": {"stringValue": "some scope attribute"}}],
                    },
                    "spans": [
                        {
                            "traceId": "5B8EFFF798038103D269B633813FC60C",
                            "spanId": "EEE19B7EC3C1B174",
                            "parentSpanId": "EEE19B7EC3C1B173",
                            "name": "I'm a server span",
                            "startTimeUnixNano": "1544712660000000000",
                            "endTimeUnixNano": "1544712661000000000",
                            "kind": 2,
                            "attributes": [{"key": "my.span.attr", "value": {"stringValue": "some value"}}],
                        }
                    ],
                }
            ],
        }
    ]
}


def test_the_example_of_the_otlp_json_mapping() -> None:
    decoded = otlp.traces.decode([otlp.json_to_protobuf(otlp.TRACES, json.dumps(EXAMPLE).encode())], NOW)
    [row] = decoded.table.to_pylist()
    assert row["trace_id"].hex() == "5b8efff798038103d269b633813fc60c"
    assert row["parent_id"].hex() == "eee19b7ec3c1b173"
    assert (row["service"], row["name"], row["kind"], row["duration"]) == ("my.service", "I'm a server span", spans.SERVER, 10**9)
    assert row["span.s:my.span.attr"] == "some value"


def test_encoding_and_decoding_again_keeps_everything() -> None:
    message = request(
        {"attributes": {"a": 1, "b": "x", "c": True, "d": 1.5, "e": b"\x00\xff"}, "trace_state": "ot=th:8"}, {"kind": 3, "parent_span_id": b"12345678"}
    )
    message.resource_spans[0].scope_spans[0].spans[0].status.code = 2
    value = message.resource_spans[0].scope_spans[0].spans[0].attributes.add(key="list").value.array_value.values
    value.add(string_value="x")
    value.add(int_value=3)
    first = decode(message).table
    again = otlp.traces.decode([otlp.traces.encode(first)], NOW).table
    assert again.equals(first)
    assert arrow.attributes_of(first, 0)["span"]["list"] == ["x", 3]


@pytest.mark.parametrize(
    ("change", "reason"),
    [
        ({"trace_id": bytes(16)}, "trace_id"),
        ({"trace_id": b"short"}, "trace_id"),
        ({"span_id": bytes(8)}, "span_id"),
        ({"parent_span_id": b"123"}, "parent_span_id"),
        ({"end_time_unix_nano": NOW - 6 * MS}, "ends before it starts"),
        ({"end_time_unix_nano": NOW + 3600 * 10**9}, "future"),
        ({"start_time_unix_nano": 1_772_000_000}, "nanoseconds"),
        ({"end_time_unix_nano": 2**64 - 1}, "future"),
    ],
)
def test_a_bad_span_is_refused_and_the_others_are_kept(change: dict, reason: str) -> None:
    decoded = decode(request({}, change, {}))
    assert decoded.table.num_rows == 2
    assert decoded.refused_count() == 1
    assert reason in decoded.message()


@pytest.mark.parametrize("body", [b"\xff\xff\xff", b"\x0a\x05abc", request({}).SerializeToString()[:-3]])
def test_a_body_that_is_not_protobuf_is_malformed(body: bytes) -> None:
    with pytest.raises(MalformedTelemetry):
        otlp.traces.decode([body], NOW)


@pytest.mark.parametrize(
    "body",
    [
        b"",
        b"[]",
        b"{",
        b'{"resourceSpans": 3}',
        b'{"resourceSpans": [{"scopeSpans": [{"spans": [{"traceId": "xyz"}]}]}]}',
        b"[" * 100_000,
        b'{"resourceSpans": [7]}',
    ],
)
def test_wrong_json_is_malformed(body: bytes) -> None:
    with pytest.raises(MalformedTelemetry):
        otlp.json_to_protobuf(otlp.TRACES, body)


@pytest.mark.parametrize(
    ("state", "weight"),
    [("ot=th:0", 1), ("ot=th:8", 2), ("ot=th:c", 4), ("ot=th:fd70a4", 100.0), ("vendor=1,ot=rv:1;th:e", 8), ("", 1), ("ot=th:xyz", 1), ("th:8", 1)],
)
def test_the_sampling_threshold_gives_the_weight(state: str, weight: float) -> None:
    """OpenTelemetry specification, "TraceState: Probability Sampling": th is the share that is not kept, in 56 bits."""
    assert otlp.traces.adjusted_count(state) == pytest.approx(weight, rel=1e-5)


def test_older_names_are_read_as_current_ones_and_the_current_one_wins() -> None:
    decoded = decode(request({"attributes": {"http.method": "GET", "http.status_code": 503}}, {"attributes": {"db.statement": "old", "db.query.text": "new"}}))
    first, second = (arrow.attributes_of(decoded.table, row)["span"] for row in (0, 1))
    assert first == {"http.request.method": "GET", "http.response.status_code": 503}
    assert second == {"db.query.text": "new"}
    assert decoded.table["outcome"].to_pylist() == [spans.ERROR, spans.OK]


def test_one_key_with_several_types_keeps_each_type() -> None:
    decoded = decode(request({"attributes": {"k": 1}}, {"attributes": {"k": "1"}}, {"attributes": {"k": True}}))
    assert [arrow.attributes_of(decoded.table, row)["span"]["k"] for row in range(3)] == [1, "1", True]


def test_thousands_of_attribute_names_go_to_one_overflow_column() -> None:
    wide = {f"key.{n}": n for n in range(5000)}
    decoded = decode(request({"attributes": wide | {"common": "x"}}, {"attributes": {"common": "y"}}))
    assert len(decoded.table.column_names) < 400
    assert arrow.attributes_of(decoded.table, 0)["span"] == wide | {"common": "x"}


def test_no_service_name_and_an_empty_request() -> None:
    assert decode(request({}, resource={"host.name": "h"})).table["service"].to_pylist() == ["unknown_service"]
    assert decode(ExportTraceServiceRequest()).table.num_rows == 0


def attributes(**given: object) -> dict:
    return {"attributes": {key.replace("__", "."): value for key, value in given.items()}}


@pytest.mark.parametrize(
    ("span", "operation", "peer", "kind"),
    [
        # What stock instrumentation sends, as seen on a wire (common practice, no source).
        (
            {"name": "GET", "kind": 3, **attributes(http__method="GET", http__url="http://berth-planner:8080/places/4711?x=1")},
            "GET /places/{id}",
            "berth-planner:8080",
            "external",
        ),
        (
            {"name": "GET", "kind": 3, **attributes(http__request__method="GET", server__address="rates.example", server__port=8443)},
            "GET",
            "rates.example:8443",
            "external",
        ),
        (
            {"name": "GET", "kind": 3, **attributes(http__request__method="GET", server__address="rates.example", server__port=443)},
            "GET",
            "rates.example",
            "external",
        ),
        (
            {"name": "GET", "kind": 3, **attributes(http__request__method="GET", url__full="http://u:p@a.example/a/3f2504e0-4f89-11d3-9a0c-0305e82c3301/b")},
            "GET /a/{id}/b",
            "a.example",
            "external",
        ),
        (
            {
                "name": "SELECT",
                "kind": 3,
                **attributes(db__system="postgresql", db__name="berths", net__peer__name="berth-db", db__statement="SELECT x FROM deck_place WHERE id = 7"),
            },
            "SELECT deck_place",
            "berths at berth-db",
            "database",
        ),
        ({"name": "GET", "kind": 3, **attributes(db__system__name="redis", server__address="cache:6379", db__query__text="GET ?")}, "GET", "cache", "cache"),
        (
            {"name": "POST /x", "kind": 2, **attributes(http__request__method="POST", http__route="/reservations", server__address="quay-web:80")},
            "POST /reservations",
            None,
            None,
        ),
        ({"name": "GET", "kind": 2, **attributes(http__method="GET", http__target="/pass/123456?x=2")}, "GET /pass/{id}", None, None),
        (
            {"name": "send notices", "kind": 4, **attributes(messaging__system="kafka", messaging__destination__name="notices")},
            "send notices",
            "kafka",
            "broker",
        ),
        (
            {"name": "GET", "kind": 3, **attributes(http__request__method="GET", url__full="https://t.example/v1/7/8/pass-1234/x9")},
            "GET /v1/{id}/{id}/{id}/x9",
            "t.example",
            "external",
        ),
        ({"name": "resize 42", "kind": 1}, "resize 42", None, None),
    ],
)
def test_operation_and_peer(span: dict, operation: str, peer: str | None, kind: str | None) -> None:
    [row] = decode(request(span)).table.select(["operation", "peer", "peer_kind"]).to_pylist()
    assert (row["operation"], row["peer"], row["peer_kind"]) == (operation, peer, kind)


@pytest.mark.parametrize(
    ("kind", "code", "status", "outcome"),
    [
        (2, 200, 0, "ok"),
        (2, 404, 0, "client error"),
        (2, 404, 2, "error"),
        (2, 500, 0, "error"),
        (3, 404, 2, "error"),
        (3, 429, 2, "error"),
        (3, 404, 0, "client error"),
        (3, 503, 2, "error"),
        (1, 0, 2, "error"),
        (2, 200, 1, "ok"),
    ],
)
def test_a_client_error_is_an_error_of_who_says_so(kind: int, code: int, status: int, outcome: str) -> None:
    message = request({"kind": kind, **(attributes(http__response__status_code=code) if code else {})})
    message.resource_spans[0].scope_spans[0].spans[0].status.code = status
    assert spans.OUTCOME_NAMES[decode(message).table["outcome"][0].as_py()] == outcome


def test_ids_as_words_survive_slices_and_nulls() -> None:
    column = pa.array([b"\x01" * 8, None, b"\x02" * 8], pa.binary(8)).slice(1)
    assert arrow.ids(column, 8)[:, 0].tolist() == [0, int.from_bytes(b"\x02" * 8, "little")]
    assert np.array_equal(arrow.ids(pa.chunked_array([column, column]), 8)[:, 0], np.tile(arrow.ids(column, 8)[:, 0], 2))
