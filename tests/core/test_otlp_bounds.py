"""Requests that hold too much are told on their bytes, whoever wrote them; the counts are those of Google's own reader."""

from __future__ import annotations

import json
import time

import pytest
from google.protobuf.descriptor import FieldDescriptor
from google.protobuf.message import Message
from hypothesis import given, settings
from hypothesis import strategies as st
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest
from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import ExportTraceServiceRequest
from opentelemetry.proto.common.v1.common_pb2 import AnyValue

from wirbel.core.errors import MalformedTelemetry, TooMuchTelemetry
from wirbel.core.signals import otlp
from wirbel.core.signals.otlp import bounds

SPANS = ExportTraceServiceRequest.DESCRIPTOR


def any_value(draw: st.DrawFn, depth: int) -> AnyValue:
    kind = draw(st.sampled_from(["text", "number", "none", "list", "map"] if depth else ["text", "number", "none"]))
    if kind == "text":
        return AnyValue(string_value=draw(st.text(max_size=200)))
    if kind == "number":
        return AnyValue(int_value=draw(st.integers(-(2**63), 2**63 - 1)))
    made = AnyValue()
    if kind == "list":
        made.array_value.values.extend(any_value(draw, depth - 1) for _ in range(draw(st.integers(0, 3))))
    elif kind == "map":
        for _ in range(draw(st.integers(0, 3))):
            made.kvlist_value.values.add(key="k", value=any_value(draw, depth - 1))
    return made


@st.composite
def trace_requests(draw: st.DrawFn) -> ExportTraceServiceRequest:
    request = ExportTraceServiceRequest()
    for _ in range(draw(st.integers(0, 2))):
        resource = request.resource_spans.add()
        for _ in range(draw(st.integers(0, 2))):
            resource.resource.attributes.add(key="r", value=any_value(draw, 2))
        for _ in range(draw(st.integers(0, 2))):
            scope = resource.scope_spans.add()
            for _ in range(draw(st.integers(0, 6))):
                span = scope.spans.add(name=draw(st.text(max_size=300)), kind=2, flags=draw(st.integers(0, 2**32 - 1)), start_time_unix_nano=2**63)
                for _ in range(draw(st.integers(0, 4))):
                    span.attributes.add(key="a", value=any_value(draw, 2))
                for _ in range(draw(st.integers(0, 2))):
                    span.events.add(name="e").attributes.add(key="m", value=any_value(draw, 1))
    return request


def messages(message: Message) -> list[str]:
    """The kinds of all messages in it, as Google's reader finds them."""
    found = []
    for field, value in message.ListFields():
        if field.type == FieldDescriptor.TYPE_MESSAGE:
            for one in value if field.is_repeated else [value]:
                found += [one.DESCRIPTOR.name, *messages(one)]
    return found


@settings(max_examples=60, deadline=None)
@given(trace_requests(), st.sampled_from([0, 1, 3, 24]))
def test_messages_are_counted_as_googles_reader_finds_them(request: ExportTraceServiceRequest, few: int) -> None:
    body, found = request.SerializeToString(), messages(request)
    records = sum(kind in bounds.RECORDS + bounds.HOLDERS for kind in found)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(bounds, "FEW", few)
        assert bounds.check(SPANS, body) == records
        patch.setattr(bounds, "SHORTEST", 0)  # all kinds of messages are counted, however short it is
        patch.setattr(bounds, "MOST_MESSAGES", len(found))
        assert bounds.check(SPANS, body) == records
        if found:
            patch.setattr(bounds, "MOST_MESSAGES", len(found) - 1)
            with pytest.raises(TooMuchTelemetry):
                bounds.check(SPANS, body)


def test_data_points_are_records() -> None:
    request = ExportMetricsServiceRequest()
    metric = request.resource_metrics.add().scope_metrics.add().metrics.add(name="m")
    for n in range(100):
        metric.gauge.data_points.add(as_int=n, time_unix_nano=2**60)
    assert bounds.check(ExportMetricsServiceRequest.DESCRIPTOR, request.SerializeToString()) == 103


def field(number: int, content: bytes) -> bytes:
    length, out = len(content), b""
    while length > 127:
        out, length = out + bytes([length & 127 | 128]), length >> 7
    return bytes([number << 3 | 2]) + out + bytes([length]) + content


def span_of(content: bytes) -> bytes:
    return field(1, field(2, field(2, content)))


MANY = 2_000_000
HOSTILE = {
    "spans": field(1, field(2, b"\x12\x00" * MANY)),
    "scopes": field(1, b"\x12\x00" * MANY),
    "resources": b"\x0a\x00" * MANY,
    "attributes": span_of(b"\x4a\x00" * MANY),
    "attributes of many spans": field(1, field(2, field(2, b"\x4a\x00" * 9_000) * 250)),
    "events": span_of(b"\x5a\x00" * MANY),
    "elements of a list": span_of(field(9, field(1, b"k") + field(2, field(5, b"\x0a\x00" * MANY)))),
    "attributes of a resource": field(1, field(1, b"\x0a\x00" * MANY)),
    "numbers": b"\x08\x00" * MANY,
    "numbers of many spans": field(1, field(2, field(2, b"\x30\x00" * 40_000) * 50)),
    "texts of a span": span_of(b"\x2a\x00" * MANY),
}


@pytest.mark.parametrize("what", HOSTILE)
def test_millions_of_empty_messages_are_refused_before_they_are_read(what: str) -> None:
    with pytest.raises(TooMuchTelemetry, match="more than"):
        otlp.weigh(otlp.TRACES, HOSTILE[what])


def test_bytes_that_are_no_fields_are_not_read_one_by_one() -> None:
    """An archive of 61 kB holds 62 MB of zeros."""
    for body in (bytes(60_000_000), field(1, bytes(30_000_000)), field(1, field(2, bytes(200_000) * 200))):
        began = time.process_time()
        bounds.check(SPANS, body)
        assert time.process_time() - began < 1


def attributes(count: int) -> list[dict[str, object]]:
    return [{"key": f"k{n % 100}", "value": {"stringValue": "v"}} for n in range(count)]


@pytest.mark.parametrize("more", [0, 1])
@pytest.mark.parametrize("where", ["span", "resource", "list"])
def test_as_many_attributes_are_allowed_in_short_requests_as_in_long_ones(where: str, more: int) -> None:
    many = attributes(bounds.MOST_INSIDE + more)
    listed = [{"key": "all", "value": {"arrayValue": {"values": [one["value"] for one in many]}}}]
    span = {"traceId": "01" * 16, "spanId": "02" * 8, "name": "a", "startTimeUnixNano": str(10**18 - 1), "endTimeUnixNano": str(10**18)}
    span["attributes"] = many if where == "span" else listed if where == "list" else []  # type: ignore[assignment]
    request = {"resourceSpans": [{"resource": {"attributes": many if where == "resource" else []}, "scopeSpans": [{"spans": [span]}]}]}
    text = otlp.JsonText(json.dumps(request).encode())
    for body in (text, otlp.json_to_protobuf(otlp.TRACES, text)):
        assert len(body) < bounds.SHORTEST * bounds.MOST_MESSAGES
        otlp.weigh(otlp.TRACES, body)
        if more:
            with pytest.raises(TooMuchTelemetry, match="attributes or values"):
                otlp.DECODERS["traces"]([body], 10**18)
        else:
            assert otlp.DECODERS["traces"]([body], 10**18).table.num_rows == 1


NESTED = {
    "objects": b'{"a":' * 20_000 + b"1" + b"}" * 20_000,
    "lists": b'{"a":' + b"[" * 20_000 + b"]" * 20_000 + b"}",
    "values": b'{"resourceSpans":[{"resource":{"attributes":[{"value":' + b'{"arrayValue":{"values":[' * 9_000 + b"]}}" * 9_000 + b"}]}}]}",
    "beside a text with a quote": b'{"q":"\\"","a":' + b"[" * 20_000 + b"]" * 20_000 + b"}",
    "beside a text of two backslashes": b'{"q":"\\\\","a":' + b"[" * 20_000 + b"]" * 20_000 + b"}",
}


@pytest.mark.parametrize("what", NESTED)
def test_objects_in_each_other_are_refused_before_a_native_reader_sees_them(what: str) -> None:
    """Its stack ended the process."""
    with pytest.raises(TooMuchTelemetry, match="deep"):
        otlp.weigh(otlp.TRACES, otlp.JsonText(NESTED[what]))


@given(
    st.recursive(
        st.none() | st.text(alphabet='[]{}"\\a', max_size=9),
        lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text('["\\', max_size=3), inner, max_size=3),
    )
)
def test_the_depth_of_json_is_that_of_what_it_means(value: object) -> None:
    def depth(of: object) -> int:
        inside = of.values() if isinstance(of, dict) else of if isinstance(of, list) else None
        return 0 if inside is None else 1 + max(map(depth, inside), default=0)

    assert bounds._depth(json.dumps(value).encode()) == depth(value)


def test_brackets_in_texts_are_no_depth() -> None:
    request = {
        "resourceSpans": [
            {
                "scopeSpans": [
                    {
                        "spans": [
                            {
                                "name": "[{" * 400 + '"',
                                "traceId": "01" * 16,
                                "spanId": "02" * 8,
                                "startTimeUnixNano": str(10**18),
                                "endTimeUnixNano": str(10**18),
                            }
                        ]
                    }
                ]
            }
        ]
    }
    body = otlp.JsonText(json.dumps(request).encode())
    otlp.weigh(otlp.TRACES, body)
    assert otlp.DECODERS["traces"]([body], 10**18).table.num_rows == 1


@pytest.mark.parametrize("value", ["Infinity", "-Infinity", "NaN", "1e999", "1e30", "-1"])
def test_numbers_that_are_none_of_the_field_are_refused(value: str) -> None:
    body = otlp.JsonText(b'{"resourceSpans":[{"scopeSpans":[{"spans":[{"startTimeUnixNano":%s}]}]}]}' % value.encode())
    with pytest.raises(MalformedTelemetry):
        otlp.DECODERS["traces"]([body], 10**18)


def test_lists_in_lists_end_somewhere() -> None:
    value = b""
    for _ in range(60):
        value = field(5, field(1, value))
    filler = field(1, field(2, field(2, field(5, b"x" * 100)) * 30_000))
    with pytest.raises(TooMuchTelemetry, match="deep"):
        bounds.check(SPANS, span_of(field(9, field(2, value))) + filler)


@pytest.mark.parametrize("body", [b"\xff" * 300, span_of(b"\x4a\xff\xff\xff\xff\x0f"), b"\x0a\x80", b"\x0b" * 40, b"\x0a\x05\x12\x7fab"])
def test_what_is_no_message_is_left_to_who_reads_it(body: bytes) -> None:
    bounds.check(SPANS, body)
    bounds.check(SPANS, field(1, field(2, field(2, body) * 40)))


@pytest.mark.parametrize("span", ["{}", '{"x":{}}', '{"name":"a"}'])
def test_too_many_records_in_json_are_refused(span: str) -> None:
    body = otlp.JsonText(f'{{"resourceSpans":[{{"scopeSpans":[{{"spans":[{",".join([span] * (bounds.MOST_RECORDS + 1))}]}}]}}]}}'.encode())
    otlp.weigh(otlp.TRACES, body)
    with pytest.raises(TooMuchTelemetry, match="records"):
        otlp.DECODERS["traces"]([body], time.time_ns())
    with pytest.raises(TooMuchTelemetry, match="objects"):
        otlp.weigh(otlp.TRACES, otlp.JsonText(b"{}" * (bounds.MOST_BRACES + 1)))


def test_keys_that_no_protocol_knows_are_bounded() -> None:
    with pytest.raises(TooMuchTelemetry, match="different keys"):
        otlp.weigh(otlp.TRACES, otlp.JsonText(json.dumps({f"k{n}": n for n in range(bounds.MOST_KEYS + 1)}).encode()))


def test_attributes_beyond_the_columns_take_time_in_proportion() -> None:
    """Twice as many take about twice as long, and not four times: measured in the same run."""

    def seconds(count: int) -> float:
        body = span_of(b"".join(field(9, field(1, b"k%d" % n) + field(2, field(1, b"v"))) for n in range(count)))

        def once() -> float:
            began = time.process_time()  # what others take of the machine does not count
            otlp.DECODERS["traces"]([body], time.time_ns())
            return time.process_time() - began

        return min(once() for _ in range(3))

    seconds(100)
    once, four_times = seconds(2_500), seconds(10_000)
    assert four_times < 10 * once
