"""Mutated real requests at every door: each gets a clear answer, none a crash or a hang."""

from __future__ import annotations

import gzip
import json
import os
import time

import numpy as np
import pytest

from tests.builders import request
from tests.core import test_otlp_logs as log_requests
from tests.core import test_otlp_metrics as metric_requests
from tests.core.test_changes import PLAIN, cloud_event
from tests.core.test_otlp_traces import EXAMPLE
from tests.door_client import knock
from wirbel.intake.models import Token
from wirbel.store import packer
from wirbel.store.models import Segment

pytestmark = pytest.mark.django_db
BODIES = int(os.environ.get("WIRBEL_FUZZ", "1200"))  # of each door; 25 000 were run by hand, see docs/operations.md
SLOWEST_S = 5.0
PROTOBUF, JSON = "application/x-protobuf", "application/json"

SPANS = request(
    {"attributes": {"http.request.method": "GET", "n": 7, "f": 1.5, "b": True}, "trace_state": "ot=th:8"},
    {"name": "SELECT", "kind": 3, "attributes": {"db.system.name": "postgresql", "db.query.text": "SELECT * FROM t WHERE id = 'x'"}},
    resource={"service.name": "shop", "host.name": "islet-1"},
).SerializeToString()
POINTS = metric_requests.request(
    metric_requests.metric("gauge", as_double=1.5, attributes={"pool": "a"}),
    metric_requests.metric("sum", temporality=2, as_int=7),
    metric_requests.metric("histogram", temporality=2, count=3, sum=4.0, explicit_bounds=[1, 2], bucket_counts=[1, 1, 1]),
    metric_requests.metric("exponential_histogram", temporality=1, count=3, scale=2, zero_count=1, positive=(3, [2])),
    metric_requests.metric("summary", count=2, sum=3.0, quantile_values=[{"quantile": 0.5, "value": 1.0}]),
)
LOGS = log_requests.request(
    {"body": {"a": [1, {"b": "c"}]}, "attributes": {"k": ["x", 1]}, "trace_id": bytes(range(1, 17))}, {"body": "plain", "severity_number": 9}
)
LOG_JSON = {"resourceLogs": [{"scopeLogs": [{"logRecords": [{"timeUnixNano": "1700000000000000000", "body": {"stringValue": "x"}, "traceId": "01" * 16}]}]}]}

DOORS = {
    "/v1/traces": [(PROTOBUF, SPANS), (JSON, json.dumps(EXAMPLE).encode())],
    "/v1/metrics": [(PROTOBUF, POINTS), (JSON, json.dumps(metric_requests.EXAMPLE).encode())],
    "/v1/logs": [(PROTOBUF, LOGS), (JSON, json.dumps(LOG_JSON).encode())],
    "/v1/changes": [(JSON, json.dumps(PLAIN).encode()), ("application/cloudevents+json", json.dumps(cloud_event()).encode())],
}
TOKENS = [b"null", b"[]", b"{}", b'"\\u0000"', b'"\\ud800"', b"1e999", b"-1", b"NaN", b'"' + b"9" * 40 + b'"', b"[" * 400, b"\xff\xfe"]


def mutated(body: bytes, rng: np.random.Generator) -> bytes:
    """One to six changes: bytes flipped, cut out, doubled, inserted, or a JSON value put in."""
    data = bytearray(body)
    for _ in range(int(rng.integers(1, 7))):
        at = int(rng.integers(0, max(len(data), 1)))
        length = int(rng.integers(1, 9))
        match int(rng.integers(0, 6)):
            case 0:
                data[at : at + 1] = bytes([int(rng.integers(0, 256))])
            case 1:
                del data[at : at + length]
            case 2:
                data[at:at] = data[at : at + length] * int(rng.integers(1, 4))
            case 3:
                data[at:at] = rng.bytes(length)
            case 4:
                data[at : at + length] = TOKENS[int(rng.integers(0, len(TOKENS)))]
            case _:
                data = data[: max(at, 1)]
    return bytes(data)


@pytest.mark.parametrize("path", DOORS)
def test_no_body_breaks_a_door(path: str) -> None:
    rng = np.random.default_rng(len(path))
    headers = {"Authorization": f"Bearer {Token.make('fuzz')}"}
    seen: dict[int, int] = {}
    slowest = 0.0
    for _ in range(BODIES):
        kind, body = DOORS[path][int(rng.integers(0, len(DOORS[path])))]
        sent = mutated(body, rng)
        more = dict(headers)
        if rng.random() < 0.1:
            sent, more["Content-Encoding"] = mutated(gzip.compress(sent), rng), "gzip"
        began = time.monotonic()
        answer = knock(path, sent, headers={"Content-Type": kind, **more})
        slowest = max(slowest, time.monotonic() - began)
        seen[answer.status_code] = seen.get(answer.status_code, 0) + 1
        assert answer.status_code in (200, 201, 400, 413, 415), (answer.status_code, kind, sent[:300])
    assert seen[400] > 0
    assert seen.get(200, 0) + seen.get(201, 0) > 0
    assert slowest < SLOWEST_S
    # What was taken can be packed, all of it.
    packer.pack_all()
    assert list(Segment.objects.values_list("error", flat=True)) == []
