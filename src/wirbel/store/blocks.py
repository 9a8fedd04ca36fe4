"""Block bytes: Arrow tables to Parquet and back, and a cache of what was read.

Only this module knows how bytes in the database become rows.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Hashable, Iterable, Iterator, Sequence
from functools import partial
from typing import Any, Generic, TypeVar

import cachetools
import numpy as np
import psycopg
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq
from django.core.exceptions import EmptyResultSet
from django.db import connection
from django.db.models import QuerySet

from wirbel.core import arrow, words
from wirbel.core.topology.parents import parent_rows
from wirbel.store import bloom
from wirbel.store.models import Block, Stream
from wirbel.store.streams import LAYOUTS, PERIODS_NS, SUMMARY_STEPS, Layout

IDENTITY = ("trace_id", "span_id", "start")  # what tells a span, and orders it
MAX_ROWS = 250_000  # of one block: about 10 MB of spans
GROUP_ROWS = 32_768  # of a part of a block that can be read by itself
MOST_SERVICES = 2_000  # named in a block; one with more is opened for any service
PARQUET_STREAM = b"wirbel.stream"  # in an exported file's metadata: how a loader knows what it holds
CACHE_BYTES = 96 * 2**20
BRIEF_CACHE_BYTES = 48 * 2**20  # of what is kept in brief: of a thousand services all that their Overview and the page of each take
CACHE_ROWS = 4_000_000  # of one question: the tables of more are not kept
WHOLE_ROWS = 1_000_000  # of one question about some services: of more, only their parts of blocks are read


def to_ipc(table: pa.Table) -> bytes:
    """Arrow IPC, compressed as a whole: a small request has many tiny buffers, slow to unpack one by one."""
    if table.get_total_buffer_size() > 2 * table.nbytes:  # part of a larger table: Arrow would write all of what nested columns share
        table = table.take(pa.array(np.arange(table.num_rows)))
    sink = pa.BufferOutputStream()
    with pa.ipc.new_stream(sink, table.schema) as writer:
        writer.write_table(table.combine_chunks())
    plain = sink.getvalue()
    return len(plain).to_bytes(8, "little") + bytes(pa.compress(plain, codec="zstd", asbytes=True))


def from_ipc(data: bytes | memoryview) -> pa.Table:
    packed = pa.py_buffer(data)
    plain = pa.decompress(packed.slice(8), int.from_bytes(packed.slice(0, 8).to_pybytes(), "little"), codec="zstd")
    return pa.ipc.open_stream(plain).read_all()


def _write_brief(table: pa.Table) -> bytes:
    """Arrow IPC in which each column can be read by itself."""
    sink, narrow = pa.BufferOutputStream(), arrow.narrowed(table)
    with pa.ipc.new_file(sink, narrow.schema, options=pa.ipc.IpcWriteOptions(compression="zstd")) as writer:
        writer.write_table(narrow.combine_chunks())
    return sink.getvalue().to_pybytes()


def _read_brief(data: bytes | memoryview, columns: Sequence[str] | None) -> pa.Table:
    names = pa.ipc.open_file(pa.py_buffer(data)).schema.names
    fields = None if columns is None else [place for place, name in enumerate(names) if name in columns]
    return pa.ipc.open_file(pa.py_buffer(data), options=pa.ipc.IpcReadOptions(included_fields=fields)).read_all()


def _briefs_of(table: pa.Table, layout: Layout) -> tuple[bytes | None, bytes | None]:
    """What is kept in brief of a block, and the rest of that."""
    if layout.brief is None:
        return None, None
    brief = layout.brief(table)
    return _write_brief(brief.drop_columns(list(layout.brief_rest))), _write_brief(brief.select(list(layout.brief_rest)))


def _write_parquet(table: pa.Table, layout: Layout, fresh: bool) -> bytes:
    sink = pa.BufferOutputStream()
    pq.write_table(
        table,
        sink,
        compression="zstd",
        compression_level=1 if fresh else 3,  # a fresh block is soon written anew
        use_dictionary=[name for name in table.column_names if name not in layout.plain],
        write_statistics=[layout.uncut] if layout.uncut else False,
        column_encoding={name: "DELTA_BINARY_PACKED" for name in layout.steady},
        store_schema=True,
        row_group_size=MAX_ROWS if fresh else GROUP_ROWS,
    )
    return sink.getvalue().to_pybytes()


def with_summaries(stream: str, table: pa.Table, level: int) -> list[Block]:
    """Blocks of records and of their summaries, where the stream has any. Each record comes here once."""
    summarise = LAYOUTS[stream].summarise
    made = make(stream, table, level)
    if summarise:
        for step in SUMMARY_STEPS:
            made += make(stream, summarise(table, step * 10**9), level, step)
    return made


def make(stream: str, table: pa.Table, level: int, step: int = 0, thinned: bool = False, period: int | None = None) -> list[Block]:
    """Blocks of a combined table: one for each environment and period (ns; by default that of the step), or several if there are too many rows.

    Spans carry ``parent_row`` (see :func:`with_parent_rows`), which stays true in any slice.
    """
    if not table.num_rows:
        return []
    layout, period = LAYOUTS[stream], period or PERIODS_NS[step]
    hour = layout.belongs(table) // period
    environment, names = arrow.codes(table["environment"])
    made = []
    first_hour = int(hour.min())
    width = int(hour.max()) - first_hour + 1
    group, member = np.unique(environment * width + hour - first_hour, return_inverse=True)
    for number, key in enumerate(group.tolist()):
        code, start = key // width, key % width + first_hour
        rows = np.flatnonzero(member == number)
        part = table.slice(int(rows[0]), len(rows))
        if rows[-1] - rows[0] + 1 != len(rows):  # not side by side
            part = table.take(pa.array(rows))
            part = with_parent_rows(part) if stream == Stream.SPANS else part
        for piece in _pieces(part, layout):
            block = _block(stream, layout, piece, names[code], start * period, level)
            block.step, block.thinned = step, thinned
            if step:  # a stretch lasts
                block.time_to += step * 10**9
            made.append(block)
    return made


def _pieces(table: pa.Table, layout: Layout) -> Iterator[pa.Table]:
    """Slices of as many rows as a block may have; a little less where that would cut what stays together."""
    starts = np.r_[0, np.flatnonzero(np.diff(arrow.codes(table[layout.uncut])[0])) + 1] if layout.uncut else np.zeros(1, np.int64)
    first = 0
    while first < table.num_rows:
        last = first + MAX_ROWS
        if last < table.num_rows:
            whole = int(starts[np.searchsorted(starts, last, side="right") - 1])
            last = whole if whole > first else last
        yield table.slice(first, last - first)
        first = last


def _block(stream: str, layout: Layout, table: pa.Table, environment: str, hour: int, level: int) -> Block:
    services = sorted(table["service"].unique().to_pylist())
    brief, rest = _briefs_of(table, layout)
    data = _write_parquet(_without_known_parents(table) if stream == Stream.SPANS else table, layout, fresh=level == 0)
    return Block(
        stream=stream,
        environment=environment,
        level=level,
        hour=hour,
        time_from=int(layout.begins(table).min()),
        time_to=int(layout.ends(table).max()),
        rows=table.num_rows,
        size=len(data) + len(brief or b"") + len(rest or b""),
        services=services if len(services) <= MOST_SERVICES else [],
        trace_filter=_trace_filter(table) if "trace_id" in table.column_names else None,
        # A fresh block is soon merged, and packing must not wait for what few ask.
        word_filter=bloom.build(words.distinct(table["body"])) if stream == Stream.LOGS and level else None,
        brief=brief,
        brief_rest=rest,
        data=data,
    )


def _trace_filter(table: pa.Table) -> bytes:
    trace = arrow.ids(table["trace_id"], 16)
    changes = np.r_[True, (trace[1:] != trace[:-1]).any(axis=1)]  # rows of a trace mostly lie together
    trace = trace[changes]
    return bloom.build(trace[trace.any(axis=1)])


def with_parent_rows(table: pa.Table) -> pa.Table:
    """Spans with the distance in rows to each one's parent, null where the parent is not in the table."""
    parent = parent_rows(table)
    column = pa.array((parent - np.arange(len(parent))).astype(np.int32), mask=parent < 0)
    if "parent_row" in table.column_names:
        table = table.drop_columns(["parent_row"])
    return table.append_column("parent_row", column)


def _without_known_parents(table: pa.Table) -> pa.Table:
    """Parent ids are kept only where the row does not say it: they do not compress."""
    offset = table["parent_row"]
    parent = offset.fill_null(0).to_numpy() + np.arange(table.num_rows)
    inside = offset.is_valid().to_numpy() & (parent >= 0) & (parent < table.num_rows)  # a huge trace is cut
    kept = pc.if_else(pa.array(inside), pa.scalar(None, pa.binary(8)), table["parent_id"])
    table = table.set_column(table.schema.get_field_index("parent_id"), "parent_id", kept)
    return table.set_column(table.schema.get_field_index("parent_row"), "parent_row", pc.if_else(pa.array(inside), offset, None))


def _read_parquet(data: bytes | memoryview, columns: Sequence[str] | None, encoded: bool = False, services: Sequence[str] | None = None) -> pa.Table:
    """Rows of a block with parent ids restored; a wanted column that the block lacks is left out. Texts ``encoded`` as a dictionary, if asked.

    Parts that are known to hold none of ``services`` are left out.
    """
    file = pq.ParquetFile(pa.py_buffer(data))
    names = file.schema_arrow.names
    if encoded:
        texts = [field.name for field in file.schema_arrow if pa.types.is_string(field.type)]
        file = pq.ParquetFile(pa.py_buffer(data), metadata=file.metadata, read_dictionary=texts)
    groups = list(range(file.num_row_groups)) if services is None else _groups_of(file.metadata, services)
    if columns is None:
        table = file.read_row_groups(groups)
        return _with_parent_ids(table) if "parent_row" in names else table
    wanted = [name for name in names if name in columns]
    if "parent_row" in names and not {"parent_id", "is_root"}.isdisjoint(columns):
        ids = ["parent_id", "span_id"] if "parent_id" in columns else ["parent_id"]
        wanted = list(dict.fromkeys([*wanted, *ids, "parent_row"]))
    table = file.read_row_groups(groups, columns=wanted)
    if "is_root" in columns:
        table = table.append_column("is_root", pc.and_(pc.is_null(table["parent_row"]), pc.is_null(table["parent_id"])))
    if "parent_id" in columns and "parent_row" in names:
        table = _with_parent_ids(table)
    return table.select([name for name in table.column_names if name in columns])


def _groups_of(found: pq.FileMetaData, services: Sequence[str]) -> list[int]:
    """Parts of a block that may hold one of some services, by their first and last name; all where these are not known."""
    place = next(i for i in range(found.num_columns) if found.schema.column(i).path == "service")

    def may_hold(group: int) -> bool:
        known = found.row_group(group).column(place).statistics
        return known is None or not known.has_min_max or any(known.min <= service <= known.max for service in services)

    return [group for group in range(found.num_row_groups) if may_hold(group)]


def _with_parent_ids(table: pa.Table) -> pa.Table:
    offset = table["parent_row"].combine_chunks()
    known = offset.is_valid().to_numpy(zero_copy_only=False)
    parent = offset.fill_null(0).to_numpy(zero_copy_only=False) + np.arange(table.num_rows)
    known &= (parent >= 0) & (parent < table.num_rows)  # of a part of a block, other traces' parents may lie outside
    restored = table["span_id"].combine_chunks().take(pa.array(parent, mask=~known))
    merged = pc.coalesce(restored, table["parent_id"].combine_chunks())
    return table.drop_columns(["parent_row"]).set_column(table.schema.get_field_index("parent_id"), "parent_id", merged)


K = TypeVar("K", bound=Hashable)
V = TypeVar("V")


class Cache(Generic[K, V]):
    """Things with ``nbytes``, least recently used out first, for several threads. Blocks never change, so nothing goes stale."""

    def __init__(self, limit: int) -> None:
        self._things: cachetools.LRUCache[K, V] = cachetools.LRUCache(limit, getsizeof=_size)
        self._lock = threading.Lock()

    def get(self, key: K) -> V | None:
        with self._lock:
            return self._things.get(key)

    def put(self, key: K, thing: V) -> None:
        """Left out if it alone would take a quarter of the room."""
        if _size(thing) <= self._things.maxsize // 4:
            with self._lock:
                self._things[key] = thing


def _size(thing: Any) -> int:
    return int(thing.nbytes) + 500  # and what Python takes for it


Key = tuple[Any, ...]
_cache: Cache[Key, pa.Table] = Cache(CACHE_BYTES)
_briefs: Cache[Key, pa.Table] = Cache(BRIEF_CACHE_BYTES)
_REST = {name for layout in LAYOUTS.values() for name in layout.brief_rest}


Load = Callable[[], pa.Table]
Change = Callable[[pa.Table], pa.Table]


def _same(table: pa.Table) -> pa.Table:
    return table


def loaders(
    wanted: Sequence[int], columns: tuple[str, ...] | None, keep: bool, encoded: bool = False, services: tuple[str, ...] | None = None
) -> Iterator[tuple[int, Load]]:
    """For each block, something that makes its table, in any thread; the bytes are fetched here, as it is iterated. Of ``services``, no more than their parts of it.

    ``encoded`` texts (a dictionary and codes) take half the time and memory to read, where few rows are kept of them. ``keep`` the tables for the next question: not when there are so many that they would only push each other out.
    Blocks that a merge took away meanwhile are left out: the caller reads in one snapshot where that matters.
    """

    def read(absent: list[int]) -> Iterator[tuple[int, Load]]:
        for block, data in _fetch(absent, "data"):
            yield block, partial(_read_parquet, data, columns, encoded, services)

    return _cached(_cache, wanted, (columns, encoded, services), read, keep)


def brief_loaders(wanted: Sequence[int], columns: tuple[str, ...] | None) -> Iterator[tuple[int, Load]]:
    """The same as :func:`loaders`, of what is kept of each block in brief, always for the next question too; that of a block from before this was kept is made."""

    def read(absent: list[int]) -> Iterator[tuple[int, Load]]:
        older = []
        wants_rest = columns is None or not _REST.isdisjoint(columns)
        for block, *parts in _fetch(absent, *(("brief", "brief_rest") if wants_rest else ("brief",))):
            if parts[0] is None:
                older.append(block)
            else:
                yield block, partial(_join_brief, parts, columns)
        for block, stream, data in _fetch(older, "stream", "data"):
            yield block, partial(_make_brief, stream, data, columns)

    return _cached(_briefs, wanted, (columns,), read, keep=True, pack=arrow.packed, unpack=arrow.unpacked)


def _join_brief(parts: Sequence[bytes | memoryview], columns: Sequence[str] | None) -> pa.Table:
    tables = [_read_brief(part, columns) for part in parts]
    return pa.table({name: table[name] for table in tables for name in table.column_names})


def _make_brief(stream: str, data: bytes | memoryview, columns: Sequence[str] | None) -> pa.Table:
    brief = LAYOUTS[stream].brief
    assert brief is not None
    made = brief(_read_parquet(data, None))
    return made if columns is None else made.select([name for name in made.column_names if name in columns])


def _cached(
    cache: Cache[Key, pa.Table],
    wanted: Sequence[int],
    how: Key,
    read: Callable[[list[int]], Iterator[tuple[int, Load]]],
    keep: bool,
    pack: Change = _same,
    unpack: Change = _same,
) -> Iterator[tuple[int, Load]]:
    """Tables of blocks: those that were read so before, then what ``read`` gives of the others. They are kept as ``pack`` makes them."""
    absent = []
    for block in wanted:
        table = cache.get((block, *how))
        if table is None:
            absent.append(block)
        else:
            yield block, partial(unpack, table)

    def load(block: int, make: Load) -> pa.Table:
        table = make()
        if keep:
            cache.put((block, *how), pack(table))
        return table

    for block, make in read(absent):
        yield block, partial(load, block, make)


def read(found: QuerySet[Block], columns: Sequence[str] | None = None) -> list[pa.Table]:
    """The tables of the blocks, in order of id."""
    key = None if columns is None else tuple(sorted(columns))
    tables = {block: load() for block, load in loaders(list(found.values_list("id", flat=True)), key, keep=True)}
    return [tables[block] for block in sorted(tables)]


def traces_in(wanted: Sequence[int], trace: bytes) -> list[pa.Table]:
    """All spans of one trace in some blocks. Only the parts of a block are read that hold the trace."""
    found = []
    for _, data in _fetch(wanted, "data"):
        file = pq.ParquetFile(pa.py_buffer(data))
        target = pa.scalar(trace, pa.binary(16))
        groups = [
            number for number in range(file.num_row_groups) if pc.any(pc.equal(file.read_row_group(number, columns=["trace_id"])["trace_id"], target)).as_py()
        ]
        if groups:
            table = _with_parent_ids(file.read_row_groups(groups))
            found.append(table.filter(pc.equal(table["trace_id"], target)))
    return found


def _fetch(wanted: Sequence[int], *fields: str) -> Iterable[tuple[Any, ...]]:
    for start in range(0, len(wanted), 8):
        yield from in_binary(Block.objects.filter(id__in=wanted[start : start + 8]).values_list("id", *fields))


def in_binary(query: QuerySet[Any, Any]) -> Iterable[tuple[Any, ...]]:
    """Rows of a query in binary form: PostgreSQL's text form of bytes is six times slower to read."""
    try:
        sql, parameters = query.query.sql_with_params()
    except EmptyResultSet:  # one of no names, for example
        return
    connection.ensure_connection()
    # Django's own cursors bind on the client, which rules binary results out.
    with psycopg.Cursor(connection.connection) as cursor:
        yield from cursor.execute(sql, parameters, binary=True).fetchall()
