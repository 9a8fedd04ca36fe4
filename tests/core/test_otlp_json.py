"""The fast reader of OTLP/JSON says what Google's reader says, on what anybody may send."""

from __future__ import annotations

import base64
import json
from typing import Any

import pytest
from google.protobuf import json_format
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.builders import NOW
from wirbel.core.errors import MalformedTelemetry
from wirbel.core.signals import otlp
from wirbel.core.signals.otlp import json_columns, wire

# opentelemetry-proto, examples/*.json (v1.3, from memory).
TRACE = {
    "resourceSpans": [{"resource": {"attributes": [{"key": "service.name", "value": {"stringValue": "my.service"}}]}, "scopeSpans": [{"scope": {"name": "my.library", "version": "1.0.0", "attributes": [{"key": "my.scope.attribute", "value": {"stringValue": "some scope attribute"}}]}, "spans": [{"traceId": "5B8EFFF798038103D269B633813FC60C", "spanId": "EEE19B7EC3C1B174", "parentSpanId": "EEE19B7EC3C1B173", "name": "I'm a server span", "startTimeUnixNano": "1544712660000000000", "endTimeUnixNano": "1544712661000000000", "kind": 2, "attributes": [{"key": "my.span.attr", "value": {"stringValue": "some value"}}]}]}]}]
}  # fmt: skip
LOGS = {
    "resourceLogs": [{"resource": {"attributes": [{"key": "service.name", "value": {"stringValue": "my.service"}}]}, "scopeLogs": [{"scope": {"name": "my.library"}, "logRecords": [{"timeUnixNano": "1544712660300000000", "observedTimeUnixNano": "1544712660300000000", "severityNumber": 10, "severityText": "Information", "traceId": "5B8EFFF798038103D269B633813FC60C", "spanId": "EEE19B7EC3C1B174", "body": {"stringValue": "Example log record"}, "attributes": [{"key": "string.attribute", "value": {"stringValue": "some string"}}, {"key": "boolean.attribute", "value": {"boolValue": True}}, {"key": "int.attribute", "value": {"intValue": "10"}}, {"key": "double.attribute", "value": {"doubleValue": 637.704}}, {"key": "array.attribute", "value": {"arrayValue": {"values": [{"stringValue": "many"}, {"stringValue": "values"}]}}}, {"key": "map.attribute", "value": {"kvlistValue": {"values": [{"key": "some.map.key", "value": {"stringValue": "some value"}}]}}}]}]}]}]
}  # fmt: skip
METRICS = {
    "resourceMetrics": [{"resource": {"attributes": [{"key": "service.name", "value": {"stringValue": "my.service"}}]}, "scopeMetrics": [{"scope": {"name": "my.library"}, "metrics": [{"name": "my.counter", "unit": "1", "sum": {"aggregationTemporality": 1, "isMonotonic": True, "dataPoints": [{"asDouble": 5, "startTimeUnixNano": "1544712660300000000", "timeUnixNano": "1544712660300000000"}]}}, {"name": "my.gauge", "gauge": {"dataPoints": [{"asInt": "10", "timeUnixNano": 1544712660300000000}]}}, {"name": "my.histogram", "histogram": {"aggregationTemporality": 1, "dataPoints": [{"startTimeUnixNano": "1544712660300000000", "timeUnixNano": "1544712660300000000", "count": "2", "sum": 2, "bucketCounts": ["1", 1], "explicitBounds": [1], "min": 0, "max": 2, "exemplars": [{"timeUnixNano": "1544712660300000000", "asDouble": 2.5, "traceId": "5b8efff798038103d269b633813fc60c", "spanId": "eee19b7ec3c1b174"}]}]}}, {"name": "my.exponential", "exponentialHistogram": {"aggregationTemporality": 1, "dataPoints": [{"timeUnixNano": "1544712660300000000", "count": 3, "sum": 10, "scale": 0, "zeroCount": 1, "positive": {"offset": 1, "bucketCounts": [0, 2]}}]}}, {"name": "my.summary", "summary": {"dataPoints": [{"timeUnixNano": "1544712660300000000", "count": "3", "sum": 1.5, "quantileValues": [{"quantile": 0.5, "value": 0.25}]}]}}]}]}]
}  # fmt: skip
EXAMPLES = {"traces": TRACE, "logs": LOGS, "metrics": METRICS}


def both(signal: str, body: bytes) -> tuple[Any, Any]:
    """What comes of a body by the plain way and by the fast one: rows with refusals, or that it is malformed."""

    def outcome(given: bytes) -> Any:
        try:
            decoded = otlp.DECODERS[signal]([given], NOW)
        except MalformedTelemetry:
            return "malformed"
        return decoded.table.to_pylist(), decoded.refused

    try:
        plain = outcome(otlp.json_to_protobuf(otlp.SIGNALS[signal], body))
    except MalformedTelemetry:
        plain = "malformed"
    return plain, outcome(otlp.JsonText(body))


def is_fast(signal: str, body: bytes) -> bool:
    try:
        json_columns.read(otlp.SIGNALS[signal].message.DESCRIPTOR, wire._columns_of(signal), [body])
    except json_columns.Unusual:
        return False
    return True


@pytest.mark.parametrize("signal", EXAMPLES)
@pytest.mark.parametrize("indent", [None, 2])
def test_the_protocols_examples_are_read_fast_and_right(signal: str, indent: int | None) -> None:
    body = json.dumps(EXAMPLES[signal], indent=indent).encode()
    plain, fast = both(signal, body)
    assert plain == fast
    assert plain != "malformed"
    assert plain[0]
    # The metrics example mixes numbers as text and as numbers in one column, which is left to the plain reader.
    assert is_fast(signal, body) == (signal != "metrics")


def changed(signal: str, path: str, value: Any) -> bytes:
    """An example with another value at a place such as ``resourceSpans.0.scopeSpans.0.spans.0.kind``."""
    given = json.loads(json.dumps(EXAMPLES[signal]))
    *way, last = path.split(".")
    at = given
    for step in way:
        at = at[int(step)] if step.isdigit() else at[step]
    at[last] = value
    return json.dumps(given).encode()


SPAN, RECORD = "resourceSpans.0.scopeSpans.0.spans.0.", "resourceLogs.0.scopeLogs.0.logRecords.0."


@pytest.mark.parametrize(
    ("signal", "path", "value"),
    [
        ("traces", SPAN + "startTimeUnixNano", 1544712660000000000),
        ("traces", SPAN + "startTimeUnixNano", "2018-12-13T14:51:00Z"),
        ("traces", SPAN + "startTimeUnixNano", "1e18"),
        ("traces", SPAN + "startTimeUnixNano", -5),
        ("traces", SPAN + "startTimeUnixNano", "18446744073709551615"),
        ("traces", SPAN + "startTimeUnixNano", 1.5),
        ("traces", SPAN + "kind", "SPAN_KIND_CLIENT"),
        ("traces", SPAN + "kind", 77),
        ("traces", SPAN + "kind", None),
        ("traces", SPAN + "name", "2018-12-13 14:51:00"),
        ("traces", SPAN + "name", None),
        ("traces", SPAN + "name", 5),
        ("traces", SPAN + "name", "naïve \u0000 ☃ \\ \""),
        ("traces", SPAN + "traceId", "5b8efff798038103d269b633813fc60c"),
        ("traces", SPAN + "traceId", "5B8"),
        ("traces", SPAN + "traceId", "not hexadecimal"),
        ("traces", SPAN + "traceId", ""),
        ("traces", SPAN + "parentSpanId", ""),
        ("traces", SPAN + "status", {"code": 2, "message": "gone"}),
        ("traces", SPAN + "status", {"code": "STATUS_CODE_ERROR"}),
        ("traces", SPAN + "status", {}),
        ("traces", SPAN + "status", None),
        ("traces", SPAN + "nobodyKnows", {"deep": [1, {"x": "2"}]}),
        ("traces", SPAN + "events", [{"timeUnixNano": "1544712660500000000", "name": "exception", "attributes": [{"key": "n", "value": {"intValue": 3}}]}]),
        ("traces", SPAN + "links", [{"traceId": "5b8efff798038103d269b633813fc60c", "spanId": "eee19b7ec3c1b173", "attributes": []}]),
        ("traces", SPAN + "attributes", [{"key": "a", "value": {"intValue": 7}}, {"key": "b", "value": {"intValue": "8"}}]),
        ("traces", SPAN + "attributes", [{"key": "a", "value": {"intValue": "7"}}, {"key": "b", "value": {"intValue": "-9223372036854775808"}}]),
        ("traces", SPAN + "attributes", [{"key": "a", "value": {"intValue": "9223372036854775808"}}]),
        ("traces", SPAN + "attributes", [{"key": "a", "value": {"doubleValue": "NaN"}}]),
        ("traces", SPAN + "attributes", [{"key": "a", "value": {"doubleValue": 1}}, {"key": "b", "value": {"doubleValue": 1.5}}]),
        ("traces", SPAN + "attributes", [{"key": "a", "value": {"bytesValue": base64.b64encode(b"\x00\xff").decode()}}]),
        ("traces", SPAN + "attributes", [{"key": "a", "value": {"stringValue": "x", "intValue": 1}}]),
        ("traces", SPAN + "attributes", [{"key": "a", "value": {}}, {"key": "b"}, {"key": "c", "value": None}]),
        ("traces", SPAN + "attributes", [{"key": "a", "value": {"arrayValue": {"values": [{"intValue": "1"}, {"arrayValue": {"values": [{"boolValue": True}]}}]}}}]),
        ("traces", SPAN + "attributes", [{"key": "a", "value": {"arrayValue": {}}}, {"key": "b", "value": {"kvlistValue": {"values": [{"key": "k"}]}}}]),
        ("traces", SPAN + "attributes", None),
        ("traces", SPAN + "attributes", [None]),
        ("traces", SPAN + "attributes", "no list"),
        ("traces", "resourceSpans.0.resource", None),
        ("traces", "resourceSpans.0.scopeSpans", []),
        ("traces", "resourceSpans.0.scopeSpans.0.scope", None),
        ("traces", "resourceSpans", []),
        ("traces", "resourceSpans", {}),
        ("logs", RECORD + "body", {"kvlistValue": {"values": [{"key": "a", "value": {"intValue": 1}}]}}),
        ("logs", RECORD + "body", None),
        ("logs", RECORD + "severityNumber", "SEVERITY_NUMBER_WARN"),
        ("logs", RECORD + "time_unix_nano", "1544712660300000000"),
    ],
)  # fmt: skip
def test_what_anybody_may_send_is_read_as_googles_reader_reads_it(signal: str, path: str, value: Any) -> None:
    plain, fast = both(signal, changed(signal, path, value))
    assert repr(fast) == repr(plain)  # not-a-number is not equal to itself


@pytest.mark.parametrize(
    "body",
    [
        b"",
        b"[]",
        b"5",
        b'"x"',
        b"{",
        b"{}",
        b"{} {}",
        b'{"resourceSpans": [}',
        b"\xff\xfe",
        b'{"resourceSpans": [{"resource": {"attributes": [{"key": "\xff"}]}}]}',
        b'{"a": NaN}',
        b"[" * 5000,
    ],
)
def test_what_is_no_request_is_malformed_in_both(body: bytes) -> None:
    plain, fast = both("traces", body)
    assert fast == plain


values = st.recursive(
    st.one_of(
        st.builds(lambda x: {"stringValue": x}, st.text(max_size=12)),
        st.builds(lambda x: {"intValue": str(x)}, st.integers(-(2**63), 2**63 - 1)),
        st.builds(lambda x: {"doubleValue": x}, st.floats(allow_nan=False, allow_infinity=False)),
        st.builds(lambda x: {"boolValue": x}, st.booleans()),
        st.builds(lambda x: {"bytesValue": base64.b64encode(x).decode()}, st.binary(max_size=6)),
        st.just({}),
    ),
    lambda inner: st.one_of(
        st.builds(lambda x: {"arrayValue": {"values": x}}, st.lists(inner, max_size=3)),
        st.builds(
            lambda x: {"kvlistValue": {"values": [{"key": k, "value": v} for k, v in x.items()]}}, st.dictionaries(st.text(max_size=4), inner, max_size=3)
        ),
    ),
    max_leaves=4,
)


@settings(max_examples=150, deadline=None)
@given(st.lists(st.lists(st.tuples(st.sampled_from(["a", "b", "http.method", "é"]), values), max_size=4), min_size=1, max_size=4), st.booleans())
def test_any_attributes_are_read_the_same(records: list[list[tuple[str, dict]]], as_logs: bool) -> None:
    signal, path = ("logs", "resourceLogs.0.scopeLogs.0.logRecords") if as_logs else ("traces", "resourceSpans.0.scopeSpans.0.spans")
    base = json.loads(changed(signal, path + ".0.flags", 1))
    one = base[path.split(".")[0]][0][path.split(".")[2]][0][path.split(".")[4]][0]
    listed = [
        one | {"spanId": f"{n + 1:016x}", "attributes": [{"key": key, "value": value} for key, value in attributes]} for n, attributes in enumerate(records)
    ]
    plain, fast = both(signal, changed(signal, path, listed))
    assert repr(fast) == repr(plain)


def test_requests_of_both_forms_decode_together_in_their_order() -> None:
    as_json = otlp.JsonText(json.dumps(TRACE).encode())
    as_protobuf = otlp.json_to_protobuf(otlp.TRACES, as_json.replace(b"my.service", b"other"))
    strange = otlp.JsonText(changed("traces", SPAN + "kind", "SPAN_KIND_CLIENT").replace(b"my.service", b"third"))
    decoded = otlp.traces.decode([as_json, as_protobuf, strange, as_json], NOW)
    assert decoded.table["service"].to_pylist() == ["my.service", "other", "third", "my.service"]
    assert decoded.body.tolist() == [0, 1, 2, 3]


def test_what_wirbel_exports_it_reads_back_fast() -> None:
    for signal, example in EXAMPLES.items():
        plain = otlp.json_to_protobuf(otlp.SIGNALS[signal], json.dumps(example).encode())
        line = otlp.protobuf_to_json(otlp.SIGNALS[signal], plain)
        assert is_fast(signal, line)
        message = otlp.SIGNALS[signal].message.FromString(plain)
        assert json_format.MessageToDict(message)
