"""From lists of key/value pairs to a column per key, without a loop over records."""

from __future__ import annotations

import base64
import json
import math
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from google.protobuf.message import DecodeError, Message
from opentelemetry.proto.common.v1.common_pb2 import AnyValue

from wirbel.core.errors import MalformedTelemetry, TooMuchTelemetry
from wirbel.core.signals.conventions import CURRENT_NAME

MOST_INSIDE = 10_000  # attributes of one record, or values in one of them
MOST_KEYS = 1_000  # attributes of the data points of one request that are told apart
TOO_MANY_INSIDE = f"a record or value of the request holds more than {MOST_INSIDE} attributes or values"
_FIELDS = (
    ("s", "string_value"),
    ("i", "int_value"),
    ("f", "double_value"),
    ("b", "bool_value"),
    ("j", "array_value"),
    ("j", "kvlist_value"),
    ("x", "bytes_value"),
)


def plain_value(value: AnyValue) -> Any:
    """An OTLP value as plain Python; bytes as base64 text, not-a-number and infinities as text."""
    kind = value.WhichOneof("value")
    if kind is None:
        return None
    if kind == "array_value":
        return [plain_value(item) for item in value.array_value.values]
    if kind == "kvlist_value":
        return {item.key: plain_value(item.value) for item in value.kvlist_value.values}
    if kind == "bytes_value":
        return base64.b64encode(value.bytes_value).decode()
    if kind == "double_value" and not math.isfinite(value.double_value):
        return str(value.double_value)
    return getattr(value, kind)


def parse_into(message: Message, data: bytes | None) -> Message:
    """A nested value from its own bytes, which the fast decoder leaves alone. Raises MalformedTelemetry."""
    try:
        message.ParseFromString(data or b"")
    except DecodeError as error:
        raise MalformedTelemetry(f"a nested value cannot be read: {error}") from error
    return message


def any_value(value: Any) -> AnyValue:
    """The reverse of :func:`plain_value` for what JSON can say, and bytes."""
    if isinstance(value, bool):
        return AnyValue(bool_value=value)
    if isinstance(value, int):
        return AnyValue(int_value=value)
    if isinstance(value, float):
        return AnyValue(double_value=value)
    if isinstance(value, bytes):
        return AnyValue(bytes_value=value)
    made = AnyValue()
    if isinstance(value, list):
        made.array_value.values.extend(any_value(item) for item in value)
    elif isinstance(value, dict):
        for key, item in value.items():
            made.kvlist_value.values.add(key=key, value=any_value(item))
    elif value is not None:
        made.string_value = str(value)
    return made


def _check_inside(lists: pa.ListArray) -> None:
    """Raises TooMuchTelemetry where one list is too long."""
    if (pc.max(lists.value_lengths()).as_py() or 0) > MOST_INSIDE:
        raise TooMuchTelemetry(TOO_MANY_INSIDE)


def _json_values(values: pa.StructArray) -> pa.Array:
    """List and map values as JSON text; rare, so decoded one by one from their own bytes."""
    out: list[str | None] = [None] * len(values)
    for field in ("array_value", "kvlist_value"):
        nested = values.field(field)
        _check_inside(nested.field("values"))
        for row in np.flatnonzero(nested.is_valid().to_numpy(zero_copy_only=False)):
            parts = nested[int(row)].as_py()["values"]
            if field == "array_value":
                plain: Any = [plain_value(parse_into(AnyValue(), part)) for part in parts]
            else:
                made = AnyValue()
                for part in parts:
                    parse_into(made.kvlist_value.values.add(), part)
                plain = plain_value(made)
            out[row] = json.dumps(plain, ensure_ascii=False)
    return pa.array(out, pa.string())


@dataclass(frozen=True)
class Pivoted:
    """A column per (type letter, key), and what did not get one as JSON text per record."""

    columns: dict[tuple[str, str], pa.Array]
    overflow: list[dict[str, Any] | None] | None


def pivot(pairs: pa.ListArray, limit: int) -> Pivoted:
    """Turns a list<KeyValue> column of ``n`` records into columns of length ``n``.

    Older attribute names become current ones; where a record has both, the current one
    wins. The ``limit`` most frequent keys get columns, the rest go to ``overflow``. Raises TooMuchTelemetry where a record has too many.
    """
    count = len(pairs)
    _check_inside(pairs)
    owner = pc.list_parent_indices(pairs).to_numpy(zero_copy_only=False)
    flat = pairs.flatten()
    if not len(flat):
        return Pivoted({}, None)
    keys = flat.field("key").dictionary_encode()
    spelled = keys.dictionary.to_pylist()
    names = [CURRENT_NAME.get(key, key) for key in spelled]
    distinct = list(dict.fromkeys(names))
    place = {name: index for index, name in enumerate(distinct)}
    to_name = np.array([place[name] for name in names])
    renamed = np.array([name != key for name, key in zip(names, spelled, strict=True)])
    code = keys.indices.to_numpy(zero_copy_only=False)

    values = flat.field("value")
    letters = np.zeros(len(flat), np.int64)
    columns_by_letter: dict[int, pa.Array] = {}
    for letter, field in _FIELDS:
        number = "sifbjx".index(letter) + 1
        letters[values.field(field).is_valid().to_numpy(zero_copy_only=False)] = number
        if letter != "j":
            columns_by_letter[number] = values.field(field)
    if (letters == 5).any():
        columns_by_letter[5] = _json_values(values)

    group = np.where(letters > 0, to_name[code] * 8 + letters, -1)
    # Renamed pairs first, so that the current spelling overwrites them below.
    order = np.lexsort((~renamed[code], group))
    order = order[group[order] >= 0]
    if not len(order):  # keys without values
        return Pivoted({}, None)
    starts = np.flatnonzero(np.r_[True, np.diff(group[order]) != 0])
    slices = [order[a:b] for a, b in zip(starts, np.r_[starts[1:], len(order)], strict=True)]
    slices.sort(key=len, reverse=True)
    columns: dict[tuple[str, str], pa.Array] = {}
    for rows in slices[:limit]:
        name_index, number = divmod(int(group[rows[0]]), 8)
        source = np.full(count, -1, np.int64)
        source[owner[rows]] = rows
        taken = columns_by_letter[number].take(pa.array(source, mask=source < 0))
        columns[("sifbjx"[number - 1], distinct[name_index])] = taken
    overflow: list[dict[str, Any] | None] | None = None
    if len(slices) > limit:
        overflow = [None] * count
        for rows in slices[limit:]:
            name_index, number = divmod(int(group[rows[0]]), 8)
            for record, value in zip(owner[rows].tolist(), columns_by_letter[number].take(pa.array(rows)).to_pylist(), strict=True):
                overflow[record] = held = overflow[record] or {}
                held[distinct[name_index]] = json.loads(value) if number == 5 else base64.b64encode(value).decode() if number == 6 else value
    return Pivoted(columns, overflow)


def as_json(pairs: pa.ListArray, without: frozenset[str] = frozenset()) -> pa.Array:
    """Each record's pairs as JSON text with sorted keys, so that equal attributes are equal text.

    Keys in ``without`` are left out. Equal sets are written once.
    """
    columns = [(letter, key, values) for (letter, key), values in pivot(pairs, MOST_KEYS).columns.items() if key not in without]
    number = np.zeros(len(pairs), np.int64)
    for _, _, values in columns:
        encoded = values.dictionary_encode()
        code = encoded.indices.fill_null(-1).to_numpy(zero_copy_only=False).astype(np.int64)
        _, number = np.unique(number * (len(encoded.dictionary) + 1) + code + 1, return_inverse=True)
    _, first, number = np.unique(number, return_index=True, return_inverse=True)
    written: list[dict[str, Any]] = [{} for _ in first]
    for letter, key, values in columns:
        for record, value in zip(written, values.take(pa.array(first)).to_pylist(), strict=True):
            if value is not None:
                record[key] = _jsonable(letter, value)
    texts = [json.dumps(record, sort_keys=True, ensure_ascii=False) for record in written]
    return pa.array(texts, pa.string()).take(pa.array(number))


def _jsonable(letter: str, value: Any) -> Any:
    if letter == "j":
        return json.loads(value)
    if letter == "x":
        return base64.b64encode(value).decode()
    return str(value) if letter == "f" and not math.isfinite(value) else value


def plain_dict(text: str | None) -> dict[str, Any]:
    """Attributes written by :func:`as_json`."""
    return json.loads(text) if text else {}
