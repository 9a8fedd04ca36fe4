"""OTLP trace requests ⇄ Arrow tables of spans.

Source: OpenTelemetry Protocol 1.x (opentelemetry-proto, collector/trace/v1), its JSON mapping
(hexadecimal ids, integers as text), and the OpenTelemetry specification "TraceState:
Probability Sampling" for the threshold ``ot=th:…``.
"""

from __future__ import annotations

import base64
import json
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cache
from typing import Any

import numpy as np
import ptars
import pyarrow as pa
import pyarrow.compute as pc
from google.protobuf import json_format
from google.protobuf.message import DecodeError
from opentelemetry.proto.collector.trace.v1 import trace_service_pb2
from opentelemetry.proto.common.v1.common_pb2 import KeyValue

from wirbel.core.errors import MalformedTelemetry
from wirbel.core.signals import spans
from wirbel.core.signals.attributes import any_value, pivot, plain_value
from wirbel.core.signals.operations import Columns, derive

FUTURE_TOLERANCE_NS = 600 * 10**9  # clocks of senders may run this far ahead
EARLIEST_NS = 10**17  # 1973: a start before it is a unit mistake, not a time
MAX_EVENTS = 128  # a span, as in the SDKs' default limit
_ID_FIELDS = {"traceId": 16, "spanId": 8, "parentSpanId": 8}


@dataclass
class Decoded:
    """Good spans as a table, and how many were refused for which reason."""

    spans: pa.Table
    refused: dict[str, int] = field(default_factory=dict)

    @property
    def refused_count(self) -> int:
        return sum(self.refused.values())

    def message(self) -> str:
        return "; ".join(f"{count} refused: {reason}" for reason, count in self.refused.items())


@cache
def _handler() -> Any:
    message = trace_service_pb2.ExportTraceServiceRequest
    pool = ptars.HandlerPool([trace_service_pb2.DESCRIPTOR])
    return pool.get_for_message(message.DESCRIPTOR)


def to_columns(bodies: list[bytes]) -> pa.RecordBatch:
    """Protobuf requests as nested Arrow columns, one row a request.

    Raises MalformedTelemetry when a body is not an ExportTraceServiceRequest.
    """
    try:
        return _handler().list_to_record_batch(bodies)
    except (ValueError, DecodeError) as error:
        raise MalformedTelemetry(f"not an OTLP trace request: {error}") from error


def json_to_protobuf(body: bytes) -> bytes:
    """An OTLP/JSON trace request as protobuf.

    Raises MalformedTelemetry for wrong JSON, wrong types and ids that are not hexadecimal.
    """
    try:
        request = json.loads(body)
        if not isinstance(request, dict):
            raise MalformedTelemetry("not an OTLP trace request: the JSON is not an object")
        for resource in request.get("resourceSpans") or []:
            for scope in resource.get("scopeSpans") or []:
                for span in scope.get("spans") or []:
                    _hex_ids_to_base64(span)
                    for link in span.get("links") or []:
                        _hex_ids_to_base64(link)
        message = trace_service_pb2.ExportTraceServiceRequest()
        json_format.ParseDict(request, message, ignore_unknown_fields=True)
    except (json_format.ParseError, ValueError, AttributeError, TypeError, RecursionError) as error:
        raise MalformedTelemetry(f"not an OTLP/JSON trace request: {error}") from error
    return message.SerializeToString()


def _hex_ids_to_base64(record: dict[str, Any]) -> None:
    for name in _ID_FIELDS:
        if record.get(name):
            record[name] = base64.b64encode(bytes.fromhex(record[name])).decode()


def decode(bodies: list[bytes], now_ns: int) -> Decoded:
    """Decodes and checks protobuf trace requests.

    Rows that break a rule are left out and counted by reason; the rest are kept.
    Raises MalformedTelemetry when a body cannot be read at all.
    """
    batch = to_columns(bodies)
    resources = batch.column("resource_spans").flatten()
    scopes_of = resources.field("scope_spans")
    scope_resource = pc.list_parent_indices(scopes_of)
    scopes = scopes_of.flatten()
    spans_of = scopes.field("spans")
    span_scope = pc.list_parent_indices(spans_of)
    rows = spans_of.flatten()
    if not len(rows):
        return Decoded(spans.empty())
    span_resource = scope_resource.take(span_scope)

    own = pivot(rows.field("attributes"), spans.MAX_ATTRIBUTE_COLUMNS)
    shared = pivot(resources.field("resource").field("attributes"), spans.MAX_ATTRIBUTE_COLUMNS)
    columns: dict[str, pa.Array] = {spans.attribute_column("span", *key): value for key, value in own.columns.items()}
    table, start, end = _base_columns(rows, scopes, span_scope)
    for (letter, key), values in shared.columns.items():
        promoted = spans.PROMOTED_RESOURCE.get(key) if letter == "s" else None
        taken = values.take(span_resource)
        if promoted:
            table[promoted] = taken
        else:
            columns[spans.attribute_column("resource", letter, key)] = taken
    table["service"] = _or_default(table.get("service"), "unknown_service", len(rows))
    table["environment"] = _or_default(table.get("environment"), spans.DEFAULT_ENVIRONMENT, len(rows))

    kind = spans.numbers(table["kind"])
    status = spans.numbers(rows.field("status").field("code").fill_null(0))
    table |= derive(Columns(columns, len(rows)), table["name"], kind, status)
    table["weight"] = _weights(rows.field("trace_state"))
    if own.overflow or shared.overflow:
        table["overflow"] = _overflow(own.overflow, shared.overflow, span_resource.to_pylist())
    refused_as = _check(rows, start, end, now_ns)
    good = refused_as == ""
    reasons, counts = np.unique(refused_as[~good], return_counts=True)
    refused = {str(reason): int(count) for reason, count in zip(reasons, counts, strict=True)}
    if not good.all():
        keep = pa.array(good)
        table = {name: values.filter(keep) for name, values in table.items()}
        columns = {name: values.filter(keep) for name, values in columns.items()}
    table["trace_id"] = table["trace_id"].cast(pa.binary(16))
    table["span_id"] = table["span_id"].cast(pa.binary(8))
    table["parent_id"] = table["parent_id"].cast(pa.binary(8))
    return Decoded(spans.conform(pa.table(table | columns)), refused)


def _or_default(values: pa.Array | None, default: str, count: int) -> pa.Array:
    if values is None:
        return pa.repeat(pa.scalar(default), count)
    return pc.if_else(pc.greater(pc.utf8_length(values.fill_null("")), 0), values, default)


def _text_or_null(values: pa.Array) -> pa.Array:
    return pc.if_else(pc.equal(pc.utf8_length(values), 0), None, values)


def _base_columns(rows: pa.StructArray, scopes: pa.StructArray, span_scope: pa.Array) -> tuple[dict[str, pa.Array], np.ndarray, np.ndarray]:
    start = spans.numbers(rows.field("start_time_unix_nano")).astype(np.uint64)
    end = spans.numbers(rows.field("end_time_unix_nano")).astype(np.uint64)
    limit = np.uint64(2**63 - 1)
    start, end = np.minimum(start, limit).astype(np.int64), np.minimum(end, limit).astype(np.int64)
    kind = spans.numbers(rows.field("kind")).astype(np.int64)
    parent = rows.field("parent_span_id")
    has_parent = pc.equal(pc.binary_length(parent), 8)
    zero = pc.equal(parent, pa.scalar(bytes(8)))
    name = rows.field("name")
    return (
        {
            "trace_id": rows.field("trace_id"),
            "span_id": rows.field("span_id"),
            "parent_id": pc.if_else(pc.and_not(has_parent, zero), parent, pa.scalar(None, pa.binary())),
            "start": pa.array(start),
            "duration": pa.array(end - start),
            "name": pc.if_else(pc.equal(pc.utf8_length(name), 0), "unnamed", name),
            "kind": pa.array(np.where((kind >= 0) & (kind <= 5), kind, 0).astype(np.int8)),
            "status_message": _text_or_null(rows.field("status").field("message").fill_null("")),
            "scope": _text_or_null(scopes.field("scope").field("name").fill_null("")).take(span_scope),
            "trace_state": _text_or_null(rows.field("trace_state")),
            "events": _events(rows.field("events")),
            "links": _links(rows.field("links")),
        },
        start,
        end,
    )


def _check(rows: pa.StructArray, start: np.ndarray, end: np.ndarray, now_ns: int) -> np.ndarray:
    """The reason for which each row is refused, or an empty string."""

    def bad_id(name: str, width: int) -> np.ndarray:
        values = rows.field(name)
        wrong = pc.or_(pc.not_equal(pc.binary_length(values), width), pc.equal(values, pa.scalar(bytes(width))))
        return wrong.to_numpy(zero_copy_only=False)

    parent = pc.binary_length(rows.field("parent_span_id")).to_numpy(zero_copy_only=False)
    rules = [
        (bad_id("trace_id", 16), "trace_id must be 16 bytes and not all zero"),
        (bad_id("span_id", 8), "span_id must be 8 bytes and not all zero"),
        ((parent != 0) & (parent != 8), "parent_span_id must be empty or 8 bytes"),
        (start < EARLIEST_NS, "start_time_unix_nano must be nanoseconds since 1970"),
        (end < start, "the span ends before it starts"),
        (end > now_ns + FUTURE_TOLERANCE_NS, "the span ends more than 10 minutes in the future; check the sender's clock"),
    ]
    return np.select([rule for rule, _ in rules], [reason for _, reason in rules], "")


def _weights(states: pa.Array) -> pa.Array:
    """Adjusted counts from the sampling threshold: th is the share of traces *not* kept."""
    encoded = states.dictionary_encode()
    weights = np.array([adjusted_count(state) for state in encoded.dictionary.to_pylist()])
    return pa.array(weights[encoded.indices.to_numpy(zero_copy_only=False)])


def adjusted_count(trace_state: str) -> float:
    """How many spans one sampled span stands for, by ``ot=th:`` in its tracestate; else 1."""
    for member in trace_state.split(","):
        vendor, _, value = member.strip().partition("=")
        if vendor != "ot":
            continue
        for part in value.split(";"):
            key, _, digits = part.partition(":")
            if key == "th" and 1 <= len(digits) <= 14 and all(c in "0123456789abcdef" for c in digits):
                return 2.0**56 / (2**56 - int(digits.ljust(14, "0"), 16))
    return 1.0


def _attributes_json(pairs: list[dict[str, Any]]) -> str | None:
    """Attributes of an event or link as JSON text. ptars gives each pair as nested Python."""
    found: dict[str, Any] = {}
    for pair in pairs:
        value = pair["value"] or {}
        present = next(((name, item) for name, item in value.items() if item is not None), None)
        if present is None:
            found[pair["key"]] = None
        elif present[0] in ("array_value", "kvlist_value"):
            made = KeyValue(key=pair["key"])
            target = getattr(made.value, present[0])
            target.SetInParent()
            for part in present[1]["values"]:
                target.values.add().ParseFromString(part)
            found[pair["key"]] = plain_value(made.value)
        else:
            item = present[1]
            found[pair["key"]] = base64.b64encode(item).decode() if isinstance(item, bytes) else item
    return json.dumps(found, ensure_ascii=False) if found else None


def _nested(column: pa.ListArray, kind: pa.DataType, make: Any) -> pa.Array:
    """Events or links: few spans have any, so only those are visited."""
    lengths = column.value_lengths().fill_null(0).to_numpy(zero_copy_only=False)
    out: list[list[dict[str, Any]] | None] = [None] * len(column)
    for row in np.flatnonzero(lengths):
        out[row] = [made for item in column[int(row)].as_py()[:MAX_EVENTS] if (made := make(item)) is not None]
    return pa.array(out, pa.list_(kind))


def _events(column: pa.ListArray) -> pa.Array:
    return _nested(
        column,
        spans.EVENT,
        lambda event: {
            "at": min(event["time_unix_nano"], 2**63 - 1),
            "name": event["name"],
            "attributes": _attributes_json(event["attributes"]),
        },
    )


def _links(column: pa.ListArray) -> pa.Array:
    def make(link: dict[str, Any]) -> dict[str, Any] | None:
        if len(link["trace_id"]) != 16 or len(link["span_id"]) != 8:
            return None
        return {"trace_id": link["trace_id"], "span_id": link["span_id"], "attributes": _attributes_json(link["attributes"])}

    return _nested(column, spans.LINK, make)


def _overflow(own: list[Any] | None, shared: list[Any] | None, resource: list[int]) -> pa.Array:
    out: list[str | None] = []
    for row, owner in enumerate(resource):
        record = {}
        if own and own[row]:
            record["span"] = own[row]
        if shared and shared[owner]:
            record["resource"] = shared[owner]
        out.append(json.dumps(record, ensure_ascii=False) if record else None)
    return pa.array(out, pa.string())


def encode(table: pa.Table) -> bytes:
    """Spans as one protobuf ExportTraceServiceRequest; the reverse of :func:`decode`.

    Attributes come out under their current names.
    """
    request = trace_service_pb2.ExportTraceServiceRequest()
    scopes: dict[str, Any] = {}
    for row, record in enumerate(_records(table)):
        own, shared = spans.attributes_of(table, row)
        key = json.dumps([shared, record["scope"]], sort_keys=True, default=str)
        if key not in scopes:
            resource = request.resource_spans.add()
            for name, value in shared.items():
                resource.resource.attributes.add(key=name, value=any_value(value))
            scopes[key] = resource.scope_spans.add()
            scopes[key].scope.name = record["scope"] or ""
        _encode_span(scopes[key].spans.add(), record, own)
    return request.SerializeToString()


def _records(table: pa.Table) -> Iterator[dict[str, Any]]:
    base = [name for name in spans.SPAN_SCHEMA.names if name != "overflow"]
    yield from table.select(base).to_pylist()


def _encode_span(span: Any, record: dict[str, Any], attributes: dict[str, Any]) -> None:
    span.trace_id, span.span_id = record["trace_id"], record["span_id"]
    span.parent_span_id = record["parent_id"] or b""
    span.name, span.kind = record["name"], record["kind"]
    span.start_time_unix_nano = record["start"]
    span.end_time_unix_nano = record["start"] + record["duration"]
    span.trace_state = record["trace_state"] or ""
    span.status.message = record["status_message"] or ""
    if record["outcome"] == spans.FAILED:
        span.status.code = 2
    for key, value in attributes.items():
        span.attributes.add(key=key, value=any_value(value))
    for event in record["events"] or []:
        made = span.events.add(time_unix_nano=event["at"], name=event["name"])
        for key, value in json.loads(event["attributes"] or "{}").items():
            made.attributes.add(key=key, value=any_value(value))
    for link in record["links"] or []:
        made = span.links.add(trace_id=link["trace_id"], span_id=link["span_id"])
        for key, value in json.loads(link["attributes"] or "{}").items():
            made.attributes.add(key=key, value=any_value(value))
