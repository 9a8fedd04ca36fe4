"""What a log record is to Wirbel: one row of an Arrow table with these columns, and attribute columns (see core/arrow.py)."""

from __future__ import annotations

import pyarrow as pa

from wirbel.core import arrow

LOG_SCHEMA = pa.schema(
    [
        ("time", pa.int64()),  # ns since 1970, UTC
        ("observed", pa.int64()),  # when it was collected
        ("environment", pa.string()),
        ("service", pa.string()),
        ("version", pa.string()),
        ("instance", pa.string()),
        ("host", pa.string()),
        ("severity", pa.int8()),  # 1 … 24 of the data model; 0 unknown
        ("severity_text", pa.string()),  # as sent
        ("body", pa.string()),
        ("structured", pa.bool_()),  # the body is JSON made from a list or a map
        ("trace_id", pa.binary(16)),
        ("span_id", pa.binary(8)),
        ("event", pa.string()),
        ("scope", pa.string()),  # the logger
        ("weight", pa.float64()),  # how many records it stands for
        ("overflow", pa.string()),
    ]
)

SEVERITY_OF_NAME = {
    "TRACE": 1,
    "DEBUG": 5,
    "INFO": 9,
    "INFORMATION": 9,
    "NOTICE": 10,
    "WARN": 13,
    "WARNING": 13,
    "ERROR": 17,
    "ERR": 17,
    "CRITICAL": 21,
    "FATAL": 21,
    "ALERT": 22,
    "EMERGENCY": 24,
}
"""Severity numbers of usual names (OpenTelemetry logs data model, appendix on other systems' levels; from memory)."""

BANDS = ("", "trace", "debug", "info", "warning", "error", "fatal")
"""Names of severity numbers: four numbers each (OpenTelemetry logs data model, "Severity fields")."""


def severity_name(number: int | None) -> str:
    """Of a severity number; empty where none is known."""
    return BANDS[min(max((number or 0) + 3, 0) // 4, len(BANDS) - 1)]


def combine(tables: list[pa.Table]) -> pa.Table:
    """Several tables as one, in order of time."""
    whole = arrow.conform(arrow.concat(tables, LOG_SCHEMA), LOG_SCHEMA)
    return whole.sort_by([("time", "ascending")])
