"""Cells where there are no spans: what SDKs count of requests and calls says how many there were, how long they took, and of whom.

Source: OpenTelemetry semantic conventions for HTTP, RPC, database and messaging metrics.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow, cells, sketch
from wirbel.core.signals import operations, points, spans
from wirbel.core.signals.attributes import plain_dict
from wirbel.core.signals.conventions import CURRENT_NAME

MILLISECONDS = "ms"
Labels = Mapping[str, str]


@dataclass(frozen=True)
class Counted:
    """What a metric counts: the kind of span, and which labels name the operation."""

    kind: int
    operation: tuple[str, ...]


COUNTED = {
    "http.server.request.duration": Counted(spans.SERVER, ("http.request.method", "http.route")),
    "rpc.server.duration": Counted(spans.SERVER, ("rpc.service", "rpc.method")),
    "rpc.server.call.duration": Counted(spans.SERVER, ("rpc.service", "rpc.method")),
    "messaging.process.duration": Counted(spans.CONSUMER, ("messaging.destination.name",)),
    "http.client.request.duration": Counted(spans.CLIENT, ("http.request.method",)),
    "rpc.client.duration": Counted(spans.CLIENT, ("rpc.service", "rpc.method")),
    "rpc.client.call.duration": Counted(spans.CLIENT, ("rpc.service", "rpc.method")),
    "db.client.operation.duration": Counted(spans.CLIENT, ("db.operation.name", "db.collection.name")),
}


def derive(table: pa.Table) -> pa.Table:
    """Cells of samples in the order of points.combine; empty where nothing counts requests.

    Each sample counts as if all its requests had taken its mean, so that quantiles are those of means. A call whose address is the name of a service that counts its own requests goes to that service.
    """
    table = table.filter(pc.and_(pc.is_in(table["metric"], value_set=pa.array(list(COUNTED))), pc.is_in(table["kind"], value_set=_HISTOGRAMS)))
    if not table.num_rows:
        return cells.CELL_SCHEMA.empty_table()
    number, first = points.series_of(table)
    serving = set(table.filter(pc.match_substring_regex(table["metric"], r"\.server\.|\.process\."))["service"].unique().to_pylist())
    told = table.select(["metric", "labels"]).take(first).to_pydict()
    described = _described(told["metric"], [_labels(text) for text in told["labels"]], serving).take(number)
    seconds = np.where(pc.equal(table["unit"], MILLISECONDS).fill_null(False).to_numpy(), 1e-3, 1.0)
    count, total = (points.increases(table, name) for name in ("count", "total"))
    time = arrow.numbers(table["time"]) - 1
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = np.nan_to_num(total * seconds / count)
    columns = {
        **{name: table[name] for name in ("environment", "service", "version", "instance", "host")},
        **{name: described[name] for name in described.column_names},
        "minute": pa.array(time - time % cells.MINUTE_NS),
        "bucket": pa.array(sketch.bucket_of(mean).astype(np.int16)),
        "count": pa.array(count),
        "rows": pa.array(np.rint(count).astype(np.int64)),
        "total": pa.array(total * seconds),
        "lowest": pa.array(mean),
        "highest": pa.array(mean),
    }
    return cells.added_up(pa.table(columns).filter(pa.array(count > 0)))


_HISTOGRAMS = pa.array([points.HISTOGRAM, points.EXPONENTIAL], pa.int8())
_DESCRIBED = pa.schema([field for field in cells.KEYS if field.name in ("operation", "kind", "entry", "outcome", "status_code", "peer", "peer_kind")])


def _described(metrics: list[str], labels: list[Labels], serving: set[str]) -> pa.Table:
    """Of each series, what spans of the same requests would say: operation, who is called, outcome."""
    columns = {f"span.s:{key}": pa.array([one.get(key) for one in labels], pa.string()) for key in sorted({key for one in labels for key in one})}
    kind = np.array([COUNTED[metric].kind for metric in metrics])
    named = [" ".join(one[key] for key in COUNTED[metric].operation if one.get(key)) or metric for metric, one in zip(metrics, labels, strict=True)]
    status = np.array([spans.STATUS_ERROR if _failed(one) else spans.STATUS_UNSET for one in labels])
    found = operations.derive(operations.Columns(columns, len(labels)), pa.array(named, pa.string()), kind, status)
    asked = [_service_at(one, serving) if kind[n] == spans.CLIENT else None for n, one in enumerate(labels)]
    to_service = pa.array(asked, pa.string())
    found |= {
        "kind": pa.array(kind.astype(np.int8)),
        "entry": pa.array(kind != spans.CLIENT),
        "peer": pc.coalesce(to_service, found["peer"]),
        "peer_kind": pc.if_else(pc.is_valid(to_service), "service", found["peer_kind"]),
    }
    return pa.table({name: found[name] for name in _DESCRIBED.names}).cast(_DESCRIBED)


def _labels(text: str) -> Labels:
    found = {str(key): str(value) for key, value in plain_dict(text).items()}
    return {CURRENT_NAME.get(key, key): value for key, value in found.items()} | found


_FAILED_RPC = {"2", "4", "12", "13", "14", "15"}
"""Status codes of gRPC that are the server's failure (semantic conventions for gRPC)."""


def _failed(labels: Labels) -> bool:
    """Beyond what the status of HTTP says: an error without one, or a failure of gRPC."""
    return ("error.type" in labels and "http.response.status_code" not in labels) or labels.get("rpc.grpc.status_code") in _FAILED_RPC


def _service_at(labels: Labels, serving: set[str]) -> str | None:
    """The service that is called, if its name, or the first part of its host's, is the address."""
    address = labels.get("server.address", "")
    return None if "db.system.name" in labels else next((name for name in (address, address.partition(".")[0]) if name in serving), None)
