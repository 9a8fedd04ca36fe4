"""A small store with some hours of requests, in which two services are slow for a while; and what the watch found in it."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

import numpy as np
import pyarrow as pa

from wirbel.core.signals import spans
from wirbel.store import packer
from wirbel.store.models import Arrival, Stream
from wirbel.watch import watching
from wirbel.watch.models import DeviationRecord

MINUTE = 60 * 10**9
HOUR = 60 * MINUTE
BEGAN = 1_772_006_400 * 10**9
HOURS = 7
SLOW = (BEGAN + 5 * HOUR + 20 * MINUTE, BEGAN + 5 * HOUR + 55 * MINUTE)
END = BEGAN + HOURS * HOUR
SETTLED = watching.SETTLED_NS
A_MINUTE = 8  # requests


def requests(start: int, end: int, silent: tuple[int, int] = (0, 0), seed: int = 1, slow: tuple[int, int] = SLOW) -> pa.Table:
    """`shop` answers by asking `stock`; while ``slow``, both take five times as long. `elsewhere` has nothing to do with them."""
    rng = np.random.default_rng([seed, start // MINUTE])
    times = np.sort(rng.integers(start, end, A_MINUTE * (end - start) // MINUTE))
    times = times[(times < silent[0]) | (times >= silent[1])]
    factor = np.where((times >= slow[0]) & (times < slow[1]), 5.0, 1.0)
    inner = np.exp(rng.normal(np.log(0.04), 0.2, len(times))) * factor
    rows: dict[str, list[Any]] = {name: [] for name in ("trace_id", "span_id", "parent_id", "service", "kind", "start", "duration", "operation")}

    def add(n: int, number: int, parent: int | None, service: str, kind: int, begin: int, takes: float) -> None:
        rows["trace_id"].append((int(times[n]) + number // 10).to_bytes(16, "big"))
        rows["span_id"].append((int(times[n]) * 10 + number).to_bytes(12, "big")[-8:])
        rows["parent_id"].append(None if parent is None else (int(times[n]) * 10 + parent).to_bytes(12, "big")[-8:])
        for name, value in (("service", service), ("kind", kind), ("start", begin), ("duration", round(takes * 1e9)), ("operation", "GET /")):
            rows[name].append(value)

    for n, at in enumerate(times.tolist()):
        takes = float(inner[n])
        add(n, 1, None, "shop", spans.SERVER, at, takes + 0.02)
        add(n, 2, 1, "shop", spans.CLIENT, at + 10**6, takes + 0.01)
        add(n, 3, 2, "stock", spans.SERVER, at + 2 * 10**6, takes)
        add(n, 14, None, "elsewhere", spans.SERVER, at, float(np.exp(rng.normal(np.log(0.1), 0.2))))
    count = len(rows["start"])
    table = pa.table({**rows, "outcome": [spans.OK] * count, "weight": [1.0] * count, "environment": ["test"] * count, "name": rows["operation"]})
    return spans.conform(table.cast(pa.schema([(f.name, _type(f.name) or f.type) for f in table.schema])))


def _type(name: str) -> pa.DataType | None:
    return spans.SPAN_SCHEMA.field(name).type if name in spans.SPAN_SCHEMA.names else None


def write(start: int, end: int, **given: Any) -> None:
    packer.write(Stream.SPANS, requests(start, end, **given), level=1)
    # As if it had come while it happened.
    at = datetime.fromtimestamp(end // 10**9 // 600 * 600, UTC)
    Arrival.objects.update_or_create(environment="test", service="shop", stream=Stream.SPANS, at=at, defaults={"rows": 1, "newest": end})


def records() -> set[tuple[Any, ...]]:
    fields = ("series__entity", "series__metric", "direction", "onset", "opened", "ended", "bits", "peak_actual", "threshold_at")
    return set(DeviationRecord.objects.values_list(*fields))


def disturbed(metric: str = "p95") -> list[tuple[str, int, int | None]]:
    return sorted(DeviationRecord.objects.filter(series__metric=metric).values_list("series__entity", "onset", "ended"))


def write_arrival(at: int) -> None:
    Arrival.objects.update_or_create(
        environment="test", service="shop", stream=Stream.SPANS, at=datetime.fromtimestamp(at // 10**9, UTC), defaults={"rows": 1, "newest": at}
    )
