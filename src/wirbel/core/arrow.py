"""Columns of telemetry tables: names of attribute columns, and Arrow to NumPy and back.

Attributes have a column each, named ``<level>.<type>:<key>`` with level ``span``, ``log`` or
``resource`` and a one-letter type, so that one key sent with several types keeps each
value's type. Keys beyond :data:`MAX_ATTRIBUTE_COLUMNS` go to the JSON column ``overflow``.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

LEVELS = ("span", "log", "resource")
TYPE_LETTERS = {"s": pa.string(), "i": pa.int64(), "f": pa.float64(), "b": pa.bool_(), "j": pa.string(), "x": pa.binary()}
"""Letters of attribute columns: string, integer, float, boolean, JSON (lists, maps), bytes."""

PROMOTED_RESOURCE = {
    "service.name": "service",
    "service.version": "version",
    "service.instance.id": "instance",
    "host.name": "host",
    "deployment.environment.name": "environment",
}
"""Resource attributes that have a column of their own, and so no attribute column."""

LONGEST_NAME = 200  # characters of a service, host, peer or metric name that are kept
MAX_ATTRIBUTE_COLUMNS = 160
DEFAULT_ENVIRONMENT = "default"
UNKNOWN_SERVICE = "unknown_service"


def attribute_column(level: str, letter: str, key: str) -> str:
    """The name of an attribute's column: see :func:`split_attribute_column` for the reverse."""
    return f"{level}.{letter}:{key}"


def is_attribute_column(name: str) -> bool:
    """Whether a column holds an attribute."""
    level, _, rest = name.partition(".")
    return level in LEVELS and rest[1:2] == ":" and rest[:1] in TYPE_LETTERS


def split_attribute_column(name: str) -> tuple[str, str, str]:
    """``span.i:http.response.status_code`` → ``("span", "i", "http.response.status_code")``."""
    level, _, rest = name.partition(".")
    return level, rest[0], rest[2:]


def conform(table: pa.Table, schema: pa.Schema) -> pa.Table:
    """Adds the columns of ``schema`` that ``table`` lacks, as nulls, and puts columns in order, attributes last. Encoded texts stay encoded."""
    held = dict(zip(table.column_names, table.columns, strict=True))
    columns: dict[str, pa.ChunkedArray | pa.Array] = {}
    for field in schema:
        column = held.get(field.name)
        if column is None:
            columns[field.name] = pa.nulls(table.num_rows, field.type)
        else:
            columns[field.name] = column if column.type == field.type or (field.type, column.type) == (pa.string(), ENCODED) else column.cast(field.type)
    columns |= {name: held[name] for name in sorted(held) if is_attribute_column(name)}
    return pa.table(columns)


def concat(tables: list[pa.Table], schema: pa.Schema) -> pa.Table:
    """One table of all rows; an attribute column missing in a part is null there. Of nothing: an empty one of ``schema``."""
    kept = [table for table in tables if table.num_rows]
    return pa.concat_tables(kept, promote_options="default") if kept else schema.empty_table()


def in_order(table: pa.Table, order: npt.NDArray[np.int64]) -> pa.Table:
    """Rows taken in an order. Columns of nulls only, of which there are many, are not moved about."""
    place = pa.array(order)
    columns = [pa.nulls(len(order), column.type) if column.null_count == table.num_rows else column.take(place) for column in table.columns]
    return pa.table(columns, schema=table.schema)


def columns_of(key: str) -> list[str]:
    """The columns that may hold the values of an attribute, a column of the tables or an attribute under its current name."""
    return [PROMOTED_RESOURCE.get(key, key), *(attribute_column(level, letter, key) for level in LEVELS for letter in TYPE_LETTERS)]


def values_of(table: pa.Table, key: str) -> pa.ChunkedArray:
    """An attribute of each row as text, whatever its type and level; null where a row has none. Ids and bytes have no text."""
    held = [table[name] for name in columns_of(key) if name in table.column_names]
    present = [column.cast(pa.string()) for column in held if pa.types.is_string(column.type) or pa.types.is_primitive(column.type)]
    if not present:
        return pa.chunked_array([pa.nulls(table.num_rows, pa.string())])
    return present[0] if len(present) == 1 else pc.coalesce(*present)


def codes(column: pa.ChunkedArray | pa.Array) -> tuple[npt.NDArray[np.int64], list[Any]]:
    """Dictionary codes of a column, shape (rows,), −1 for null, and the values they stand for, in the order in which they first come."""
    if isinstance(column, pa.ChunkedArray):
        column = column.unify_dictionaries().combine_chunks() if pa.types.is_dictionary(column.type) else column.combine_chunks()
    if isinstance(column, pa.ChunkedArray):  # combine_chunks of nothing
        column = pa.concat_arrays(column.chunks) if column.num_chunks else pa.array([], column.type)
    was_encoded = pa.types.is_dictionary(column.type)
    coded = column if was_encoded else column.dictionary_encode()
    indices = coded.indices.fill_null(-1).to_numpy(zero_copy_only=False).astype(np.int64)
    return _as_they_come(indices, coded.dictionary) if was_encoded else (indices, coded.dictionary.to_pylist())


def _as_they_come(codes: npt.NDArray[np.int64], dictionary: pa.Array) -> tuple[npt.NDArray[np.int64], list[Any]]:
    """Codes numbered anew in the order in which they first come, and what they stand for: a shared dictionary has more values, in any order."""
    first = np.full(len(dictionary) + 1, -1, np.int64)  # one more for null
    first[codes[::-1]] = np.arange(len(codes))[::-1]  # of several rows the last that is assigned stays: the first
    used = np.flatnonzero(first[:-1] >= 0)
    used = used[np.argsort(first[used])]
    number = np.full(len(dictionary) + 1, -1, np.int64)
    number[used] = np.arange(len(used))
    return number[codes], dictionary.take(pa.array(used)).to_pylist()


def narrowed(table: pa.Table) -> pa.Table:
    """The same with numbers of 64 bits in 32 where that changes none of them, in lists too: half as much to read."""
    columns = {name: _narrowed(table[name]) for name in table.column_names}
    return pa.table(columns)


_NARROW = {pa.int64(): pa.int32(), pa.float64(): pa.float32()}


def _narrowed(column: pa.ChunkedArray) -> pa.ChunkedArray:
    is_list = pa.types.is_list(column.type)
    narrow = _NARROW.get(column.type.value_type if is_list else column.type)
    if narrow is None:
        return column
    wide = numbers(pc.list_flatten(column) if is_list else column)
    with np.errstate(over="ignore"):
        if not (wide.astype(narrow.to_pandas_dtype()) == wide).all():
            return column
    return column.cast(pa.list_(narrow) if is_list else narrow)


def widest(tables: list[pa.Table]) -> pa.Table:
    """One table of all rows of one kind, in the first one's order of columns; some may be narrowed: see :func:`narrowed`."""
    wide = {name: max((table.schema.field(name).type for table in tables), key=_width) for name in tables[0].column_names}
    schema = pa.schema(list(wide.items()))
    return pa.concat_tables([table if table.schema.equals(schema) else table.select(schema.names).cast(schema) for table in tables])


def _width(kind: pa.DataType) -> int:
    item = kind.value_type if pa.types.is_list(kind) else kind
    return item.bit_width if pa.types.is_primitive(item) else 0


def place_in(column: pa.ChunkedArray | pa.Array, values: Sequence[str]) -> npt.NDArray[np.int64]:
    """At which place of ``values`` each text of a column (of codes, or of texts) stands, shape (rows,); −1 for none of them."""
    if not len(column):
        return np.zeros(0, np.int64)
    coded = column if pa.types.is_dictionary(column.type) else column.dictionary_encode()
    if isinstance(coded, pa.ChunkedArray):
        coded = coded.unify_dictionaries().combine_chunks()
    place = numbers(pc.index_in(coded.dictionary, value_set=pa.array(values, pa.string())).fill_null(-1)).astype(np.int64)
    return place[numbers(coded.indices)]


ENCODED = pa.dictionary(pa.int32(), pa.string())


def encoded(table: pa.Table) -> pa.Table:
    """The same with texts as codes of a dictionary, which are cheaper to move about."""
    return table.cast(pa.schema([field.with_type(ENCODED) if pa.types.is_string(field.type) else field for field in table.schema]))


def packed(table: pa.Table) -> pa.Table:
    """The same in less memory, for tables of few minutes and texts: both as codes of no more bytes than it takes. See :func:`unpacked`."""
    return pa.table({name: _packed(table[name]) for name in table.column_names})


def unpacked(table: pa.Table) -> pa.Table:
    """What was packed: whole numbers as they were, texts as :data:`ENCODED`."""
    return pa.table({name: _unpacked(table[name]) for name in table.column_names})


def _packed(column: pa.ChunkedArray) -> pa.ChunkedArray:
    if not (column.type == pa.int64() or column.type == ENCODED):
        return column
    coded = column.combine_chunks().dictionary_encode() if column.type == pa.int64() else column.unify_dictionaries().combine_chunks()
    kinds = (kind for kind in (pa.int8(), pa.int16()) if len(coded.dictionary) <= 2 ** (kind.bit_width - 1))
    return pa.chunked_array([pa.DictionaryArray.from_arrays(coded.indices.cast(next(kinds, pa.int32())), coded.dictionary)])


def _unpacked(column: pa.ChunkedArray) -> pa.ChunkedArray:
    if not pa.types.is_dictionary(column.type):
        return column
    coded = column.combine_chunks()
    if pa.types.is_integer(column.type.value_type):
        return pa.chunked_array([coded.dictionary.take(coded.indices)])
    return pa.chunked_array([pa.DictionaryArray.from_arrays(coded.indices.cast(pa.int32()), coded.dictionary)])


def decoded(values: pa.ChunkedArray | pa.Array) -> pa.ChunkedArray | pa.Array:
    """A column with texts in the place of their codes."""
    return values.cast(pa.string()) if pa.types.is_dictionary(values.type) else values


def numbers(column: pa.ChunkedArray | pa.Array) -> npt.NDArray[Any]:
    """A numeric column without nulls as a NumPy array of shape (rows,)."""
    if isinstance(column, pa.ChunkedArray):
        return column.to_numpy()
    return column.to_numpy(zero_copy_only=False)


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


def attributes_of(table: pa.Table, row: int) -> dict[str, dict[str, Any]]:
    """The attributes of one row by level, under current names and with their types."""
    found: dict[str, dict[str, Any]] = {level: {} for level in LEVELS}
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
    return found
