"""Spans and requests made by hand."""

from __future__ import annotations

import itertools
from typing import Any

import pyarrow as pa
from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import ExportTraceServiceRequest
from opentelemetry.proto.common.v1.common_pb2 import AnyValue

from wirbel.core import arrow
from wirbel.core.signals import spans

NOW = 1_772_000_000 * 10**9  # a fixed "now" for tests of pure code, ns
MS = 10**6
_numbers = itertools.count(1)


def any_value(value: Any) -> AnyValue:
    field = {bool: "bool_value", int: "int_value", float: "double_value", str: "string_value", bytes: "bytes_value"}[type(value)]
    return AnyValue(**{field: value})


def request(*given: dict[str, Any], resource: dict[str, Any] | None = None) -> ExportTraceServiceRequest:
    """A trace request of one resource; each span from keyword-like dicts with ``attributes`` as a plain dict."""
    made = ExportTraceServiceRequest()
    holder = made.resource_spans.add()
    for key, value in (resource or {"service.name": "shop"}).items():
        holder.resource.attributes.add(key=key, value=any_value(value))
    scope = holder.scope_spans.add()
    for one in given:
        number = next(_numbers)
        one = {
            "trace_id": number.to_bytes(16, "big"),
            "span_id": number.to_bytes(8, "big"),
            "name": "op",
            "kind": 2,
            "start_time_unix_nano": NOW - 5 * MS,
            "end_time_unix_nano": NOW,
            **one,
        }
        attributes = one.pop("attributes", {})
        span = scope.spans.add(**one)
        for key, value in attributes.items():
            span.attributes.add(key=key, value=any_value(value))
    return made


def table(*rows: dict[str, Any]) -> pa.Table:
    """A table of spans; ids given as small integers, times in ms."""

    def fill(row: dict[str, Any]) -> dict[str, Any]:
        row = {
            "trace": 1,
            "parent": None,
            "service": "a",
            "kind": spans.SERVER,
            "start": 0,
            "duration": 1,
            "outcome": spans.OK,
            "weight": 1.0,
            "environment": "default",
            **row,
        }
        row["name"] = row.setdefault("operation", "op")
        parent = row.pop("parent")
        return row | {
            "trace_id": row.pop("trace").to_bytes(16, "big"),
            "span_id": row.pop("span").to_bytes(8, "big"),
            "parent_id": None if parent is None else parent.to_bytes(8, "big"),
            "start": NOW + round(row["start"] * MS),
            "duration": round(row["duration"] * MS),
        }

    filled = [fill(row) for row in rows]
    names = sorted({name for row in filled for name in row})
    return spans.conform(pa.table({name: pa.array([row.get(name) for row in filled], _type(name)) for name in names}))


def _type(name: str) -> pa.DataType | None:
    return spans.SPAN_SCHEMA.field(name).type if name in spans.SPAN_SCHEMA.names else arrow.TYPE_LETTERS[arrow.split_attribute_column(name)[1]]
