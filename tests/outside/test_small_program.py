"""Two stock-instrumented services send traces, metrics and logs to a live server; what arrives is held against what they did."""

from __future__ import annotations

import io
import json
import os
import subprocess
import sys
from datetime import UTC, datetime, timedelta
from pathlib import Path
from urllib.parse import urlencode

import pyarrow as pa
import pyarrow.parquet as pq
import pytest

from tests.api_client import Api
from tests.conftest import Instance
from tests.outside.fleet.running import ask, is_ready, wait_until
from wirbel.core.signals import points
from wirbel.runtime.database import free_port

REQUESTS = 20
ARRIVES_WITHIN_S = 15
TOKEN = "small program"  # its own: what others send is none of its business  # noqa: S105  a token's name
PROGRAM = Path(__file__).with_name("small_program.py")


@pytest.fixture(scope="module")
def harbour(instance: Instance, api: Api) -> datetime:
    """The program, used and stopped, so that all it had to send is acknowledged; when it began."""
    status, token = api.post("/api/tokens", {"name": TOKEN})
    assert status == 201, token
    environment = {
        **os.environ,
        "OTEL_EXPORTER_OTLP_ENDPOINT": instance.url,
        "OTEL_EXPORTER_OTLP_HEADERS": f"Authorization=Bearer {token['secret']}",
        "SMALL_DATABASE": instance.database,
    }
    front_port, back_port = free_port(0), free_port(0)
    back = subprocess.Popen([sys.executable, PROGRAM, "berth-office", str(back_port)], env=environment)
    front = subprocess.Popen([sys.executable, PROGRAM, "order-desk", str(front_port), f"http://127.0.0.1:{back_port}"], env=environment)
    began = datetime.now(UTC)
    for port in (front_port, back_port):
        wait_until(lambda port=port: is_ready(f"http://127.0.0.1:{port}/ready"), ARRIVES_WITHIN_S)
    for number in range(REQUESTS):
        ask(f"http://127.0.0.1:{front_port}/orders/{number}")
    for process in (front, back):
        process.terminate()  # on which the SDK sends what it still holds
    for process in (front, back):
        process.wait(15)
    return began


@pytest.fixture(scope="module")
def api(instance: Instance) -> Api:
    return Api(instance)


def export(api: Api, stream: str, began: datetime, form: str, **more: str) -> bytes:
    window = {"start": began.isoformat(), "end": (began + timedelta(hours=1)).isoformat(), **more}
    with api.opener.open(f"{api.instance.url}/api/export/{stream}?{urlencode({**window, 'form': form})}", timeout=30) as answer:
        return answer.read()


def exported(api: Api, stream: str, began: datetime, **more: str) -> pa.Table:
    return pq.read_table(io.BytesIO(export(api, stream, began, "parquet", **more)))


def test_every_request_arrives_with_its_spans(api: Api, harbour: datetime) -> None:
    back = exported(api, "spans", harbour, service="berth-office").to_pylist()
    front = exported(api, "spans", harbour, service="order-desk").to_pylist()
    served = [row for row in back if row["kind"] == 2 and row["operation"] == "GET /berths/<int:number>"]
    assert len(served) == REQUESTS
    asked = [row for row in back if row["peer_kind"] == "database"]
    assert len(asked) == REQUESTS
    assert {row["operation"] for row in asked} == {"SELECT pg_class"}
    calls = {row["span_id"]: row for row in front if row["kind"] == 3}
    assert all(row["parent_id"] in calls for row in served)
    assert {row["outcome"] for row in front} == {0}


def test_logs_lead_to_their_traces(api: Api, harbour: datetime) -> None:
    lines = exported(api, "logs", harbour, service="order-desk").to_pylist()
    assert sorted(line["body"] for line in lines) == sorted(f"order {n} answered with 200" for n in range(REQUESTS))
    assert {(line["severity"], line["scope"], line["host"]) for line in lines} == {(9, "harbour.office", "quay")}
    traces = {row["trace_id"] for row in exported(api, "spans", harbour, service="order-desk").to_pylist()}
    assert {line["trace_id"] for line in lines} <= traces
    [failure] = exported(api, "logs", harbour, service="berth-office").to_pylist()
    assert (failure["severity"], failure["body"]) == (17, "berth 13 is bewitched")
    assert failure["log.s:exception.type"] == "LookupError"
    assert "no berth for number 13" in failure["log.s:exception.stacktrace"]


def test_metrics_of_each_kind_count_what_was_done(api: Api, harbour: datetime) -> None:
    def newest(metric: str) -> dict | None:
        rows = [row for row in exported(api, "points", harbour, service="order-desk").to_pylist() if row["metric"] == metric]
        return max(rows, key=lambda row: row["time"], default=None)

    orders = newest("harbour.orders")
    assert orders is not None
    assert orders["value"] == REQUESTS
    assert (orders["kind"], orders["temporality"], orders["monotonic"], orders["unit"]) == (points.SUM, points.CUMULATIVE, True, "{order}")
    assert json.loads(orders["labels"]) == {"outcome": "done"}
    size = newest("harbour.order.size")
    assert size is not None
    tonnes = [1.5 * (n % 7 + 1) for n in range(REQUESTS)]
    assert (size["kind"], size["count"], size["total"], size["low"], size["high"]) == (points.EXPONENTIAL, REQUESTS, sum(tonnes), min(tonnes), max(tonnes))
    assert sum(size["buckets"]) + size["zeros"] == REQUESTS
    duration = newest("http.server.duration") or newest("http.server.request.duration")
    assert duration is not None
    assert duration["kind"] == points.HISTOGRAM
    assert len(duration["buckets"]) == len(duration["bounds"]) + 1
    memory = newest("process.memory.usage")
    assert memory is not None
    assert memory["value"] > 10e6


def test_the_intake_view_knows_who_sends_what(api: Api, harbour: datetime) -> None:
    def sources() -> set[tuple[str, str]]:
        return {(row["service"], row["stream"]) for row in api.get("/api/intake")[1]["sources"]}

    wanted = {(service, stream) for service in ("order-desk", "berth-office") for stream in ("spans", "logs", "points")}
    wait_until(lambda: wanted <= sources(), ARRIVES_WITHIN_S)
    state = api.get("/api/intake")[1]
    assert not [row for row in state["turned"] if row["token"] == TOKEN]  # other tests send what is refused on purpose
    rows = {row["signal"]: row["rows"] for row in state["signals"]}
    assert rows["logs"] >= REQUESTS + 1
    assert rows["metrics"] > 10


@pytest.fixture(scope="module")
def elsewhere() -> str:
    from tests.conftest import make_database

    return make_database("wirbel_copy")


@pytest.mark.parametrize("stream", ["spans", "logs", "points"])
def test_an_export_loaded_elsewhere_is_the_same_and_twice_is_once(api: Api, harbour: datetime, elsewhere: str, stream: str, tmp_path: Path) -> None:
    """OTLP JSON Lines and Parquet, into another database and out again."""
    before = exported(api, stream, harbour, service="berth-office")
    assert before.num_rows >= {"spans": 2 * REQUESTS, "logs": 1, "points": 5}[stream]
    environment = {**api.instance.environment, "WIRBEL_DATABASE_URL": elsewhere, "WIRBEL_HOME": str(tmp_path)}
    window = ["--from", harbour.isoformat(), "--to", (harbour + timedelta(hours=1)).isoformat()]

    def run(*words: str) -> str:
        done = subprocess.run([sys.executable, "-m", "wirbel", *words], env=environment, capture_output=True, text=True, check=True)
        return done.stdout

    for form in ("jsonl", "parquet"):
        file = tmp_path / f"{stream}.{form}"
        file.write_bytes(export(api, stream, harbour, form, service="berth-office"))
        first, second = run("load", str(file)), run("load", str(file))
        assert f"stored {before.num_rows} " in first or form == "parquet", first
        assert "stored before" in second, second
    run("export", stream, str(tmp_path / "out.parquet"), *window)
    after = pq.read_table(tmp_path / "out.parquet")
    if stream == "logs":  # records have no identity: two files are two sets of records
        assert after.num_rows == 2 * before.num_rows
        return
    key = ["trace_id", "span_id"] if stream == "spans" else ["metric", "labels", "time"]
    same = [name for name in before.column_names if name not in ("peer", "peer_kind")]  # what an address means is learned anew
    order = [(name, "ascending") for name in key]
    assert after.select(same).sort_by(order).to_pylist() == before.select(same).sort_by(order).to_pylist()


def test_csv_is_text_that_anything_reads(api: Api, harbour: datetime) -> None:
    import csv

    rows = list(csv.DictReader(io.StringIO(export(api, "logs", harbour, "csv", service="order-desk").decode())))
    assert len(rows) == REQUESTS
    assert all(len(row["trace_id"]) == 32 and int(row["time"]) > 10**18 for row in rows)


def test_wrong_exports_are_told_what_is_wrong(api: Api, harbour: datetime) -> None:
    window = {"start": harbour.isoformat(), "end": (harbour + timedelta(hours=1)).isoformat()}
    for stream, more, words in (
        ("dreams", {}, "stream must be one of"),
        ("logs", {"form": "xml"}, "format must be one of"),
        ("cells", {"form": "jsonl"}, "no signal of OTLP"),
        ("logs", {"end": window["start"]}, "ends before it starts"),
    ):
        status, answer = api.get(f"/api/export/{stream}?{urlencode({**window, **more})}")
        assert status == 400
        assert words in answer["detail"]
