"""How long requests and calls took, as the SDK in each service counts them: histograms, counted from the spans that they are about."""

from __future__ import annotations

import json
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow
from wirbel.core.signals import points, spans
from wirbel.demo.world.told import ENVIRONMENT

Bools = npt.NDArray[np.bool_]
MINUTE_NS = 60 * 10**9
BOUNDS = (0.005, 0.01, 0.025, 0.05, 0.075, 0.1, 0.25, 0.5, 0.75, 1.0, 2.5, 5.0, 7.5, 10.0)
"""The SDKs' default bounds of request durations, s (semantic conventions for HTTP metrics)."""
SENDER = ("service", "version", "instance", "host")
OTHER = "_OTHER"  # an error that has no name (semantic conventions, error.type)


@dataclass(frozen=True)
class Counted:
    """A metric, the kind of span that it counts, which of these (those with an attribute), and its labels."""

    metric: str
    kind: int
    having: str
    labels: tuple[str, ...]


ALL = (
    Counted("http.server.request.duration", spans.SERVER, "http.request.method", ("http.request.method", "http.route")),
    Counted("http.client.request.duration", spans.CLIENT, "http.request.method", ("http.request.method", "server.address")),
    Counted("db.client.operation.duration", spans.CLIENT, "db.system.name", ("db.system.name", "db.namespace", "server.address")),
    Counted("messaging.process.duration", spans.CONSUMER, "messaging.system", ("messaging.system", "messaging.destination.name")),
)
"""Semantic conventions for HTTP, database and messaging metrics."""


def request_durations(table: pa.Table) -> pa.Table:
    """Delta histograms of each minute, of all that is in ``table``."""
    return points.combine([_histograms(table, counted) for counted in ALL])


def _histograms(table: pa.Table, counted: Counted) -> pa.Table:
    columns = [arrow.attribute_column("span", "s", key) for key in counted.labels]
    having = arrow.attribute_column("span", "s", counted.having)
    if not {having, *columns} <= set(table.column_names):
        return points.POINT_SCHEMA.empty_table()
    told = table.filter(pc.and_(pc.equal(table["kind"], counted.kind), pc.is_valid(table[having])))
    if not told.num_rows:
        return points.POINT_SCHEMA.empty_table()
    seconds, weight, start = arrow.numbers(told["duration"]) / 1e9, arrow.numbers(told["weight"]), arrow.numbers(told["start"])
    failed = arrow.numbers(told["outcome"]) == spans.ERROR
    keys = [*SENDER, *columns, "status_code"]
    held = {"failed": pa.array(failed), "minute": pa.array(start - start % MINUTE_NS), "row": pa.array(np.arange(len(start)))}
    group = pa.table({**{name: told[name] for name in keys}, **held})
    found = group.group_by([*keys, "failed", "minute"], use_threads=False).aggregate([("row", "list")])
    member = pc.list_flatten(found["row_list"]).to_numpy()
    owner = np.repeat(np.arange(found.num_rows), found["row_list"].combine_chunks().value_lengths().to_numpy())
    width, count = len(BOUNDS) + 1, found.num_rows
    bucket = np.searchsorted(BOUNDS, seconds[member], side="left")
    counts = np.rint(np.bincount(owner * width + bucket, weight[member], count * width)).astype(np.int64).reshape(-1, width)
    first = np.flatnonzero(np.r_[True, np.diff(owner) != 0])
    offsets = np.arange(0, (count + 1) * width, width, dtype=np.int32)
    bounds = pa.ListArray.from_arrays(pa.array(np.arange(0, (count + 1) * len(BOUNDS), len(BOUNDS), dtype=np.int32)), pa.array(np.tile(BOUNDS, count)))
    made = pa.table(
        {
            "environment": pa.repeat(pa.scalar(ENVIRONMENT), count),
            **{name: found[name] for name in SENDER},
            "resource": pa.repeat(pa.scalar("{}"), count),
            "metric": pa.repeat(pa.scalar(counted.metric), count),
            "unit": pa.repeat(pa.scalar("s"), count),
            "kind": pa.array(np.full(count, points.HISTOGRAM, np.int8)),
            "temporality": pa.array(np.full(count, points.DELTA, np.int8)),
            "monotonic": pa.array(np.zeros(count, np.bool_)),
            "labels": _labels(found, dict(zip(counted.labels, columns, strict=True))),
            "time": pa.array(found["minute"].to_numpy() + MINUTE_NS),
            "start": found["minute"],
            "count": pa.array(counts.sum(axis=1)),
            "total": pa.array(np.bincount(owner, weight[member] * seconds[member], count)),
            "low": pa.array(np.minimum.reduceat(seconds[member], first)),
            "high": pa.array(np.maximum.reduceat(seconds[member], first)),
            "bounds": bounds,
            "buckets": pa.ListArray.from_arrays(pa.array(offsets), pa.array(counts.ravel())),
        }
    )
    return arrow.conform(made, points.POINT_SCHEMA)


def _labels(found: pa.Table, columns: dict[str, str]) -> pa.Array:
    """Labels of each row as JSON; a status and an error are told where there is one."""
    named = {key: found[column].to_pylist() for key, column in columns.items()}
    rows = zip(found["status_code"].to_pylist(), found["failed"].to_pylist(), *named.values(), strict=True)
    texts = []
    for status, failed, *values in rows:
        labels = dict(zip(named, values, strict=True))
        labels |= {"http.response.status_code": status} if status is not None else {}
        labels |= {"error.type": OTHER if status is None else str(status)} if failed else {}
        texts.append(json.dumps(labels, sort_keys=True))
    return pa.array(texts, pa.string())
