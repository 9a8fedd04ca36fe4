"""OTLP/JSON requests as the same nested columns that protobuf ones become, without an object for each value.

Arrow's JSON reader makes columns of the text; here each column becomes what the protobuf's field is: integers
given as text or as numbers, hexadecimal ids, enumerations, defaults for what is absent. The message's own
descriptor says what a field is. Whatever is out of the ordinary (a value of another type, not-a-number, integers beyond 64
bits, a key given twice) raises :class:`Unusual`, and Google's own reader has the last word.

Source: OpenTelemetry Protocol 1.x, "JSON Protobuf Encoding"; ProtoJSON for the rest.
"""

from __future__ import annotations

import io
from functools import cache
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from google.protobuf.descriptor import Descriptor, FieldDescriptor
from google.protobuf.json_format import ParseDict, ParseError
from opentelemetry.proto.common.v1.common_pb2 import AnyValue
from pyarrow import json as pa_json

_IDS = frozenset({"trace_id", "span_id", "parent_span_id"})
_NESTED_VALUES = frozenset({"ArrayValue", "KeyValueList"})
_BLOCK_BYTES = 1 << 20  # that a thread of the reader takes; a request must fit into one
_HEX = np.full(256, 255, np.uint8)
_HEX[np.frombuffer(b"0123456789", np.uint8)] = np.arange(10)
_HEX[np.frombuffer(b"abcdef", np.uint8)] = np.arange(10, 16)
_HEX[np.frombuffer(b"ABCDEF", np.uint8)] = np.arange(10, 16)


class Unusual(Exception):
    """The text is not what this reader is for; another one may read it."""


def read(message: Descriptor, target: pa.Schema, bodies: list[bytes]) -> pa.RecordBatch:
    """Requests as one row each of ``target``, which is the schema of the protobuf reader. Raises Unusual."""
    try:
        for body in bodies:
            body.decode()
            if not body.lstrip().startswith(b"{"):
                raise Unusual
        text = b"\n".join(bodies)
        table = pa_json.read_json(
            io.BytesIO(text),
            read_options=pa_json.ReadOptions(block_size=max(_BLOCK_BYTES, *(len(body) + 2 for body in bodies))),
            parse_options=pa_json.ParseOptions(explicit_schema=_as_text(message), newlines_in_values=True, unexpected_field_behavior="infer"),
        )
        if table.num_rows != len(bodies):
            raise Unusual
        given = pa.StructArray.from_arrays([_whole(column) for column in table.columns], names=table.column_names) if table.num_columns else None
        made = _message(given, message, pa.struct(list(target)), len(bodies))
        return pa.RecordBatch.from_struct_array(made).cast(target) if made.type != pa.struct(list(target)) else pa.RecordBatch.from_struct_array(made)
    except (pa.ArrowException, UnicodeDecodeError, ParseError, ValueError, TypeError, OverflowError) as error:
        raise Unusual from error


def _whole(column: pa.ChunkedArray) -> pa.Array:
    joined = column.combine_chunks()
    return joined if isinstance(joined, pa.Array) else pa.concat_arrays(joined.chunks)


@cache
def _as_text(message: Descriptor, depth: int = 0) -> pa.Schema:
    """Fields whose text is text: told to the reader, because it takes what looks like a time for one. The others are as they are found."""
    return pa.schema([field for field in map(_text_field, message.fields) if field is not None])


def _text_field(field: FieldDescriptor) -> pa.Field | None:
    if field.type in (FieldDescriptor.TYPE_STRING, FieldDescriptor.TYPE_BYTES):
        kind: pa.DataType = pa.string()
    elif field.type == FieldDescriptor.TYPE_MESSAGE and field.message_type.name not in _NESTED_VALUES:
        inner = _as_text(field.message_type)
        if not len(inner):
            return None
        kind = pa.struct(list(inner))
    else:
        return None
    return pa.field(field.json_name, pa.list_(kind) if field.is_repeated else kind)


def _message(given: pa.StructArray | None, message: Descriptor, target: pa.StructType, count: int) -> pa.StructArray:
    """A struct of the target's fields from one with the JSON's names; what is absent has its default."""
    held = {} if given is None else {field.name: given.field(number) for number, field in enumerate(given.type)}
    if given is not None and given.null_count:  # children of absent structs are not null by themselves
        absent = given.is_null()
        held = {name: _without(values, absent) for name, values in held.items()}
    named = set(held) & {field.name for field in message.fields if field.name != field.json_name}
    if named:  # the protocol's own names are allowed too; nobody is known to send them
        raise Unusual
    columns = [_field(held.get(message.fields_by_name[wanted.name].json_name), message.fields_by_name[wanted.name], wanted, count) for wanted in target]
    for oneof in message.oneofs:
        given_of = [held[field.json_name].is_valid() for field in oneof.fields if field.json_name in held]
        if len(given_of) > 1 and int(np.sum([np.asarray(one) for one in given_of], axis=0).max(initial=0)) > 1:
            raise Unusual
    return pa.StructArray.from_arrays(columns, fields=list(target), mask=None if given is None or not given.null_count else given.is_null())


def _without(values: pa.Array, absent: pa.BooleanArray) -> pa.Array:
    """Values with null where ``absent`` is true. A list that is empty there already says nothing, and is not copied."""
    if pa.types.is_list(values.type):
        lengths = values.value_lengths().fill_null(0).to_numpy(zero_copy_only=False)
        if not lengths[absent.to_numpy(zero_copy_only=False)].any():
            return values
    return pc.if_else(absent, pa.scalar(None, values.type), values)


def _field(given: pa.Array | None, field: FieldDescriptor, wanted: pa.Field, count: int) -> pa.Array:
    if given is None or pa.types.is_null(given.type):
        return _absent(field, wanted, count)
    if field.is_repeated:
        if not pa.types.is_list(given.type):
            raise Unusual
        return _repeated(given, field, wanted)
    values = _values(given, field, wanted.type)
    return values if wanted.nullable else _with_default(values, wanted.type)


def _repeated(given: pa.ListArray, field: FieldDescriptor, wanted: pa.Field) -> pa.ListArray:
    lengths = given.value_lengths().fill_null(0).to_numpy(zero_copy_only=False)
    offsets = pa.array(np.r_[0, np.cumsum(lengths)].astype(np.int32))
    flat = given.flatten()
    if flat.null_count:  # an element that is null is no element
        raise Unusual
    item = wanted.type.value_field
    inner = pa.array([], item.type) if pa.types.is_null(flat.type) else _values(flat, field, item.type)
    return pa.ListArray.from_arrays(offsets, inner, type=wanted.type)


def _values(given: pa.Array, field: FieldDescriptor, target: pa.DataType) -> pa.Array:
    if field.type == FieldDescriptor.TYPE_MESSAGE:
        if not pa.types.is_struct(given.type):
            raise Unusual
        if field.message_type.name in _NESTED_VALUES:
            return _nested(given, field, target)
        return _message(given, field.message_type, target, len(given))
    if field.type == FieldDescriptor.TYPE_BYTES:
        return _from_hex(given) if field.name in _IDS else _from_base64(given)
    if field.type == FieldDescriptor.TYPE_STRING:
        return given if given.type == pa.string() else _unusual()
    if field.type == FieldDescriptor.TYPE_BOOL:
        return given if pa.types.is_boolean(given.type) else _unusual()
    if field.type == FieldDescriptor.TYPE_DOUBLE:
        return given.cast(pa.float64()) if pa.types.is_floating(given.type) or pa.types.is_integer(given.type) else _unusual()
    if pa.types.is_string(given.type) and field.type != FieldDescriptor.TYPE_ENUM:
        return given.cast(target)  # digits; anything else is an error here, and Google's reader says which
    return given.cast(target) if pa.types.is_integer(given.type) else _unusual()


def _unusual() -> pa.Array:
    raise Unusual


def _nested(given: pa.StructArray, field: FieldDescriptor, target: pa.StructType) -> pa.StructArray:
    """Lists and maps inside values stay bytes of their own, as the protobuf reader leaves them; they are rare, and told apart one by one."""
    item = field.message_type.fields_by_name["values"].message_type._concrete_class
    rows: list[list[bytes] | None] = [None] * len(given)
    for row in np.flatnonzero(given.is_valid().to_numpy(zero_copy_only=False)):
        listed = given[int(row)].as_py().get("values") or []
        rows[row] = [ParseDict(_without_absent(value), item(), ignore_unknown_fields=True).SerializeToString() for value in listed]
    mask = pa.array([row is None for row in rows])
    values = pa.array([row or [] for row in rows], target.field("values").type)
    return pa.StructArray.from_arrays([values], fields=list(target), mask=mask)


def _without_absent(value: Any) -> Any:
    """Arrow gives every struct all keys that any has."""
    if isinstance(value, dict):
        return {key: _without_absent(held) for key, held in value.items() if held is not None}
    return [_without_absent(held) for held in value] if isinstance(value, list) else value


def _absent(field: FieldDescriptor, wanted: pa.Field, count: int) -> pa.Array:
    if wanted.nullable:
        return pa.nulls(count, wanted.type)
    if pa.types.is_list(wanted.type):
        return pa.ListArray.from_arrays(pa.array(np.zeros(count + 1, np.int32)), pa.array([], wanted.type.value_type), type=wanted.type)
    return pa.repeat(_default(wanted.type), count)


def _default(kind: pa.DataType) -> pa.Scalar:
    if pa.types.is_string(kind):
        return pa.scalar("", kind)
    if pa.types.is_binary(kind):
        return pa.scalar(b"", kind)
    return pa.scalar(False, kind) if pa.types.is_boolean(kind) else pa.scalar(0, kind)


def _with_default(values: pa.Array, kind: pa.DataType) -> pa.Array:
    return values if not values.null_count or pa.types.is_struct(kind) else values.fill_null(_default(kind))


def _from_hex(given: pa.Array) -> pa.Array:
    """Hexadecimal text as bytes, all at once."""
    if not pa.types.is_string(given.type):
        raise Unusual
    filled = given.fill_null("")
    offsets = np.frombuffer(filled.buffers()[1], np.int32)[filled.offset : filled.offset + len(filled) + 1]
    lengths = np.diff(offsets)
    if (lengths % 2).any():
        raise Unusual
    held = filled.buffers()[2]
    text = np.frombuffer(held, np.uint8)[offsets[0] : offsets[-1]] if held is not None and len(filled) else np.zeros(0, np.uint8)
    digits = _HEX[text]
    if (digits == 255).any():
        raise Unusual
    data = (digits[0::2] << 4) | digits[1::2]
    new_offsets = ((offsets - offsets[0]) // 2).astype(np.int32) if len(offsets) else np.zeros(1, np.int32)
    return pa.Array.from_buffers(pa.binary(), len(filled), [None, pa.py_buffer(new_offsets), pa.py_buffer(data)])


def _from_base64(given: pa.Array) -> pa.Array:
    if not pa.types.is_string(given.type):
        raise Unusual
    return pa.array([None if text is None else ParseDict({"bytesValue": text}, AnyValue()).bytes_value for text in given.to_pylist()], pa.binary())
