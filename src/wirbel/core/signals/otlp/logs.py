"""OTLP log requests ⇄ Arrow tables of log records.

Source: OpenTelemetry logs data model (severity numbers, trace link, exceptions as attributes).
"""

from __future__ import annotations

import base64
import json
from collections.abc import Callable
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from opentelemetry.proto.collector.logs.v1.logs_service_pb2 import ExportLogsServiceRequest
from opentelemetry.proto.common.v1.common_pb2 import AnyValue

from wirbel.core import arrow
from wirbel.core.signals import logs
from wirbel.core.signals.attributes import any_value, parse_into, pivot, plain_value
from wirbel.core.signals.otlp import wire

LONGEST_BODY = 2**20  # characters of a body that are kept; the rest is cut and said so


def decode(bodies: list[bytes], now_ns: int) -> wire.Decoded:
    """Decodes and checks protobuf log requests; bad records are left out and counted by reason.

    A record without a time gets the time it was observed, or else ``now_ns``. Raises
    MalformedTelemetry when a body cannot be read at all.
    """
    flat = wire.flatten(wire.LOGS, bodies)
    if not len(flat):
        return wire.nothing(logs.LOG_SCHEMA, len(bodies))
    rows = flat.rows
    resource = wire.resource_columns(flat)
    own = pivot(rows.field("attributes"), arrow.MAX_ATTRIBUTE_COLUMNS)
    observed = wire.times(rows.field("observed_time_unix_nano"))
    sent = wire.times(rows.field("time_unix_nano"))
    time = np.where(sent > 0, sent, np.where(observed > 0, observed, now_ns))
    text, structured = _bodies(rows.field("body"))
    severity_text = wire.text_or_null(rows.field("severity_text"))
    columns = {
        "time": pa.array(time),
        "observed": pa.array(np.where(observed > 0, observed, time)),
        "severity": _severity(rows.field("severity_number"), severity_text),
        "severity_text": severity_text,
        "body": text,
        "structured": structured,
        "trace_id": wire.optional_id(rows.field("trace_id"), 16),
        "span_id": wire.optional_id(rows.field("span_id"), 8),
        "event": wire.text_or_null(rows.field("event_name")),
        "scope": flat.scope_names(),
        "weight": pa.array(np.ones(len(flat))),
        **resource.promoted,
        **resource.attributes,
        **{arrow.attribute_column("log", *key): values for key, values in own.columns.items()},
    }
    left = wire.overflow("log", own, resource, flat)
    if left is not None:
        columns["overflow"] = left
    rules = [
        (time < wire.EARLIEST_NS, "time_unix_nano must be nanoseconds since 1970"),
        (time > now_ns + wire.FUTURE_TOLERANCE_NS, "the record is more than 10 minutes in the future; check the sender's clock"),
    ]
    return wire.keep_good(columns, logs.LOG_SCHEMA, flat.body, len(bodies), rules)


def _severity(number: pa.Array, text: pa.Array) -> pa.Array:
    """1 … 24 as sent; 0 where a sender gives only a name that is not one of the usual ones."""
    given = arrow.numbers(number).astype(np.int64)
    given = np.where((given >= 1) & (given <= 24), given, 0)
    code, names = arrow.codes(text)
    by_name = np.array([logs.SEVERITY_OF_NAME.get(name.upper(), 0) for name in names] + [0])[code]
    return pa.array(np.where(given > 0, given, by_name).astype(np.int8))


def _bodies(values: pa.StructArray) -> tuple[pa.Array, pa.Array]:
    """Bodies as text, and which of them were structured: those are JSON."""
    text = values.field("string_value")
    for name in ("int_value", "double_value", "bool_value"):
        if values.field(name).null_count < len(values):
            text = pc.coalesce(text, values.field(name).cast(pa.string()))
    structured = np.zeros(len(values), np.bool_)
    made: dict[int, str] = {}
    for name, read in _STRUCTURED.items():
        present = np.flatnonzero(values.field(name).is_valid().to_numpy(zero_copy_only=False))
        for row in present.tolist():  # rare: stock loggers send text
            made[row] = read(values.field(name)[row].as_py())
        structured[present] = name != "bytes_value"
    if made:
        written = text.to_pylist()
        for at, value in made.items():
            written[at] = value
        text = pa.array(written, pa.string())
    return _cut(text), pa.array(structured)


def _read_list(value: dict[str, Any]) -> str:
    return json.dumps([plain_value(parse_into(AnyValue(), part)) for part in value["values"]], ensure_ascii=False)


def _read_map(value: dict[str, Any]) -> str:
    return json.dumps({pair["key"]: plain_value(parse_into(AnyValue(), pair["value"])) for pair in value["values"]}, ensure_ascii=False)


_STRUCTURED: dict[str, Callable[[Any], str]] = {
    "array_value": _read_list,
    "kvlist_value": _read_map,
    "bytes_value": lambda value: base64.b64encode(value).decode(),
}


def _cut(text: pa.Array) -> pa.Array:
    length = pc.utf8_length(text)
    if (pc.max(length).as_py() or 0) <= LONGEST_BODY:
        return text
    note = pc.binary_join_element_wise(" … cut from ", length.cast(pa.string()), " characters", "")
    return pc.if_else(pc.greater(length, LONGEST_BODY), pc.binary_join_element_wise(pc.utf8_slice_codeunits(text, 0, LONGEST_BODY), note, ""), text)


def encode(table: pa.Table) -> bytes:
    """Log records as one protobuf ExportLogsServiceRequest; the reverse of :func:`decode`."""
    request = ExportLogsServiceRequest()
    scopes: dict[str, Any] = {}
    base = [name for name in logs.LOG_SCHEMA.names if name != "overflow"]
    for row, record in enumerate(table.select(base).to_pylist()):
        attributes = arrow.attributes_of(table, row)
        scope = wire.scope_for(scopes, request.resource_logs, "scope_logs", attributes["resource"], record["scope"])
        made = scope.log_records.add(
            time_unix_nano=record["time"],
            observed_time_unix_nano=record["observed"],
            severity_number=record["severity"],
            severity_text=record["severity_text"] or "",
            trace_id=record["trace_id"] or b"",
            span_id=record["span_id"] or b"",
            event_name=record["event"] or "",
        )
        if record["body"] is not None:
            made.body.CopyFrom(any_value(json.loads(record["body"]) if record["structured"] else record["body"]))
        for key, value in attributes["log"].items():
            made.attributes.add(key=key, value=any_value(value))
    return request.SerializeToString()
