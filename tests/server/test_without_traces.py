"""A service that sends metrics only can be asked about: real server, from the door for metrics to the answer."""

from __future__ import annotations

import json
from datetime import UTC, datetime

import pyarrow as pa
import pytest

from tests.api_client import Api
from tests.conftest import Instance
from wirbel.core import arrow
from wirbel.core.signals import otlp, points
from wirbel.core.text import rfc3339

MINUTE = 60 * 10**9
ENVIRONMENT = "counted"
FRONT, BACK = "counted-front", "counted-back"
LASTS = 40  # minutes; in the second half the back's database is slow


def counted(service: str, metric: str, minute: int, start: int, seconds: float, **labels: str) -> dict[str, object]:
    count = 200
    return {
        "environment": ENVIRONMENT, "service": service, "instance": f"{service}-1", "resource": "{}", "metric": metric, "unit": "s", "kind": points.HISTOGRAM,
        "temporality": points.DELTA, "monotonic": False, "labels": json.dumps({name.replace("__", "."): value for name, value in labels.items()}),
        "start": start + minute * MINUTE, "time": start + (minute + 1) * MINUTE, "count": count, "total": count * seconds, "bounds": [1.0], "buckets": [count, 0],
    }  # fmt: skip


@pytest.fixture(scope="module")
def began(instance: Instance) -> int:
    """ns; when the first minute that is counted began."""
    start = int(datetime.now(UTC).timestamp()) * 10**9 - (LASTS + 5) * MINUTE
    start -= start % MINUTE
    rows = []
    for minute in range(LASTS):
        query = (0.012 if minute < LASTS // 2 else 0.09) * (1 + 0.05 * ((minute * 7919) % 11 - 5) / 5)
        answer = query + 0.015
        rows += [
            counted(FRONT, "http.server.request.duration", minute, start, answer + 0.025, http__request__method="GET", http__route="/x"),
            counted(FRONT, "http.client.request.duration", minute, start, answer + 0.002, http__request__method="GET", server__address=BACK),
            counted(BACK, "http.server.request.duration", minute, start, answer, http__request__method="GET", http__route="/y"),
            counted(BACK, "db.client.operation.duration", minute, start, query, db__system__name="postgresql", db__namespace="berths", server__address="db-1"),
        ]
    names = [name for name in points.POINT_SCHEMA.names if name in rows[0]]
    table = arrow.conform(pa.Table.from_pylist(rows, pa.schema([points.POINT_SCHEMA.field(name) for name in names])), points.POINT_SCHEMA)
    status, body, _ = instance.post("/v1/metrics", otlp.ENCODERS["metrics"](table))
    assert status == 200, body
    return start


@pytest.fixture(scope="module")
def api(instance: Instance) -> Api:
    return Api(instance)


def asked(start: int, service: str) -> dict[str, object]:
    half = start + LASTS // 2 * MINUTE
    windows = {"reference": (start, half), "focus": (half, start + LASTS * MINUTE)}
    return {"service": service, "environment": ENVIRONMENT, **{name: {"start": rfc3339(a), "end": rfc3339(b)} for name, (a, b) in windows.items()}}


def test_the_cause_is_found_from_what_metrics_count(api: Api, began: int) -> None:
    status, answer = api.post("/api/inquiries", asked(began, FRONT))
    assert status == 201, answer
    first = answer["candidates"][0]
    assert (first["entity"]["kind"], first["entity"]["name"]) == ("database", "berths at db-1")
    assert first["entity"]["attributes"] == {"db.namespace": "berths", "server.address": "db-1"}
    assert answer["effect"]["delta"] == pytest.approx(0.078, rel=0.05)
    assert any("no traces" in note for note in answer["notes"])


def test_a_service_that_sends_nothing_is_said_to_send_neither(api: Api, began: int) -> None:
    status, answer = api.post("/api/inquiries", asked(began, "nobody"))
    assert status in (400, 422)
    assert "neither as traces nor in metrics" in answer["detail"]
