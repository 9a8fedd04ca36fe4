"""Block bytes: Arrow tables to Parquet and back, and a cache of what was read.

Only this module and reading.py know how bytes in the database become rows.
"""

from __future__ import annotations

import itertools
import threading
from collections import OrderedDict
from collections.abc import Iterable, Sequence

import numpy as np
import psycopg
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq
from django.db import connection
from django.db.models import QuerySet

from wirbel.core.signals import spans
from wirbel.store import bloom
from wirbel.store.models import Block, Stream

HOUR_NS = 3600 * 10**9
IDENTITY = ("trace_id", "span_id", "start")  # what tells a span, and orders it
MAX_ROWS = 250_000  # of one block: about 10 MB of spans
CACHE_BYTES = 384 * 2**20
_PLAIN = {"span_id", "start", "duration", "trace_id"}  # columns in which a dictionary only costs


def to_ipc(table: pa.Table) -> bytes:
    """Arrow IPC, compressed as a whole: a small request has many tiny buffers, slow to unpack one by one."""
    sink = pa.BufferOutputStream()
    with pa.ipc.new_stream(sink, table.schema) as writer:
        writer.write_table(table.combine_chunks())
    plain = sink.getvalue()
    return len(plain).to_bytes(8, "little") + bytes(pa.compress(plain, codec="zstd", asbytes=True))


def from_ipc(data: bytes | memoryview) -> pa.Table:
    packed = pa.py_buffer(data)
    plain = pa.decompress(packed.slice(8), int.from_bytes(packed.slice(0, 8).to_pybytes(), "little"), codec="zstd")
    return pa.ipc.open_stream(plain).read_all()


def _write_parquet(table: pa.Table) -> bytes:
    sink = pa.BufferOutputStream()
    names = [name for name in table.column_names if name not in _PLAIN]
    pq.write_table(
        table,
        sink,
        compression="zstd",
        compression_level=3,
        use_dictionary=names,
        write_statistics=False,
        column_encoding={name: "DELTA_BINARY_PACKED" for name in ("start", "duration") if name in table.column_names},
        store_schema=True,
    )
    return sink.getvalue().to_pybytes()


def _trace_starts(table: pa.Table) -> np.ndarray:
    """For rows grouped by trace: the earliest start of the row's trace."""
    trace, start = spans.ids(table["trace_id"], 16), spans.numbers(table["start"])
    new = np.r_[True, (trace[1:] != trace[:-1]).any(axis=1)]
    return np.minimum.reduceat(start, np.flatnonzero(new))[np.cumsum(new) - 1]


def make_span_blocks(table: pa.Table, parent: np.ndarray, level: int) -> list[Block]:
    """Blocks of a deduplicated table with its parent rows: one an hour in which traces began, whole traces in each."""
    hours = _trace_starts(table) // HOUR_NS  # never falling: that is the order of a deduplicated table
    bounds = [0, *(np.flatnonzero(np.diff(hours)) + 1), len(hours)]
    blocks = []
    for begin, end in itertools.pairwise(bounds):
        for first in range(begin, end, MAX_ROWS):
            last = min(first + MAX_ROWS, end)
            blocks.append(_span_block(table.slice(first, last - first), parent[first:last] - first, int(hours[begin]) * HOUR_NS, level))
    return blocks


def _span_block(table: pa.Table, parent: np.ndarray, hour: int, level: int) -> Block:
    inside = (parent >= 0) & (parent < table.num_rows)  # a huge trace is cut: its parents may lie in another block
    stored = table.set_column(
        table.schema.get_field_index("parent_id"),
        "parent_id",
        pc.if_else(pa.array(inside), pa.scalar(None, pa.binary(8)), table["parent_id"]),
    ).append_column("parent_row", pa.array((parent - np.arange(len(parent))).astype(np.int32), mask=~inside))
    data = _write_parquet(stored)
    start, duration = spans.numbers(table["start"]), spans.numbers(table["duration"])
    trace = spans.ids(table["trace_id"], 16)
    traces = trace[np.r_[True, (trace[1:] != trace[:-1]).any(axis=1)]]  # rows of a trace lie together
    return Block(
        stream=Stream.SPANS,
        level=level,
        hour=hour,
        time_from=int(start.min()),
        time_to=int((start + duration).max()),
        rows=table.num_rows,
        size=len(data),
        services=sorted(set(table["service"].to_pylist()))[:2000],
        trace_filter=bloom.build(traces),
        data=data,
    )


def make_cell_blocks(table: pa.Table, level: int) -> list[Block]:
    hours = spans.numbers(table["minute"]) // HOUR_NS
    blocks = []
    for hour in np.unique(hours):
        part = table.take(pa.array(np.flatnonzero(hours == hour)))
        minutes = spans.numbers(part["minute"])
        data = _write_parquet(part)
        blocks.append(
            Block(
                stream=Stream.CELLS,
                level=level,
                hour=int(hour) * HOUR_NS,
                time_from=int(minutes.min()),
                time_to=int(minutes.max()) + 60 * 10**9,
                rows=part.num_rows,
                size=len(data),
                services=sorted(set(part["service"].to_pylist()))[:2000],
                data=data,
            )
        )
    return blocks


def _read_parquet(data: bytes | memoryview, columns: Sequence[str] | None) -> pa.Table:
    """Rows of a block with parent ids restored; a wanted column that the block lacks is left out."""
    file = pq.ParquetFile(pa.py_buffer(data))
    names = file.schema_arrow.names
    wanted = names if columns is None else [name for name in names if name in columns]
    if columns is not None and "parent_id" in columns and "parent_row" in names:
        wanted = list(dict.fromkeys([*wanted, "span_id", "parent_row"]))
    table = file.read(columns=wanted)
    if "parent_row" in table.column_names:
        table = _with_parent_ids(table)
    return table


def _with_parent_ids(table: pa.Table) -> pa.Table:
    offset = table["parent_row"].combine_chunks()
    known = offset.is_valid().to_numpy(zero_copy_only=False)
    parent = offset.fill_null(0).to_numpy(zero_copy_only=False) + np.arange(table.num_rows)
    restored = table["span_id"].combine_chunks().take(pa.array(parent, mask=~known))
    merged = pc.coalesce(restored, table["parent_id"].combine_chunks())
    return table.drop_columns(["parent_row"]).set_column(table.schema.get_field_index("parent_id"), "parent_id", merged)


class _Cache:
    """Tables by (block, columns), least recently used out first. Blocks never change, so nothing goes stale."""

    def __init__(self, limit: int) -> None:
        self._limit, self._held = limit, 0
        self._tables: OrderedDict[tuple[int, tuple[str, ...] | None], pa.Table] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: tuple[int, tuple[str, ...] | None]) -> pa.Table | None:
        with self._lock:
            table = self._tables.get(key)
            if table is not None:
                self._tables.move_to_end(key)
            return table

    def put(self, key: tuple[int, tuple[str, ...] | None], table: pa.Table) -> None:
        with self._lock:
            if key in self._tables or table.nbytes > self._limit // 4:
                return
            self._tables[key] = table
            self._held += table.nbytes
            while self._held > self._limit:
                _, dropped = self._tables.popitem(last=False)
                self._held -= dropped.nbytes


_cache = _Cache(CACHE_BYTES)


def read(found: QuerySet[Block], columns: Sequence[str] | None = None) -> list[pa.Table]:
    """The tables of the blocks, in order of id. Blocks that a merge took away meanwhile are left out:
    the caller reads in one snapshot where that matters (see reading.py)."""
    key = None if columns is None else tuple(sorted(columns))
    tables: dict[int, pa.Table] = {}
    absent = []
    for block in found.values_list("id", flat=True):
        table = _cache.get((block, key))
        if table is None:
            absent.append(block)
        else:
            tables[block] = table
    for block, data in _fetch(absent):
        tables[block] = _read_parquet(data, columns)
        _cache.put((block, key), tables[block])
    return [tables[block] for block in sorted(tables)]


def _fetch(wanted: list[int]) -> Iterable[tuple[int, bytes]]:
    """Block bytes in binary form: PostgreSQL's text form of bytes is six times slower to read."""
    for start in range(0, len(wanted), 8):
        query = Block.objects.filter(id__in=wanted[start : start + 8]).values_list("id", "data").query
        sql, parameters = query.sql_with_params()
        connection.ensure_connection()
        # Django's own cursors bind on the client, which rules binary results out.
        with psycopg.Cursor(connection.connection) as cursor:
            yield from cursor.execute(sql, parameters, binary=True).fetchall()
