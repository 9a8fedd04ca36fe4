"""What a span is to Wirbel: one row of an Arrow table with these columns.

Attributes have a column each, named ``<level>.<type>:<key>`` with level ``span`` or
``resource`` and a one-letter type, so that one key sent with several types keeps each
value's type. Keys beyond :data:`MAX_ATTRIBUTE_COLUMNS` go to the JSON column ``overflow``.
"""

from __future__ import annotations

import json
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from wirbel.core.hashing import mix

INTERNAL, SERVER, CLIENT, PRODUCER, CONSUMER = 1, 2, 3, 4, 5
KIND_NAMES = ("unspecified", "internal", "server", "client", "producer", "consumer")
ENTRY_KINDS = (SERVER, CONSUMER)  # and roots of any kind: see is_entry
CALL_KINDS = (CLIENT, PRODUCER)

DONE, REFUSED, FAILED = 0, 1, 2
OUTCOME_NAMES = ("done", "refused", "failed")

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
        ("status_message", pa.string()),
        ("weight", pa.float64()),  # adjusted count: how many requests the span stands for
        ("scope", pa.string()),
        ("trace_state", pa.string()),
        ("events", pa.list_(EVENT)),
        ("links", pa.list_(LINK)),
        ("overflow", pa.string()),
    ]
)

PROMOTED_RESOURCE = {
    "service.name": "service",
    "service.version": "version",
    "service.instance.id": "instance",
    "host.name": "host",
    "deployment.environment.name": "environment",
}
"""Resource attributes that have a column of their own, and so no attribute column."""

MAX_ATTRIBUTE_COLUMNS = 160
DEFAULT_ENVIRONMENT = "default"

TYPE_LETTERS = {"s": pa.string(), "i": pa.int64(), "f": pa.float64(), "b": pa.bool_(), "j": pa.string(), "x": pa.binary()}
"""Letters of attribute columns: string, integer, float, boolean, JSON (lists, maps), bytes."""


def attribute_column(level: str, letter: str, key: str) -> str:
    return f"{level}.{letter}:{key}"


def is_attribute_column(name: str) -> bool:
    level, _, rest = name.partition(".")
    return level in ("span", "resource") and rest[1:2] == ":" and rest[:1] in TYPE_LETTERS


def split_attribute_column(name: str) -> tuple[str, str, str]:
    """``span.i:http.response.status_code`` → ``("span", "i", "http.response.status_code")``."""
    level, _, rest = name.partition(".")
    return level, rest[0], rest[2:]


def empty() -> pa.Table:
    return SPAN_SCHEMA.empty_table()


def conform(table: pa.Table) -> pa.Table:
    """Adds the base columns that ``table`` lacks, as nulls, and puts columns in order."""
    attributes = sorted(name for name in table.column_names if is_attribute_column(name))
    columns: dict[str, pa.ChunkedArray | pa.Array] = {}
    for field in SPAN_SCHEMA:
        if field.name in table.column_names:
            columns[field.name] = table[field.name].cast(field.type)
        else:
            columns[field.name] = pa.nulls(table.num_rows, field.type)
    for name in attributes:
        columns[name] = table[name]
    return pa.table(columns)


def concat(tables: list[pa.Table]) -> pa.Table:
    """One table of all rows; an attribute column missing in a part is null there."""
    kept = [table for table in tables if table.num_rows]
    return pa.concat_tables(kept, promote_options="default") if kept else empty()


def codes(column: pa.ChunkedArray | pa.Array) -> tuple[npt.NDArray[np.int64], list[Any]]:
    """Dictionary codes of a column (−1 for null) and the values they stand for."""
    if isinstance(column, pa.ChunkedArray):
        column = column.unify_dictionaries().combine_chunks() if pa.types.is_dictionary(column.type) else column.combine_chunks()
    if isinstance(column, pa.ChunkedArray):  # combine_chunks of nothing
        column = pa.concat_arrays(column.chunks) if column.num_chunks else pa.array([], column.type)
    encoded = column if pa.types.is_dictionary(column.type) else column.dictionary_encode()
    indices = encoded.indices.fill_null(-1).to_numpy(zero_copy_only=False).astype(np.int64)
    return indices, encoded.dictionary.to_pylist()


def numbers(column: pa.ChunkedArray | pa.Array) -> npt.NDArray[Any]:
    """A numeric column without nulls as a NumPy array."""
    if isinstance(column, pa.ChunkedArray):
        return column.to_numpy()
    return column.to_numpy(zero_copy_only=False)


def is_entry(table: pa.Table) -> npt.NDArray[np.bool_]:
    """Rows where work of a service begins: served requests, consumed messages, and roots (jobs, scripts)."""
    return np.isin(numbers(table["kind"]), ENTRY_KINDS) | table["parent_id"].is_null().to_numpy()


def ids(column: pa.ChunkedArray | pa.Array, width: int) -> npt.NDArray[np.uint64]:
    """Fixed-width binary ids as rows of unsigned 64-bit words; nulls become zero.

    Shape (rows, width // 8).
    """
    if isinstance(column, pa.ChunkedArray):
        column = pa.concat_arrays(column.chunks) if column.num_chunks else pa.array([], pa.binary(width))
    words = width // 8
    values = np.frombuffer(column.buffers()[1], dtype=np.uint64) if len(column) else np.zeros(0, np.uint64)
    table = values[column.offset * words : (column.offset + len(column)) * words].reshape(-1, words)
    if column.null_count:
        table = table.copy()
        table[column.is_null().to_numpy(zero_copy_only=False)] = 0
    return table


def deduplicate(table: pa.Table) -> pa.Table:
    """Keeps the first of rows with the same trace and span id, in order of trace, then start."""
    trace, span = ids(table["trace_id"], 16), ids(table["span_id"], 8)
    start = numbers(table["start"])
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
    return table.take(pa.array(kept[np.lexsort((start[kept], rank[group]))]))


def attributes_of(table: pa.Table, row: int) -> tuple[dict[str, Any], dict[str, Any]]:
    """The span and the resource attributes of one row, under current names and types."""
    found: dict[str, dict[str, Any]] = {"span": {}, "resource": {}}
    for key, column in PROMOTED_RESOURCE.items():
        value = table[column][row].as_py()
        if value is not None and not (column == "environment" and value == DEFAULT_ENVIRONMENT):
            found["resource"][key] = value
    for name in table.column_names:
        if is_attribute_column(name):
            value = table[name][row].as_py()
            if value is not None:
                level, letter, key = split_attribute_column(name)
                found[level][key] = json.loads(value) if letter == "j" else value
    overflow = table["overflow"][row].as_py()
    if overflow:
        for level, values in json.loads(overflow).items():
            found[level].update(values)
    return found["span"], found["resource"]
