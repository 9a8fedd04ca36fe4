"""OTLP bodies of any signal to nested Arrow columns, and what all signals share: resources, scopes, refusals.

Source: OpenTelemetry Protocol 1.x (opentelemetry-proto, collector/*/v1) and its JSON mapping
(hexadecimal ids, integers as text).
"""

from __future__ import annotations

import base64
import itertools
import json
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cache
from types import ModuleType
from typing import Any

import numpy as np
import numpy.typing as npt
import ptars
import pyarrow as pa
import pyarrow.compute as pc
from google.protobuf import json_format
from google.protobuf.message import DecodeError, Message
from opentelemetry.proto.collector.logs.v1 import logs_service_pb2
from opentelemetry.proto.collector.metrics.v1 import metrics_service_pb2
from opentelemetry.proto.collector.trace.v1 import trace_service_pb2

from wirbel.core import arrow
from wirbel.core.errors import MalformedTelemetry, TooMuchTelemetry
from wirbel.core.signals.attributes import Pivoted, any_value, pivot
from wirbel.core.signals.otlp import bounds, json_columns

FUTURE_TOLERANCE_NS = 600 * 10**9  # clocks of senders may run this far ahead
EARLIEST_NS = 10**17  # 1973: a time before it is a unit mistake, not a time
LATEST_NS = 2**63 - 1
Ints = npt.NDArray[np.int64]


@dataclass(frozen=True)
class Signal:
    """Names of one signal in the protocol."""

    name: str  # traces, metrics, logs: also the door's path
    noun: str  # of one record
    service: ModuleType
    request: str
    resources: str
    scopes: str
    records: str

    @property
    def message(self) -> type[Message]:
        return getattr(self.service, self.request)  # type: ignore[no-any-return]


TRACES = Signal("traces", "span", trace_service_pb2, "ExportTraceServiceRequest", "resource_spans", "scope_spans", "spans")
METRICS = Signal("metrics", "data point", metrics_service_pb2, "ExportMetricsServiceRequest", "resource_metrics", "scope_metrics", "metrics")
LOGS = Signal("logs", "log record", logs_service_pb2, "ExportLogsServiceRequest", "resource_logs", "scope_logs", "log_records")
SIGNALS = {signal.name: signal for signal in (TRACES, METRICS, LOGS)}


@dataclass
class Decoded:
    """Good rows of several bodies as one table, and how many were refused for which reason.

    ``body`` says of each row which body it came in; ``refused`` has one count by reason for each body.
    """

    table: pa.Table
    body: Ints
    refused: list[dict[str, int]] = field(default_factory=list)

    def refused_count(self, body: int = 0) -> int:
        return sum(self.refused[body].values())

    def message(self, body: int = 0) -> str:
        return "; ".join(f"{count} refused: {reason}" for reason, count in self.refused[body].items())


@cache
def _handler(signal: str) -> Any:
    chosen = SIGNALS[signal]
    return ptars.HandlerPool([chosen.service.DESCRIPTOR]).get_for_message(chosen.message.DESCRIPTOR)


class JsonText(bytes):
    """A request in OTLP's JSON form; plain bytes are protobuf."""


def to_columns(signal: Signal, bodies: list[bytes]) -> pa.RecordBatch:
    """Requests as nested Arrow columns, one row a request.

    Raises MalformedTelemetry when a body is not a request of the signal.
    """
    if not any(isinstance(body, JsonText) for body in bodies):
        return _protobuf_columns(signal, bodies)
    runs = [list(run) for _, run in itertools.groupby(bodies, lambda body: isinstance(body, JsonText))]
    parts = [_json_columns(signal, run) if isinstance(run[0], JsonText) else _protobuf_columns(signal, run) for run in runs]
    return parts[0] if len(parts) == 1 else pa.concat_batches(parts)


def _protobuf_columns(signal: Signal, bodies: list[bytes]) -> pa.RecordBatch:
    try:
        return _handler(signal.name).list_to_record_batch(bodies)
    except (ValueError, DecodeError) as error:
        raise MalformedTelemetry(f"not an OTLP {signal.name} request: {error}") from error


@cache
def _columns_of(signal: str) -> pa.Schema:
    return _protobuf_columns(SIGNALS[signal], [b""]).schema


def _json_columns(signal: Signal, bodies: list[bytes]) -> pa.RecordBatch:
    """All at once; if one is unusual, each by itself, and that one by Google's reader."""
    try:
        return json_columns.read(signal.message.DESCRIPTOR, _columns_of(signal.name), bodies)
    except json_columns.Unusual:
        if len(bodies) > 1:
            return pa.concat_batches([_json_columns(signal, [body]) for body in bodies])
        return _protobuf_columns(signal, [json_to_protobuf(signal, bodies[0])])


@dataclass(frozen=True)
class Flat:
    """All records of several requests, and the scope, resource and request of each."""

    rows: pa.StructArray
    resources: pa.StructArray
    scope: pa.StructArray  # of each row
    resource: pa.Array  # index of each row's resource
    body: Ints  # index of each row's request

    def __len__(self) -> int:
        return len(self.rows)

    def scope_names(self) -> pa.Array:
        return text_or_null(self.scope.field("name").fill_null(""))


def flatten(signal: Signal, bodies: list[bytes]) -> Flat:
    """Raises MalformedTelemetry as :func:`to_columns`, and TooMuchTelemetry."""
    batch = to_columns(signal, bodies)
    listed = batch.column(signal.resources)
    resources = listed.flatten()
    scopes_of = resources.field(signal.scopes)
    scopes = scopes_of.flatten()
    records_of = scopes.field(signal.records)
    row_scope = pc.list_parent_indices(records_of)
    resource = pc.list_parent_indices(scopes_of).take(row_scope)
    body = pc.list_parent_indices(listed).take(resource).to_numpy(zero_copy_only=False)
    check_records(body)
    return Flat(records_of.flatten(), resources, scopes.field("scope").take(row_scope), resource, body)


def check_records(body: Ints) -> None:
    """By the number of the request that each record came in, shape (records,). Raises TooMuchTelemetry where one holds too many."""
    if len(body) > bounds.MOST_RECORDS and np.bincount(body).max() > bounds.MOST_RECORDS:
        raise TooMuchTelemetry(bounds.TOO_MANY_RECORDS)


@dataclass(frozen=True)
class Resource:
    """Resource attributes of each record: promoted columns, attribute columns, and what got none."""

    promoted: dict[str, pa.Array]
    attributes: dict[str, pa.Array]
    pivoted: Pivoted


def resource_columns(flat: Flat) -> Resource:
    """Service and environment are never null: each has a name to be found under."""
    shared = pivot(flat.resources.field("resource").field("attributes"), arrow.MAX_ATTRIBUTE_COLUMNS)
    promoted, attributes = {}, {}
    for (letter, key), values in shared.columns.items():
        name = arrow.PROMOTED_RESOURCE.get(key) if letter == "s" else None
        if name:
            promoted[name] = _as_name(values)
        else:
            attributes[arrow.attribute_column("resource", letter, key)] = values.take(flat.resource)
    promoted["service"] = _or_default(promoted.get("service"), arrow.UNKNOWN_SERVICE, len(flat.resources))
    promoted["environment"] = _or_default(promoted.get("environment"), arrow.DEFAULT_ENVIRONMENT, len(flat.resources))
    return Resource({name: values.take(flat.resource) for name, values in promoted.items()}, attributes, shared)


def overflow(level: str, own: Pivoted, resource: Resource, flat: Flat) -> pa.Array | None:
    """Attributes without a column, as JSON text by level; None if all have one."""
    shared = resource.pivoted
    if not own.overflow and not shared.overflow:
        return None
    out: list[str | None] = []
    for row, owner in enumerate(flat.resource.to_pylist()):
        record = {}
        if own.overflow and own.overflow[row]:
            record[level] = own.overflow[row]
        if shared.overflow and shared.overflow[owner]:
            record["resource"] = shared.overflow[owner]
        out.append(json.dumps(record, ensure_ascii=False) if record else None)
    return pa.array(out, pa.string())


Rule = tuple[npt.NDArray[np.bool_], str]


def keep_good(columns: dict[str, pa.Array], schema: pa.Schema, body: Ints, bodies: int, rules: list[Rule]) -> Decoded:
    """Leaves out the rows that break a rule (the first one counts) and counts them by body and reason."""
    good = ~np.logical_or.reduce([broken for broken, _ in rules])
    refused: list[dict[str, int]] = [{} for _ in range(bodies)]
    if not good.all():
        refused_as = np.select([broken for broken, _ in rules], [reason for _, reason in rules], "")
        for index, reason in zip(body[~good].tolist(), refused_as[~good].tolist(), strict=True):
            refused[index][reason] = refused[index].get(reason, 0) + 1
        keep = pa.array(good)
        columns = {name: values.filter(keep) for name, values in columns.items()}
    return Decoded(arrow.conform(pa.table(columns), schema), body[good], refused)


def nothing(schema: pa.Schema, bodies: int) -> Decoded:
    """What comes of requests without a single record."""
    return Decoded(schema.empty_table(), np.zeros(0, np.int64), [{} for _ in range(bodies)])


def times(column: pa.Array) -> Ints:
    """Unsigned nanoseconds, shape (rows,), as signed ones; what does not fit becomes the latest time there is."""
    return np.minimum(arrow.numbers(column).astype(np.uint64), np.uint64(LATEST_NS)).astype(np.int64)


def optional_id(column: pa.Array, width: int) -> pa.Array:
    """Ids that may be absent: null unless of the right width and not all zero."""
    present = pc.and_not(pc.equal(pc.binary_length(column), width), pc.equal(column, pa.scalar(bytes(width))))
    return pc.if_else(present, column, pa.scalar(None, pa.binary())).cast(pa.binary(width))


def text_or_null(values: pa.Array) -> pa.Array:
    """Texts, shape (rows,), with null for the empty one, which is how the protocol says that there is none."""
    return pc.if_else(pc.equal(pc.binary_length(values), 0), None, values)


def _as_name(values: pa.Array) -> pa.Array:
    """Names are looked up in the database, which knows no NUL and no names of any length."""
    return pc.utf8_slice_codeunits(pc.replace_substring(values, "\x00", "\ufffd"), 0, arrow.LONGEST_NAME)


def _or_default(values: pa.Array | None, default: str, count: int) -> pa.Array:
    if values is None:
        return pa.repeat(pa.scalar(default), count)
    return pc.if_else(pc.greater(pc.binary_length(values.fill_null("")), 0), values, default)


_ID_FIELDS = ("traceId", "spanId", "parentSpanId")


def json_to_protobuf(signal: Signal, body: bytes) -> bytes:
    """An OTLP/JSON request as protobuf.

    Raises MalformedTelemetry for wrong JSON, wrong types and ids that are not hexadecimal.
    """
    try:
        request = json.loads(body)
        if not isinstance(request, dict):
            raise MalformedTelemetry(f"not an OTLP {signal.name} request: the JSON is not an object")
        for record in _records(signal, request):
            for holder in _with_ids(record):
                _hex_ids_to_base64(holder)
        message = signal.message()
        json_format.ParseDict(request, message, ignore_unknown_fields=True)
    except (json_format.ParseError, ValueError, AttributeError, TypeError, OverflowError, RecursionError) as error:
        raise MalformedTelemetry(f"not an OTLP/JSON {signal.name} request: {error}") from error
    except SystemError as error:  # protobuf's own, where it looks for a field by half of a character
        raise MalformedTelemetry(f"not an OTLP/JSON {signal.name} request: it names something that is not Unicode") from error
    return message.SerializeToString()


def protobuf_to_json(signal: Signal, body: bytes) -> bytes:
    """A protobuf request as one line of OTLP/JSON; the reverse of :func:`json_to_protobuf`."""
    message = signal.message()
    message.ParseFromString(body)
    request = json_format.MessageToDict(message, use_integers_for_enums=True)
    for record in _records(signal, request):
        for holder in _with_ids(record):
            for name in _ID_FIELDS:
                if name in holder:
                    holder[name] = base64.b64decode(holder[name]).hex()
    return json.dumps(request, ensure_ascii=False).encode()


def _camel(name: str) -> str:
    first, *rest = name.split("_")
    return first + "".join(word.title() for word in rest)


def _records(signal: Signal, request: dict[str, Any]) -> Iterator[dict[str, Any]]:
    for resource in request.get(_camel(signal.resources)) or []:
        for scope in resource.get(_camel(signal.scopes)) or []:
            yield from scope.get(_camel(signal.records)) or []


def _with_ids(record: dict[str, Any]) -> Iterator[dict[str, Any]]:
    """A record and what in it may hold ids: links of spans, exemplars of data points."""
    yield record
    yield from record.get("links") or []
    for kind in ("gauge", "sum", "histogram", "exponentialHistogram"):
        for point in (record.get(kind) or {}).get("dataPoints") or []:
            yield from point.get("exemplars") or []


def _hex_ids_to_base64(record: dict[str, Any]) -> None:
    for name in _ID_FIELDS:
        if record.get(name):
            record[name] = base64.b64encode(bytes.fromhex(record[name])).decode()


def scope_for(known: dict[str, Any], resources: Any, field_name: str, shared: dict[str, Any], scope: str | None) -> Any:
    """The scope message of a resource in a request being written, made when it is first wanted."""
    key = json.dumps([shared, scope], sort_keys=True, default=str)
    if key not in known:
        resource = resources.add()
        for name, value in shared.items():
            resource.resource.attributes.add(key=name, value=any_value(value))
        known[key] = getattr(resource, field_name).add()
        known[key].scope.name = scope or ""
    return known[key]
