"""OTLP trace requests ⇄ Arrow tables of spans.

Source: OpenTelemetry Protocol 1.x, and the OpenTelemetry specification "TraceState: Probability
Sampling" for the threshold ``ot=th:…``.
"""

from __future__ import annotations

import base64
import json
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from opentelemetry.proto.collector.trace.v1 import trace_service_pb2
from opentelemetry.proto.common.v1.common_pb2 import KeyValue

from wirbel.core import arrow
from wirbel.core.signals import spans
from wirbel.core.signals.attributes import any_value, parse_into, pivot, plain_value
from wirbel.core.signals.operations import Columns, derive
from wirbel.core.signals.otlp import wire

MAX_EVENTS = 128  # a span, as in the SDKs' default limit


def decode(bodies: list[bytes], now_ns: int) -> wire.Decoded:
    """Decodes and checks protobuf trace requests.

    Rows that break a rule are left out and counted by reason; the rest are kept.
    Raises MalformedTelemetry when a body cannot be read at all.
    """
    flat = wire.flatten(wire.TRACES, bodies)
    if not len(flat):
        return wire.nothing(spans.SPAN_SCHEMA, len(bodies))
    rows = flat.rows
    resource = wire.resource_columns(flat)
    own = pivot(rows.field("attributes"), arrow.MAX_ATTRIBUTE_COLUMNS)
    attributes = {arrow.attribute_column("span", *key): values for key, values in own.columns.items()}
    start, end = wire.times(rows.field("start_time_unix_nano")), wire.times(rows.field("end_time_unix_nano"))
    table = _base_columns(flat, start, end) | resource.promoted
    status = arrow.numbers(rows.field("status").field("code").fill_null(0))
    table |= derive(Columns(attributes, len(rows)), table["name"], arrow.numbers(table["kind"]), status)
    table["weight"] = _weights(rows.field("trace_state"))
    left = wire.overflow("span", own, resource, flat)
    if left is not None:
        table["overflow"] = left
    return wire.keep_good(table | attributes | resource.attributes, spans.SPAN_SCHEMA, flat.body, len(bodies), _rules(rows, start, end, now_ns))


def _base_columns(flat: wire.Flat, start: wire.Ints, end: wire.Ints) -> dict[str, pa.Array]:
    rows = flat.rows
    kind = arrow.numbers(rows.field("kind")).astype(np.int64)
    name = rows.field("name")
    return {
        "trace_id": rows.field("trace_id"),
        "span_id": rows.field("span_id"),
        "parent_id": wire.optional_id(rows.field("parent_span_id"), 8),
        "start": pa.array(start),
        "duration": pa.array(end - start),
        "name": pc.if_else(pc.equal(pc.binary_length(name), 0), "unnamed", name),
        "kind": pa.array(np.where((kind >= 0) & (kind <= 5), kind, 0).astype(np.int8)),
        "status": pa.array(np.clip(arrow.numbers(rows.field("status").field("code").fill_null(0)), 0, 2).astype(np.int8)),
        "status_message": wire.text_or_null(rows.field("status").field("message").fill_null("")),
        "scope": flat.scope_names(),
        "trace_state": wire.text_or_null(rows.field("trace_state")),
        "events": _events(rows.field("events")),
        "links": _links(rows.field("links")),
    }


def _rules(rows: pa.StructArray, start: wire.Ints, end: wire.Ints, now_ns: int) -> list[wire.Rule]:
    """What a span must not be."""

    def bad_id(name: str, width: int) -> np.ndarray:
        values = rows.field(name)
        wrong = pc.or_(pc.not_equal(pc.binary_length(values), width), pc.equal(values, pa.scalar(bytes(width))))
        return wrong.to_numpy(zero_copy_only=False)

    parent = pc.binary_length(rows.field("parent_span_id")).to_numpy(zero_copy_only=False)
    return [
        (bad_id("trace_id", 16), "trace_id must be 16 bytes and not all zero"),
        (bad_id("span_id", 8), "span_id must be 8 bytes and not all zero"),
        ((parent != 0) & (parent != 8), "parent_span_id must be empty or 8 bytes"),
        (start < wire.EARLIEST_NS, "start_time_unix_nano must be nanoseconds since 1970"),
        (end < start, "the span ends before it starts"),
        (end > now_ns + wire.FUTURE_TOLERANCE_NS, "the span ends more than 10 minutes in the future; check the sender's clock"),
    ]


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
                parse_into(target.values.add(), part)
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


def encode(table: pa.Table) -> bytes:
    """Spans as one protobuf ExportTraceServiceRequest; the reverse of :func:`decode`.

    Attributes come out under their current names.
    """
    request = trace_service_pb2.ExportTraceServiceRequest()
    scopes: dict[str, Any] = {}
    base = [name for name in spans.SPAN_SCHEMA.names if name != "overflow"]
    for row, record in enumerate(table.select(base).to_pylist()):
        attributes = arrow.attributes_of(table, row)
        scope = wire.scope_for(scopes, request.resource_spans, "scope_spans", attributes["resource"], record["scope"])
        _encode_span(scope.spans.add(), record, attributes["span"])
    return request.SerializeToString()


def _encode_span(span: Any, record: dict[str, Any], attributes: dict[str, Any]) -> None:
    span.trace_id, span.span_id = record["trace_id"], record["span_id"]
    span.parent_span_id = record["parent_id"] or b""
    span.name, span.kind = record["name"], record["kind"]
    span.start_time_unix_nano = record["start"]
    span.end_time_unix_nano = record["start"] + record["duration"]
    span.trace_state = record["trace_state"] or ""
    span.status.message = record["status_message"] or ""
    # Blocks from before the status was kept know only what came of it.
    status = record["status"]
    span.status.code = status if status is not None else spans.STATUS_ERROR if record["outcome"] == spans.ERROR else spans.STATUS_UNSET
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
