"""How busy hosts are, from the seconds that stock agents count.

Source: OpenTelemetry semantic conventions for system metrics: utilization is the difference in ``system.cpu.time`` since the last
measurement, divided by the elapsed time and the number of processors; ``system.disk.io_time`` is the time a disk spent activated.
"""

from __future__ import annotations

import json

import numpy as np
import pyarrow as pa
import pytest

from tests.builders import NOW
from wirbel.core.series.samples import Samples, by_step
from wirbel.core.signals import points

MINUTE_NS = 60 * 10**9
MINUTES = 30


def counters(series: dict[tuple[str, str, str], list[float]], temporality: int) -> Samples:
    """Sums of seconds by host, metric and label; values are what is added in each minute."""
    rows = []
    for (host, metric, label), added in series.items():
        total = 1_000.0
        for minute, value in enumerate(added):
            total += value
            rows.append(
                {
                    "service": "agent",
                    "instance": host,
                    "host": host,
                    "metric": metric,
                    "unit": "s",
                    "kind": points.SUM,
                    "temporality": temporality,
                    "monotonic": True,
                    "labels": label,
                    "time": NOW + (minute + 1) * MINUTE_NS,
                    "start": NOW - 10**12 if temporality == points.CUMULATIVE else NOW + minute * MINUTE_NS,
                    "value": total if temporality == points.CUMULATIVE else value,
                    "environment": "default",
                    "resource": "{}",
                }
            )
    return by_step(points.combine([pa.Table.from_pylist(rows, points.POINT_SCHEMA)]), NOW, 60, MINUTES)


def of(found: Samples, metric: str) -> np.ndarray:
    [row] = [n for n, name in enumerate(found.metric) if name == metric]
    return found.values[row]


@pytest.mark.parametrize("temporality", [points.CUMULATIVE, points.DELTA])
@pytest.mark.parametrize("processors", [1, 4, 64])
def test_the_share_of_busy_processors_needs_no_number_of_them(temporality: int, processors: int) -> None:
    busy = [0.37 if minute < 15 else 1.0 for minute in range(MINUTES)]
    found = counters(
        {
            ("h1", "system.cpu.time", json.dumps({"cpu.mode": "user"})): [0.75 * share * processors * 60 for share in busy],
            ("h1", "system.cpu.time", json.dumps({"cpu.mode": "system"})): [0.25 * share * processors * 60 for share in busy],
            ("h1", "system.cpu.time", json.dumps({"cpu.mode": "idle"})): [(1 - share) * processors * 60 for share in busy],
        },
        temporality,
    )
    assert found.metric == ["system.cpu.utilization"]
    assert found.unit == ["1"]
    known = of(found, "system.cpu.utilization")
    assert np.nanmax(np.abs(known - busy)) < 1e-9
    assert np.isfinite(known).sum() == MINUTES - (temporality == points.CUMULATIVE)  # the first of what counts on says nothing of its minute
    assert found.is_share.all()


def test_a_disk_that_is_active_all_the_time_is_full() -> None:
    found = counters({("h1", "system.disk.io_time", '{"system.device": "sda"}'): [60.0] * MINUTES}, points.CUMULATIVE)
    assert found.metric == ["system.disk.io_time.share"]
    assert np.nanmin(of(found, "system.disk.io_time.share")) == pytest.approx(1.0)
    assert found.labels == [{"system.device": "sda"}]


def test_processor_time_of_a_process_is_how_many_it_takes() -> None:
    found = counters({("h1", "process.cpu.time", "{}"): [150.0] * MINUTES}, points.CUMULATIVE)
    assert (found.metric, found.unit) == (["process.cpu.time.rate"], ["{cpu}"])
    assert np.nanmax(of(found, "process.cpu.time.rate")) == pytest.approx(2.5)


def test_other_seconds_stay_what_they_were() -> None:
    found = counters({("h1", "jvm.gc.duration", "{}"): [3.0] * MINUTES}, points.CUMULATIVE)
    assert (found.metric, found.unit) == (["jvm.gc.duration"], ["s"])
    assert np.nanmax(found.values) == pytest.approx(3.0)
