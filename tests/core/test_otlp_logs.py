from __future__ import annotations

import json
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from opentelemetry.proto.collector.logs.v1.logs_service_pb2 import ExportLogsServiceRequest

from tests.builders import NOW, any_value
from wirbel.core import arrow
from wirbel.core.errors import MalformedTelemetry
from wirbel.core.signals import logs, otlp
from wirbel.core.signals.attributes import any_value as nested_value
from wirbel.core.signals.attributes import plain_value

TRACE, SPAN = bytes(range(1, 17)), bytes(range(1, 9))


def request(*records: dict[str, Any], resource: dict[str, Any] | None = None) -> bytes:
    """A log request; each record from keyword-like dicts with ``body`` and ``attributes`` as plain values."""
    made = ExportLogsServiceRequest()
    holder = made.resource_logs.add()
    for key, value in (resource or {"service.name": "shop"}).items():
        holder.resource.attributes.add(key=key, value=any_value(value))
    scope = holder.scope_logs.add()
    scope.scope.name = "shop.orders"
    for given_record in records:
        record = {"time_unix_nano": NOW, **given_record}
        body, attributes = record.pop("body", None), record.pop("attributes", {})
        one = scope.log_records.add(**record)
        if body is not None:
            one.body.CopyFrom(nested_value(body))
        for key, value in attributes.items():
            one.attributes.add(key=key, value=nested_value(value))
    return made.SerializeToString()


def decode(*records: dict[str, Any], **more: Any) -> otlp.Decoded:
    return otlp.logs.decode([request(*records, **more)], NOW)


def plain_loop(body: bytes) -> list[dict[str, Any]]:
    """The slow, obvious way, for what the fast decoder is held against."""
    found = []
    for resource in ExportLogsServiceRequest.FromString(body).resource_logs:
        for scope in resource.scope_logs:
            for record in scope.log_records:
                value = plain_value(record.body)
                text = json.dumps(value, ensure_ascii=False) if isinstance(value, list | dict) else value
                found.append(
                    {
                        "time": record.time_unix_nano,
                        "severity": record.severity_number,
                        "body": text,
                        "structured": isinstance(value, list | dict),
                        "trace_id": record.trace_id or None,
                        "scope": scope.scope.name,
                        "attributes": {pair.key: plain_value(pair.value) for pair in record.attributes},
                    }
                )
    return found


TEXT = st.text(st.characters(exclude_categories=["Cs"]), max_size=12)
VALUES = st.one_of(TEXT, st.integers(-9, 9), st.booleans(), st.lists(TEXT, max_size=2))
BODIES = st.one_of(
    st.none(), TEXT, st.lists(st.one_of(TEXT, st.integers(0, 9)), max_size=3), st.dictionaries(TEXT, st.one_of(TEXT, st.integers(0, 9)), max_size=3)
)


@settings(max_examples=120, deadline=None)
@given(
    st.lists(
        st.tuples(BODIES, st.integers(0, 24), st.dictionaries(st.sampled_from(["k", "code.line.number", "ü"]), VALUES, max_size=3), st.booleans()),
        min_size=1,
        max_size=6,
    )
)
def test_the_fast_decoder_agrees_with_a_plain_loop(rows: list[tuple[Any, int, dict[str, Any], bool]]) -> None:
    body = request(
        *[
            {"body": text, "severity_number": severity, "attributes": attributes, "trace_id": TRACE if linked else b""}
            for text, severity, attributes, linked in rows
        ]
    )
    decoded = otlp.logs.decode([body], NOW)
    assert decoded.refused == [{}]
    for row, (record, want) in enumerate(zip(decoded.table.to_pylist(), plain_loop(body), strict=True)):
        attributes = arrow.attributes_of(decoded.table, row)["log"]
        assert {name: record[name] for name in want if name != "attributes"} | {"attributes": attributes} == want


def test_a_record_with_a_trace_an_exception_and_a_resource() -> None:
    exception = {"exception.type": "ValueError", "exception.message": "no berth", "exception.stacktrace": "Traceback …"}
    decoded = decode(
        {"body": "failed", "severity_number": 17, "trace_id": TRACE, "span_id": SPAN, "attributes": exception}, resource={"service.name": "a", "host.name": "h"}
    )
    [row] = decoded.table.to_pylist()
    assert (row["trace_id"], row["span_id"], row["service"], row["host"], row["environment"], row["weight"]) == (TRACE, SPAN, "a", "h", "default", 1.0)
    assert arrow.attributes_of(decoded.table, 0)["log"] == exception


def test_times_come_from_observation_or_from_arrival() -> None:
    table = decode({"time_unix_nano": 0, "observed_time_unix_nano": NOW - 7}, {"time_unix_nano": 0}).table
    assert table["time"].to_pylist() == [NOW - 7, NOW]


@pytest.mark.parametrize(("number", "text", "expected"), [(17, "", 17), (0, "warning", 13), (0, "odd", 0), (99, "ERROR", 17), (0, "", 0)])
def test_severity_by_number_else_by_name(number: int, text: str, expected: int) -> None:
    [row] = decode({"severity_number": number, "severity_text": text}).table.to_pylist()
    assert row["severity"] == expected


def test_numbers_truth_and_bytes_as_bodies() -> None:
    assert decode({"body": 7}, {"body": True}, {"body": b"\x00\x01"}).table["body"].to_pylist() == ["7", "true", "AAE="]


def test_a_body_of_many_characters_is_cut_and_says_so() -> None:
    size = otlp.logs.LONGEST_BODY
    kept, cut = decode({"body": "x" * size}, {"body": "y" * (size + 5)}).table["body"].to_pylist()
    assert kept == "x" * size
    assert cut == "y" * size + f" … cut from {size + 5} characters"


def test_thousands_of_attributes_go_to_one_overflow_column() -> None:
    wide = {f"key.{n}": n for n in range(5_000)}
    decoded = decode({"attributes": wide})
    assert decoded.table.num_columns < arrow.MAX_ATTRIBUTE_COLUMNS + len(logs.LOG_SCHEMA) + 1
    assert arrow.attributes_of(decoded.table, 0)["log"] == wide


@pytest.mark.parametrize(
    ("bad", "reason"),
    [({"time_unix_nano": 5}, "nanoseconds since 1970"), ({"time_unix_nano": NOW + 3600 * 10**9}, "future"), ({"time_unix_nano": 2**64 - 1}, "future")],
)
def test_a_bad_record_is_refused_and_the_others_are_kept(bad: dict[str, Any], reason: str) -> None:
    decoded = decode({"body": "a"}, bad, {"body": "b"})
    assert decoded.table["body"].to_pylist() == ["a", "b"]
    assert reason in decoded.message()


def test_ids_of_a_wrong_length_are_no_link_and_lose_no_record() -> None:
    [row] = decode({"body": "a", "trace_id": b"short", "span_id": bytes(8)}).table.to_pylist()
    assert (row["body"], row["trace_id"], row["span_id"]) == ("a", None, None)


def test_invalid_utf_8_is_malformed() -> None:
    """Protocol Buffers forbid it in text; the sender is told, and nothing of the request is kept."""
    with pytest.raises(MalformedTelemetry):
        otlp.logs.decode([request({"body": "zzzz"}).replace(b"zzzz", b"\xff\xfe\xfd\xfc")], NOW)


def test_encoding_and_decoding_again_keeps_everything() -> None:
    first = decode(
        {
            "body": "plain",
            "severity_number": 9,
            "severity_text": "INFO",
            "trace_id": TRACE,
            "span_id": SPAN,
            "event_name": "e",
            "attributes": {"n": 1, "l": ["a"]},
        },
        {"body": {"a": [1, "x"], "b": {"c": 2}}, "observed_time_unix_nano": NOW - 3},
        resource={"service.name": "a", "service.version": "2", "zone": "north"},
    ).table
    assert otlp.logs.decode([otlp.logs.encode(first)], NOW).table.equals(first)


def test_combining_orders_by_time() -> None:
    late, early = decode({"body": "late"}).table, decode({"body": "early", "time_unix_nano": NOW - 9, "attributes": {"only": 1}}).table
    assert logs.combine([late, early])["body"].to_pylist() == ["early", "late"]


def test_hexadecimal_ids_in_json() -> None:
    record = {"timeUnixNano": str(NOW), "body": {"stringValue": "x"}, "traceId": TRACE.hex(), "spanId": SPAN.hex().upper()}
    body = json.dumps({"resourceLogs": [{"scopeLogs": [{"logRecords": [record]}]}]}).encode()
    [row] = otlp.logs.decode([otlp.json_to_protobuf(otlp.LOGS, body)], NOW).table.to_pylist()
    assert (row["trace_id"], row["span_id"], row["body"]) == (TRACE, SPAN, "x")
    with pytest.raises(MalformedTelemetry):
        otlp.json_to_protobuf(otlp.LOGS, body.replace(TRACE.hex().encode(), b"not hexadecimal!"))
