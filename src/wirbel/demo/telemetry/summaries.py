"""Cells of long ago, straight from the state: what summaries of spans would say that nobody kept.

The cells of a calm stretch give each series its shape: how its latencies scatter. At another time it has
the rate, the mean and the failures that the state has then; the shape moves along, in the sketch's steps.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from wirbel.core import cells, sketch
from wirbel.core.signals import spans
from wirbel.core.signals.entities import place_of
from wirbel.demo.world.happenings import Happenings
from wirbel.demo.world.state import State
from wirbel.demo.world.topology import Topology

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
LEAST = 3  # spans of the calm stretch that make a shape


@dataclass(frozen=True)
class _Course:
    """Of one series over time: requests a second, mean time (s), share that fails."""

    rate: Floats
    takes: Floats
    failing: Floats

    def at(self, steps: Ints) -> _Course:
        return _Course(self.rate[steps], self.takes[steps], self.failing[steps])


def shapes(calm: pa.Table) -> pa.Table:
    """One cell a series, from the spans of a calm stretch."""
    derived = cells.derive(calm)
    one = derived.set_column(derived.schema.get_field_index("minute"), "minute", pa.array(np.zeros(derived.num_rows, np.int64)))
    merged = cells.merge([one])
    # Failures are too few in a calm stretch to have a shape: they take that of what is done.
    kept = pa.compute.and_(pa.compute.greater_equal(merged["rows"], LEAST), pa.compute.not_equal(merged["outcome"], spans.ERROR))
    return merged.filter(kept)


def over(state: State, happenings: Happenings, made: pa.Table, calm: tuple[int, int], calm_state: State, start: int, end: int, step_s: int) -> pa.Table:
    """Cells of stretches of ``step_s`` in [start, end) ns; ``made`` are the :func:`shapes` of the calm stretch."""
    rng = np.random.default_rng([start // 10**9, step_s])
    times = np.arange(start + (-start) % (step_s * 10**9), end, step_s * 10**9, dtype=np.int64)
    middle = state.conditions.step_of(times + step_s * 10**9 // 2)
    calm_steps = np.arange(*calm_state.conditions.step_of(np.array(calm)))
    calm_s = (calm[1] - calm[0]) / 1e9
    parts = []
    for row in made.to_pylist():
        then, now = (_course(given, row).at(steps) for given, steps in ((calm_state, calm_steps), (state, middle)))
        expected = row["rows"] / calm_s * step_s * now.rate / max(float(then.rate.mean()), 1e-9)
        stretch = now.takes / max(float(then.takes.mean()), 1e-9)
        parts.append(_cells_of(state.topology, row, times, rng.poisson(expected * (1 - now.failing)), stretch, happenings))
        if row["outcome"] == spans.OK:
            failed = row | {"outcome": spans.ERROR, "status_code": row["status_code"] and 500}
            parts.append(_cells_of(state.topology, failed, times, rng.poisson(expected * now.failing), stretch, happenings))
    table = pa.concat_tables(part for part in parts if part.num_rows)
    return table.take(pa.compute.sort_indices(table, [("minute", "ascending"), ("service", "ascending")])).cast(cells.CELL_SCHEMA)


def _course(state: State, row: dict[str, object]) -> _Course:
    """The state's series that a cell is about: an operation, or all calls of a service to a peer."""
    service, topology = str(row["service"]), state.topology
    number = next((n for n, i in enumerate(topology.instances[service]) if i.name == row["instance"]), 0)
    share = state.share(service, number)
    if row["kind"] not in spans.CALL_KINDS:
        key = next(k for k, o in topology.operations.items() if o.service == service and row["operation"] in (f"{o.method} {o.route}", o.route))
        return _Course(state.rate[key] * share, state.response[key], state.failing[key])
    calls = [
        state.calls[key, n]
        for key, o in topology.operations.items()
        if o.service == service
        for n, call in enumerate(o.calls)
        if place_of(str(row["peer"]))["server.address"] == call.to.partition(" ")[0]
    ]
    rate = np.asarray(sum(call.rate for call in calls))
    weight = np.maximum(rate, 1e-12)
    takes, failing = (np.asarray(sum(call.rate * getattr(call, name) for call in calls) / weight) for name in ("response", "failing"))
    return _Course(rate * share, takes, failing)


def _cells_of(topology: Topology, row: dict[str, object], times: Ints, seen: Ints, stretch: Floats, happenings: Happenings) -> pa.Table:
    """The cells of one series where it was seen."""
    service = str(row["service"])
    here = np.flatnonzero(seen)
    count = seen[here] * float(row["count"]) / float(row["rows"])  # type: ignore[arg-type]
    buckets, shares = np.array(row["buckets"], np.int64), np.array(row["bucket_counts"], float)
    shares = shares / shares.sum()
    moved = np.rint(np.log(np.maximum(stretch[here], 1e-6)) / np.log(sketch.BASE)).astype(np.int64)
    width = len(buckets)
    offsets = np.arange(0, (len(here) + 1) * width, width, dtype=np.int32)
    factor = sketch.BASE ** moved.astype(float)
    columns: dict[str, pa.Array] = {
        "minute": pa.array(times[here]),
        "rows": pa.array(seen[here]),
        "count": pa.array(count),
        "total": pa.array(count * float(row["total"]) / float(row["count"]) * factor),  # type: ignore[arg-type]
        "lowest": pa.array(float(row["lowest"]) * factor),  # type: ignore[arg-type]
        "highest": pa.array(float(row["highest"]) * factor),  # type: ignore[arg-type]
        "buckets": pa.ListArray.from_arrays(pa.array(offsets), pa.array((buckets[None] + moved[:, None]).ravel().astype(np.int16))),
        "bucket_counts": pa.ListArray.from_arrays(pa.array(offsets), pa.array((count[:, None] * shares[None]).ravel())),
    }
    number = next((n for n, i in enumerate(topology.instances[service]) if i.name == row["instance"]), 0)
    columns["version"] = pa.array(happenings.versions(topology.services[service], times[here], np.full(len(here), number)), pa.string())
    for field in cells.CELL_SCHEMA:
        if field.name not in columns:
            columns[field.name] = pa.repeat(pa.scalar(row[field.name], field.type), len(here))
    return pa.table([columns[name] for name in cells.CELL_SCHEMA.names], schema=cells.CELL_SCHEMA)
