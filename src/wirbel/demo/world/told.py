"""Pieces of spans as a table: what an SDK would have sent of them, read as intake reads it."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow
from wirbel.core.signals import spans
from wirbel.core.signals.operations import Columns, derive
from wirbel.demo.world.columns import Pieces, binary, lists, places
from wirbel.demo.world.state import POOL_WAIT_S
from wirbel.demo.world.topology import Topology

Ints = npt.NDArray[np.int64]
Ids = npt.NDArray[np.uint64]
ENVIRONMENT = "production"

FINE, BROKEN, LATE, TURNED_AWAY, NO_CONNECTION, CIRCUIT_OPEN = range(6)
REASONS = (
    None,
    ("InternalError", "the request could not be completed"),
    ("TimeoutError", "no answer in time"),
    ("ConnectionRefusedError", "connection refused: the queue is full"),
    ("PoolTimeoutError", f"no database connection became free within {POOL_WAIT_S:.0f} s"),
    ("CircuitOpenError", "calls are suspended after many failures"),
)
"""What failed, by code: type and message of the exception."""


def table_of(out: Pieces, topology: Topology) -> pa.Table:
    """All pieces as one table of the spans schema; rows in order of start."""
    total = out.total
    if not total:
        return spans.empty()
    order = np.argsort(out.numbers("start"), kind="stable")
    built = ("trace", "span", "parent", "instance", "reason", "published", "weight")
    columns = {name: out.column(name, order) for name in out.names if name not in built}
    trace, span, parent = (out.numbers(name, width, np.uint64)[order] for name, width in (("trace", 2), ("span", 1), ("parent", 1)))
    columns["trace_id"], columns["span_id"] = binary(trace), binary(span)
    columns["parent_id"] = binary(parent, parent[:, 0] == 0)
    columns |= places(topology, columns["service"], out.numbers("instance")[order])
    columns["environment"] = pa.repeat(pa.scalar(ENVIRONMENT), total)
    weight = out.numbers("weight", dtype=np.float64)[order]
    columns["weight"] = pa.array(weight)
    kept = {one: f"ot=th:{threshold(1 / one)}" if one > 1 else None for one in np.unique(weight).tolist()}
    columns["trace_state"] = pa.array(list(kept.values()), pa.string()).take(pa.array(np.searchsorted(list(kept), weight)))
    reason = out.numbers("reason")[order]
    columns |= _exceptions(reason, arrow.numbers(columns["start"]) + arrow.numbers(columns["duration"]))
    columns["links"] = _links(columns, out.numbers("published")[order], trace, span)
    status = np.where(arrow.numbers(columns["outcome"]) == spans.ERROR, spans.STATUS_ERROR, spans.STATUS_UNSET).astype(np.int8)
    columns["status"] = pa.array(status)
    # Read as intake would read them, so that history and live feed look the same.
    columns |= derive(Columns(columns, total), columns["name"], arrow.numbers(columns["kind"]), status)
    return spans.conform(pa.table(columns))


def threshold(kept: float) -> str:
    """The W3C sampling threshold of a share: what is below it of 2**56 was not recorded."""
    return f"{round((1 - kept) * 2**56):014x}".rstrip("0") or "0"


def _exceptions(reason: Ints, ends: Ints) -> dict[str, pa.Array]:
    rows = np.flatnonzero(reason != FINE)
    texts = pa.array([None if r is None else f'{{"exception.type": "{r[0]}", "exception.message": "{r[1]}"}}' for r in REASONS], pa.string())
    messages = pa.array([None if r is None else r[1] for r in REASONS], pa.string())
    events = pa.StructArray.from_arrays(
        [pa.array(ends[rows]), pa.repeat(pa.scalar("exception"), len(rows)), texts.take(pa.array(reason[rows]))], fields=list(spans.EVENT)
    )
    return {"events": lists(events, rows, len(reason)), "status_message": messages.take(pa.array(reason))}


def _links(columns: dict[str, pa.Array], published: Ints, trace: Ids, span: Ids) -> pa.Array:
    """A consumed message links to the span that published it: the last one of its topic before."""
    total = len(published)
    topic = columns.get("span.s:messaging.destination.name")
    rows, sources = [], []
    kind, start = arrow.numbers(columns["kind"]), arrow.numbers(columns["start"])
    if topic is not None:
        for name in topic.unique().drop_null().to_pylist():
            mine = pc.fill_null(pc.equal(topic, name), False).to_numpy(zero_copy_only=False)
            producers, consumers = np.flatnonzero(mine & (kind == spans.PRODUCER)), np.flatnonzero(mine & (kind == spans.CONSUMER))
            before = np.searchsorted(start[producers], published[consumers], side="right") - 1
            rows.append(consumers[before >= 0])
            sources.append(producers[before[before >= 0]])
    row, source = np.concatenate([*rows, np.zeros(0, np.int64)]).astype(np.int64), np.concatenate([*sources, np.zeros(0, np.int64)]).astype(np.int64)
    order = np.argsort(row)
    row, source = row[order], source[order]
    made = pa.StructArray.from_arrays([binary(trace[source]), binary(span[source]), pa.nulls(len(row), pa.string())], fields=list(spans.LINK))
    return lists(made, row, total)
