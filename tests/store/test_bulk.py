"""Much of everything: ten thousand services, and records that come a day late and in no order."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pytest

from tests.builders import NOW
from tests.store.test_store import recount
from wirbel.core import cells
from wirbel.core.signals import otlp, spans
from wirbel.demo.making import recorded
from wirbel.demo.world.skerry import SKERRY
from wirbel.store import catalogue, packer, reading, segments
from wirbel.store.models import Block, Service, Stream

pytestmark = pytest.mark.django_db
HOUR_NS = 3600 * 10**9


def one_span_each(services: int) -> pa.Table:
    rng = np.random.default_rng(5)
    ids = rng.integers(1, 2**63, (services, 3), dtype=np.uint64)
    start = NOW - rng.integers(0, HOUR_NS, services)
    columns = {
        "trace_id": pa.array([row.tobytes() for row in ids[:, :2]], pa.binary(16)),
        "span_id": pa.array([row.tobytes() for row in ids[:, 2:]], pa.binary(8)),
        "start": pa.array(start),
        "duration": pa.array(rng.integers(10**6, 10**8, services)),
        "environment": pa.array(["default"] * services),
        "service": pa.array([f"service-{n:05d}" for n in range(services)]),
        "name": pa.array(["work"] * services),
        "operation": pa.array(["work"] * services),
        "kind": pa.array(np.full(services, spans.SERVER, np.int8)),
        "outcome": pa.array(np.zeros(services, np.int8)),
        "weight": pa.array(np.ones(services)),
    }
    return spans.conform(pa.table(columns))


def test_ten_thousand_services_are_stored_listed_and_found() -> None:
    table = one_span_each(10_000)
    for first in range(0, 10_000, 500):
        segments.append(Stream.SPANS, table.slice(first, 500))
    assert packer.pack_all() == 10_000
    assert Service.objects.count() == 10_000 < catalogue.MOST_SERVICES
    found = reading.cells(NOW - 2 * HOUR_NS, NOW + HOUR_NS, services=["service-07777"])
    assert found["service"].to_pylist() == ["service-07777"]
    listed = reading.window_spans(NOW - 2 * HOUR_NS, NOW + HOUR_NS, service="service-00042", columns=["service"])
    assert "service-00042" in listed["service"].to_pylist()
    assert Block.objects.filter(services=[]).exists()  # too many to name: opened for any of them


def test_a_day_late_and_in_no_order_is_the_same_as_in_time(settings) -> None:  # type: ignore[no-untyped-def]
    """Three hours of traffic, shuffled request by request, come a day later, some of them twice in other company."""
    window = (NOW - 30 * HOUR_NS, NOW - 27 * HOUR_NS)
    table = spans.combine([recorded(SKERRY, 3, *window, 2.0).traffic.spans(*window)])
    size = 300
    parts = [table.slice(first, size) for first in range(0, table.num_rows, size)]
    rng = np.random.default_rng(6)
    sent = [parts[n] for n in rng.permutation(len(parts))]
    again = [pa.concat_tables([parts[n].slice(0, 40), parts[n + 1].slice(0, 40)]) for n in range(0, len(parts) - 1, 7)]
    for group in np.array_split(np.arange(len(sent) + len(again)), 9):
        for number in group:
            body = otlp.traces.encode((sent + again)[number])
            segments.append(Stream.SPANS, otlp.traces.decode([body], NOW).table)
        packer.pack_all()
    while packer.merge_once(NOW):
        pass
    window = (NOW - 31 * HOUR_NS, NOW)
    stored = reading.window_spans(*window)
    assert stored.num_rows == table.num_rows
    assert sorted(stored["span_id"].to_pylist()) == sorted(table["span_id"].to_pylist())
    assert recount(reading.cells(*window)) == recount(cells.derive(stored))
    assert Block.objects.filter(stream="spans").count() <= 9  # merged by the hour they belong to, though they came late
