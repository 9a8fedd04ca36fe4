"""Metrics that the semantic conventions have renamed, read under their current names and units.

A service may send both (instrumentation calls it "dup"); then the older one stays under its older name,
so that no request counts twice.

Source: OpenTelemetry semantic conventions, migration guides for HTTP, database and process metrics.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow

MS = 1e-3


@dataclass(frozen=True)
class Renamed:
    name: str
    factor: float = 1.0  # by which values grow in the new unit
    unit: str | None = None  # the new one


CURRENT_METRIC: dict[str, Renamed] = {
    "http.server.duration": Renamed("http.server.request.duration", MS, "s"),
    "http.client.duration": Renamed("http.client.request.duration", MS, "s"),
    "http.server.request.size": Renamed("http.server.request.body.size"),
    "http.server.response.size": Renamed("http.server.response.body.size"),
    "http.client.request.size": Renamed("http.client.request.body.size"),
    "http.client.response.size": Renamed("http.client.response.body.size"),
    "db.client.connections.usage": Renamed("db.client.connection.count"),
    "db.client.connections.max": Renamed("db.client.connection.max"),
    "db.client.connections.idle.max": Renamed("db.client.connection.idle.max"),
    "db.client.connections.idle.min": Renamed("db.client.connection.idle.min"),
    "db.client.connections.pending_requests": Renamed("db.client.connection.pending_requests"),
    "db.client.connections.timeouts": Renamed("db.client.connection.timeouts"),
    "db.client.connections.wait_time": Renamed("db.client.connection.wait_time", MS, "s"),
    "db.client.connections.use_time": Renamed("db.client.connection.use_time", MS, "s"),
    "db.client.connections.create_time": Renamed("db.client.connection.create_time", MS, "s"),
    "process.open_file_descriptors": Renamed("process.open_file_descriptor.count"),
    "process.threads": Renamed("process.thread.count"),
}
"""Older name → current one. Durations were in milliseconds and are in seconds."""

_VALUES = ("value", "total", "low", "high")


def renamed(table: pa.Table, body: npt.NDArray[np.int64]) -> pa.Table:
    """Samples under current names. ``body`` numbers the request that each row came in, shape (rows,)."""
    present = set(table["metric"].unique().to_pylist())
    older = [name for name in CURRENT_METRIC if name in present]
    if not older:
        return table
    sender = _senders(table, body)
    for name in older:
        new = CURRENT_METRIC[name]
        sends_both = np.unique(sender[pc.equal(table["metric"], new.name).to_numpy()])
        table = _rename(table, pc.equal(table["metric"], name).to_numpy() & ~np.isin(sender, sends_both), new)
    return table


def _senders(table: pa.Table, body: npt.NDArray[np.int64]) -> npt.NDArray[np.int64]:
    """Numbers of the processes that sent the rows: those of one request and resource are one."""
    number = body
    for name in ("service", "instance", "resource"):
        code, values = arrow.codes(table[name])
        _, number = np.unique(number * (len(values) + 1) + code + 1, return_inverse=True)
    return number


def _rename(table: pa.Table, rows: npt.NDArray[np.bool_], new: Renamed) -> pa.Table:
    chosen = pa.array(rows)
    changed = {"metric": pc.if_else(chosen, new.name, table["metric"])}
    if new.unit:
        changed["unit"] = pc.if_else(chosen, new.unit, table["unit"])
    if new.factor != 1.0:
        changed |= {name: pc.if_else(chosen, pc.multiply(table[name], new.factor), table[name]) for name in _VALUES}
        changed["bounds"] = _scaled(table["bounds"], rows, new.factor)
    for name, values in changed.items():
        table = table.set_column(table.schema.get_field_index(name), table.schema.field(name), values)
    return table


def _scaled(bounds: pa.ChunkedArray, rows: npt.NDArray[np.bool_], factor: float) -> pa.Array:
    column = pa.concat_arrays(bounds.chunks) if bounds.num_chunks else pa.array([], bounds.type)
    lengths = pc.list_value_length(column).fill_null(0).to_numpy(zero_copy_only=False).astype(np.int64)
    flat = pc.list_flatten(column).to_numpy(zero_copy_only=False)
    scaled = flat * np.where(np.repeat(rows, lengths), factor, 1.0)
    offsets = np.r_[0, np.cumsum(lengths)].astype(np.int32)
    return pa.ListArray.from_arrays(pa.array(offsets, mask=np.r_[column.is_null().to_numpy(zero_copy_only=False), False]), pa.array(scaled))
