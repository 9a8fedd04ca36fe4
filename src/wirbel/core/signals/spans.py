"""What a span is to Wirbel: one row of an Arrow table with these columns, and attribute columns (see core/arrow.py)."""

from __future__ import annotations

from typing import Literal, get_args

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from wirbel.core import arrow
from wirbel.core.hashing import mix

INTERNAL, SERVER, CLIENT, PRODUCER, CONSUMER = 1, 2, 3, 4, 5
KIND_NAMES = ("unspecified", "internal", "server", "client", "producer", "consumer")
ENTRY_KINDS = (SERVER, CONSUMER)  # and roots of any kind: see is_entry
CALL_KINDS = (CLIENT, PRODUCER)

OK, CLIENT_ERROR, ERROR = 0, 1, 2
STATUS_UNSET, STATUS_OK, STATUS_ERROR = 0, 1, 2  # as sent; OTLP
Outcome = Literal["ok", "client error", "error"]
OUTCOME_NAMES: tuple[Outcome, ...] = get_args(Outcome)

EVENT = pa.struct([("at", pa.int64()), ("name", pa.string()), ("attributes", pa.string())])
LINK = pa.struct([("trace_id", pa.binary(16)), ("span_id", pa.binary(8)), ("attributes", pa.string())])

SPAN_SCHEMA = pa.schema(
    [
        ("trace_id", pa.binary(16)),
        ("span_id", pa.binary(8)),
        ("parent_id", pa.binary(8)),  # null: a root
        ("start", pa.int64()),  # ns since 1970, UTC
        ("duration", pa.int64()),  # ns
        ("environment", pa.string()),
        ("service", pa.string()),
        ("version", pa.string()),
        ("instance", pa.string()),
        ("host", pa.string()),
        ("name", pa.string()),  # as sent
        ("operation", pa.string()),  # name with ids taken out; see operations.py
        ("kind", pa.int8()),
        ("peer", pa.string()),  # who is called, on client and producer spans
        ("peer_kind", pa.string()),  # service, database, cache, broker, external
        ("outcome", pa.int8()),
        ("status_code", pa.int16()),  # HTTP
        ("status", pa.int8()),  # as sent: see STATUS_UNSET; null in what was stored before it was kept
        ("status_message", pa.string()),
        ("weight", pa.float64()),  # adjusted count: how many requests the span stands for
        ("scope", pa.string()),
        ("trace_state", pa.string()),
        ("events", pa.list_(EVENT)),
        ("links", pa.list_(LINK)),
        ("overflow", pa.string()),
    ]
)


def empty() -> pa.Table:
    """A table of spans without any."""
    return SPAN_SCHEMA.empty_table()


def conform(table: pa.Table) -> pa.Table:
    """A table with all columns of spans: see arrow.conform."""
    return arrow.conform(table, SPAN_SCHEMA)


def concat(tables: list[pa.Table]) -> pa.Table:
    """Tables of spans one after the other, as they are: see :func:`combine` for each span once."""
    return arrow.concat(tables, SPAN_SCHEMA)


def is_root(table: pa.Table) -> npt.NDArray[np.bool_]:
    """Rows without a parent. Stored tables say so in a column ``is_root``, if asked, which is cheaper to read than parents' ids."""
    return table["is_root"].to_numpy() if "is_root" in table.column_names else table["parent_id"].is_null().to_numpy()


def is_entry(table: pa.Table) -> npt.NDArray[np.bool_]:
    """Rows where work of a service begins: served requests, consumed messages, and roots (jobs, scripts)."""
    kind = arrow.numbers(table["kind"])
    return (kind == SERVER) | (kind == CONSUMER) | is_root(table)


def deduplicate(table: pa.Table) -> pa.Table:
    """Keeps the first of rows with the same trace and span id, in order of trace, then start."""
    trace, span = arrow.ids(table["trace_id"], 16), arrow.ids(table["span_id"], 8)
    start = arrow.numbers(table["start"])
    if not len(span):
        return table
    order = np.lexsort((span[:, 0], mix(mix(trace[:, 0]) ^ trace[:, 1])))
    same = np.r_[False, (span[order[1:]] == span[order[:-1]]).all(axis=1) & (trace[order[1:]] == trace[order[:-1]]).all(axis=1)]
    kept = order[~same]
    new_trace = np.r_[True, (trace[kept[1:]] != trace[kept[:-1]]).any(axis=1)]
    group = np.cumsum(new_trace) - 1
    first = np.minimum.reduceat(start[kept], np.flatnonzero(new_trace))
    # By the trace's own start, so that a block reads in time order and a trace stays together.
    rank = np.empty(len(first), np.int64)
    rank[np.argsort(first, kind="stable")] = np.arange(len(first))
    return arrow.in_order(table, kept[np.lexsort((start[kept], rank[group]))])


def combine(tables: list[pa.Table]) -> pa.Table:
    """Several tables as one: whole traces together, in order of their start, each span once."""
    return deduplicate(conform(concat(tables)))


def trace_starts(table: pa.Table) -> npt.NDArray[np.int64]:
    """For rows grouped by trace: the earliest start of the row's trace, ns. Shape (rows,)."""
    trace, start = arrow.ids(table["trace_id"], 16), arrow.numbers(table["start"])
    new = np.r_[True, (trace[1:] != trace[:-1]).any(axis=1)]
    return np.minimum.reduceat(start, np.flatnonzero(new))[np.cumsum(new) - 1]
