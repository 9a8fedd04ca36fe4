"""Whether a request holds so much that decoding it would cost more than it may: counted on its bytes, before anything is made of them.

An empty record is two bytes, and becomes a row of many columns. So the messages in a request are counted level by level: those of a
level step from field to field together, as arrays; a few of them, or one that is much longer than the others, one by one. No message
is shorter than two bytes: a short request cannot hold too many, and of most requests only the records are counted.
Source: Protocol Buffers, "Encoding".
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache

import numpy as np
import numpy.typing as npt
from google.protobuf.descriptor import Descriptor, FieldDescriptor

from wirbel.core.errors import TooMuchTelemetry
from wirbel.core.signals.attributes import MOST_INSIDE, TOO_MANY_INSIDE

MOST_RECORDS = 50_000  # spans, data points or log records, and what holds them
MOST_MESSAGES = 1_500_000  # of all kinds: attributes, their values, events, links
MOST_BRACES = 300_000  # of a request in JSON
MOST_KEYS, SHORTEST_KEY = 5_000, 5  # different ones, and bytes of one
KEY = re.compile(rb'"[^"\\]{0,99}"\s{0,9}:')
ESCAPED = re.compile(rb"\\.", re.DOTALL)
NO_MARKS = bytes(sorted(set(range(256)) - set(b'"[]{}')))
STEPS = np.zeros(256, np.int64)  # what a mark adds to the depth
STEPS[np.frombuffer(b"[{", np.uint8)], STEPS[np.frombuffer(b"]}", np.uint8)] = 1, -1
MOST_NESTED = 20  # lists in lists of a value
MOST_DEPTH = 120  # of braces and brackets in JSON: three for each list of a value, and what holds the value
MOST_PLAIN = 2_000  # fields of one message that hold no message; no message of the protocol has thirty, and only what repeats one sends more
FEW = 24  # messages that are read one by one
LONGEST_VARINT = 10
SHORTEST = 2  # bytes of a message
RECORDS = ("Span", "LogRecord", "Metric", "NumberDataPoint", "HistogramDataPoint", "ExponentialHistogramDataPoint", "SummaryDataPoint")
HOLDERS = ("ResourceSpans", "ScopeSpans", "ResourceLogs", "ScopeLogs", "ResourceMetrics", "ScopeMetrics")
NESTED = ("AnyValue", "ArrayValue", "KeyValueList", "KeyValue")  # which hold each other
TOO_MANY_RECORDS = f"the request holds more than {MOST_RECORDS} records; send smaller batches"
TOO_MANY_FIELDS = f"a message of the request has more than {MOST_PLAIN} fields"
TOO_MANY_MESSAGES = f"the request holds more than {MOST_MESSAGES} attributes and values; send smaller batches"
Ints = npt.NDArray[np.int64]
Bytes = npt.NDArray[np.uint8]
Children = dict[str, list[tuple[Ints, Ints]]]  # begins and ends of messages, by their kind


@dataclass
class _Count:
    records: int = 0
    messages: int = 0

    def add(self, kind: str, more: int) -> None:
        """Raises TooMuchTelemetry."""
        self.messages += more
        if kind in RECORDS or kind in HOLDERS:
            self.records += more
        if self.records > MOST_RECORDS:
            raise TooMuchTelemetry(TOO_MANY_RECORDS)
        if self.messages > MOST_MESSAGES:
            raise TooMuchTelemetry(TOO_MANY_MESSAGES)


def check(message: Descriptor, body: bytes) -> int:
    """How many records the bytes of one request hold, and messages that hold records. Raises TooMuchTelemetry. What is no message at all is left to who reads it."""
    kinds = _kinds(message, only_records=len(body) <= SHORTEST * MOST_MESSAGES)
    data = np.frombuffer(body + bytes(2 * LONGEST_VARINT), np.uint8)
    level: dict[str, tuple[Ints, Ints]] = {message.name: (np.zeros(1, np.int64), np.array([len(body)]))}
    count = _Count()
    for _ in range(len(HOLDERS) + MOST_NESTED):
        found: Children = {}
        for kind, (begins, ends) in level.items():
            if kinds[kind]:
                _step_together(body, data, kinds[kind], begins, ends, found, count)
        level = {kind: (np.concatenate([b for b, _ in parts]), np.concatenate([e for _, e in parts])) for kind, parts in found.items()}
        if not level:
            return count.records
    raise TooMuchTelemetry(f"a value holds lists in lists, more than {MOST_NESTED} deep")


def check_json(body: bytes) -> int:
    """How many messages the text of one request in JSON may hold, as each has a brace. Raises TooMuchTelemetry."""
    count = body.count(b"{")
    if count > MOST_BRACES:
        raise TooMuchTelemetry(f"the request holds more than {MOST_BRACES} objects; send smaller batches")
    if count + body.count(b"[") > MOST_DEPTH and _depth(body) > MOST_DEPTH:
        raise TooMuchTelemetry(f"the request holds objects and lists in each other, more than {MOST_DEPTH} deep")
    if len(body) > SHORTEST_KEY * MOST_KEYS:
        # Each becomes a column, though the protocol knows a few dozen.
        distinct: set[bytes] = set()
        for key in KEY.finditer(body):
            distinct.add(key[0])
            if len(distinct) > MOST_KEYS:
                raise TooMuchTelemetry(f"the request holds more than {MOST_KEYS} different keys")
    return count


def _depth(body: bytes) -> int:
    """How deep the braces and brackets of JSON lie in each other, texts left out. A native reader may go down its stack for each."""
    plain = ESCAPED.sub(b"", body) if b"\\" in body else body
    marks = np.frombuffer(plain.translate(None, NO_MARKS), np.uint8)
    in_text = np.cumsum(marks == ord('"')) % 2 == 1
    return int(np.where(in_text, 0, STEPS[marks]).cumsum().max(initial=0))


@cache
def _kinds(message: Descriptor, only_records: bool) -> dict[str, dict[int, str]]:
    """Of each kind of message that a request may hold, the numbers of its fields that hold others, and of which kind; or only those that lead to records."""
    found: dict[str, dict[int, str]] = {}
    waiting = [message]
    while waiting:
        one = waiting.pop()
        if one.name not in found:
            inner = [field for field in one.fields if field.type == FieldDescriptor.TYPE_MESSAGE]
            inner = [field for field in inner if not only_records or _has_records(field.message_type)]
            found[one.name] = {field.number: field.message_type.name for field in inner}
            waiting += [field.message_type for field in inner]
    return found


def _has_records(message: Descriptor) -> bool:
    """Whether it is a record, or holds some, directly or in what it holds."""
    return message.name in RECORDS or any(
        _has_records(field.message_type) for field in message.fields if field.type == FieldDescriptor.TYPE_MESSAGE and field.message_type.name not in NESTED
    )


def _step_together(body: bytes, data: Bytes, fields: dict[int, str], begins: Ints, ends: Ints, found: Children, count: _Count) -> None:
    """Goes through messages of one kind, field by field, and adds those that they hold."""
    at, end = begins, ends
    plain, inside = np.zeros((2, len(at)), np.int64)  # fields of each message that hold no message, and messages that are no records
    while len(at) > FEW:
        tag, at = _varints(data, at)
        wire, number = tag & 7, tag >> 3
        value, after = _varints(data, at)
        held = wire == 2
        after = np.where(held, after + value, np.where(wire == 0, after, at + np.where(wire == 1, 8, 4)))
        is_message = np.zeros(len(at), np.bool_)
        for field, kind in fields.items():
            mine = held & (number == field) & (after <= end)
            if mine.any():
                count.add(kind, int(mine.sum()))
                found.setdefault(kind, []).append(((after - value)[mine], after[mine]))
                is_message |= mine
                inside += mine & (kind not in RECORDS + HOLDERS)
        plain += ~is_message
        _check_inside(int(plain.max()), int(inside.max()))
        going = (after < end) & (after > at) & ((wire < 3) | (wire == 5)) & (number > 0)
        at, end, plain, inside = after[going], end[going], plain[going], inside[going]
    for begin, stop in zip(at.tolist(), end.tolist(), strict=True):
        _one_by_one(body, fields, begin, stop, found, count)


def _check_inside(plain: int, inside: int) -> None:
    """Raises TooMuchTelemetry where one message has too many fields, or holds too many messages that are no records."""
    if plain > MOST_PLAIN:
        raise TooMuchTelemetry(TOO_MANY_FIELDS)
    if inside > MOST_INSIDE:
        raise TooMuchTelemetry(TOO_MANY_INSIDE)


def _varints(data: Bytes, at: Ints) -> tuple[Ints, Ints]:
    """The numbers at some places, and the places after them; of more than 63 bits, what fits."""
    value, going, shift = np.zeros(len(at), np.int64), np.ones(len(at), np.bool_), 0
    after = at.copy()
    while shift < 7 * LONGEST_VARINT and going.any():
        byte = data[np.minimum(after, len(data) - 1)].astype(np.int64)
        if shift < 56:
            value |= np.where(going, (byte & 127) << shift, 0)
        after += going
        going &= byte > 127
        shift += 7
    return value, after


def _one_by_one(body: bytes, fields: dict[int, str], begin: int, end: int, found: Children, count: _Count) -> None:
    inside: dict[str, list[tuple[int, int]]] = {}
    plain = 0
    for number, first, last in _fields(body, begin, end):
        kind = fields.get(number)
        if kind is None or first is None:
            plain += 1
            _check_inside(plain, 0)
        else:
            count.add(kind, 1)
            inside.setdefault(kind, []).append((first, last))
            _check_inside(0, 0 if kind in RECORDS + HOLDERS else len(inside[kind]))
    for kind, places in inside.items():
        table = np.array(places, np.int64)
        found.setdefault(kind, []).append((table[:, 0], table[:, 1]))


def _fields(body: bytes, at: int, end: int) -> Iterator[tuple[int, int | None, int]]:
    """Number, begin and end of each field of a message, without a begin where it has no length; up to where it cannot be read."""
    while at < end:
        tag, at = _varint(body, at)
        number, wire, begin = tag >> 3, tag & 7, None
        if number == 0:
            return
        if wire == 2:
            length, begin = _varint(body, at)
            at = begin + length
            if at > end:
                return
        elif wire == 0:
            _, at = _varint(body, at)
        elif wire in (1, 5):
            at += 8 if wire == 1 else 4
        else:
            return
        yield number, begin, at


def _varint(body: bytes, at: int) -> tuple[int, int]:
    value, shift = 0, 0
    while at < len(body) and shift < 7 * LONGEST_VARINT:
        byte = body[at]
        at += 1
        value |= (byte & 127) << shift
        if byte < 128:
            break
        shift += 7
    return value, at
