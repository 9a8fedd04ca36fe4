"""Metrics of hosts as stock agents count them: seconds of processor and of disk time, and no share or limit of anything."""

from __future__ import annotations

import json

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow
from wirbel.core.signals import points
from wirbel.demo.world.topology import CORES

STEP_S = 60
SHARES = ("system.cpu.utilization", "system.disk.utilization")


def as_seconds(table: pa.Table) -> pa.Table:
    """``table`` (points, one a minute) with shares of processors and disks as the seconds that they were busy."""
    shares = pc.is_in(table["metric"], value_set=pa.array(SHARES))
    busy = table.filter(shares)
    if not busy.num_rows:
        return table
    is_cpu = pc.equal(busy["metric"], SHARES[0])
    cpu, disk = busy.filter(is_cpu), busy.filter(pc.invert(is_cpu))
    used = arrow.numbers(cpu["value"])
    parts = [
        _counted(cpu, "system.cpu.time", {"cpu.mode": "user"}, 0.8 * used * CORES),
        _counted(cpu, "system.cpu.time", {"cpu.mode": "system"}, 0.2 * used * CORES),
        _counted(cpu, "system.cpu.time", {"cpu.mode": "idle"}, (1 - used) * CORES),
        _counted(disk, "system.disk.io_time", {"system.device": "sda"}, arrow.numbers(disk["value"])),
    ]
    return pa.concat_tables([table.filter(pc.invert(shares)), *parts])


def _counted(table: pa.Table, metric: str, labels: dict[str, str], share: np.ndarray) -> pa.Table:
    rows = table.num_rows
    columns = {
        "metric": pa.repeat(pa.scalar(metric), rows),
        "unit": pa.repeat(pa.scalar("s"), rows),
        "labels": pa.repeat(pa.scalar(json.dumps(labels)), rows),
        "kind": pa.array(np.full(rows, points.SUM, np.int8)),
        "temporality": pa.array(np.full(rows, points.DELTA, np.int8)),
        "monotonic": pa.array(np.ones(rows, np.bool_)),
        "start": pa.array(arrow.numbers(table["time"]) - STEP_S * 10**9),
        "value": pa.array(share * STEP_S),
    }
    for name, values in columns.items():
        table = table.set_column(table.schema.get_field_index(name), table.schema.field(name), values.cast(table.schema.field(name).type))
    return table
