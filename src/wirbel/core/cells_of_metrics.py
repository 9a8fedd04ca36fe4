"""Cells where there are no spans: what SDKs count of requests and calls says how many there were, how long they took, and of whom.

Source: OpenTelemetry semantic conventions for HTTP, RPC, database and messaging metrics.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow, cells, sketch
from wirbel.core.signals import points, spans
from wirbel.core.signals.attributes import plain_dict
from wirbel.core.signals.conventions import CACHE_SYSTEMS, CURRENT_NAME
from wirbel.core.signals.entities import AT, USUAL_PORTS

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
    told = table.select(["metric", "labels"]).take(first).to_pylist()
    described = pa.Table.from_pylist([_described(row["metric"], _labels(row["labels"]), serving) for row in told], _DESCRIBED).take(number)
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


def _labels(text: str) -> Labels:
    found = {str(key): str(value) for key, value in plain_dict(text).items()}
    return {CURRENT_NAME.get(key, key): value for key, value in found.items()} | found


def _described(metric: str, labels: Labels, serving: set[str]) -> dict[str, Any]:
    counted = COUNTED[metric]
    status = labels.get("http.response.status_code", "")
    code = int(status) if status.isdigit() and len(status) == 3 else None
    failed = (code or 0) >= 500 or ("error.type" in labels and code is None) or labels.get("rpc.grpc.status_code", "0") in _FAILED_RPC
    outcome = spans.ERROR if failed else spans.CLIENT_ERROR if (code or 0) >= 400 else spans.OK
    peer, peer_kind = _peer(labels, serving) if counted.kind == spans.CLIENT else (None, None)
    return {
        "operation": " ".join(labels[key] for key in counted.operation if labels.get(key)) or metric,
        "kind": counted.kind,
        "entry": counted.kind != spans.CLIENT,
        "outcome": int(outcome),
        "status_code": code,
        "peer": peer,
        "peer_kind": peer_kind,
    }


_FAILED_RPC = {"2", "4", "12", "13", "14", "15"}
"""Status codes of gRPC that are the server's failure (semantic conventions for gRPC)."""


def _peer(labels: Labels, serving: set[str]) -> tuple[str | None, str | None]:
    address, port = labels.get("server.address"), labels.get("server.port")
    system = labels.get("db.system.name")
    if system:
        kind = "cache" if system in CACHE_SYSTEMS else "database"
        namespace = labels.get("db.namespace")
        return (f"{namespace}{AT}{address}" if namespace and address else address or namespace or system), kind
    if address is None:
        return None, None
    named = next((name for name in (address, address.partition(".")[0]) if name in serving), None)
    if named:
        return named, "service"
    return (address if port is None or port in USUAL_PORTS else f"{address}:{port}"), "external"
