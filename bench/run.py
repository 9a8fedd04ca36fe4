"""Benchmarks on a database of their own; each prints the plain alternative from the same run.

Run: ./wirbel bench, which starts a throw-away database.
"""

from __future__ import annotations

import json
import os
import statistics
import threading
import time
from collections.abc import Callable

import numpy as np
import pyarrow as pa
from django.db import connection, transaction
from django.db.models import Sum
from opentelemetry.proto.collector.logs.v1.logs_service_pb2 import ExportLogsServiceRequest
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest
from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import ExportTraceServiceRequest

from bench import load
from bench.inquiry import bench_inquiry
from bench.json_door import bench_json
from bench.lookup import bench_lookup
from bench.world import bench_world
from wirbel.core import arrow
from wirbel.core.signals import otlp
from wirbel.core.signals.attributes import plain_value
from wirbel.demo.fill import store
from wirbel.demo.history import make_history
from wirbel.demo.making import recorded
from wirbel.demo.world.skerry import SKERRY
from wirbel.explore import windows
from wirbel.explore.health import overview
from wirbel.inquiry.ask import Asked, ask
from wirbel.intake.models import Token
from wirbel.store import packer, reading, segments
from wirbel.store.models import Block, Segment, Stream

BATCH = 512  # spans a request
TOGETHER = 12  # requests that wait at one moment and are stored together, as under load
HOUR_NS = 3600 * 10**9
NOW = 1_772_000_000 * 10**9


def timed(work: Callable[[], object]) -> float:
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def row_a_span(table: pa.Table) -> tuple[float, float]:
    """The plain alternative: a row a span through the ORM; seconds, and bytes a span with its index."""
    from django.db import models

    class SpanRow(models.Model):
        trace_id = models.BinaryField(db_index=True)
        span_id = models.BinaryField()
        parent_id = models.BinaryField(null=True)
        start = models.BigIntegerField(db_index=True)
        duration = models.BigIntegerField()
        service = models.TextField()
        name = models.TextField()
        kind = models.SmallIntegerField()
        outcome = models.SmallIntegerField()
        attributes = models.JSONField()

        class Meta:
            app_label = "bench"

    with connection.schema_editor() as editor:
        editor.create_model(SpanRow)
    try:
        records = table.select(["trace_id", "span_id", "parent_id", "start", "duration", "service", "name", "kind", "outcome"]).to_pylist()
        rows = [SpanRow(**record, attributes=arrow.attributes_of(table, i)["span"]) for i, record in enumerate(records)]
        seconds = timed(lambda: SpanRow.objects.bulk_create(rows, batch_size=1000))
        with connection.cursor() as cursor:
            cursor.execute("SELECT pg_total_relation_size(%s)", [SpanRow._meta.db_table])
            size = cursor.fetchone()[0]
    finally:
        with connection.schema_editor() as editor:
            editor.delete_model(SpanRow)
    return seconds, size / table.num_rows


def bench_packing(table: pa.Table) -> None:
    """From requests to blocks and cells, and the packing alone; against rows, from requests and ready in memory."""
    bodies = [otlp.traces.encode(table.slice(first, BATCH)) for first in range(0, table.num_rows - BATCH, BATCH)]
    count = len(bodies) * BATCH
    together = [bodies[first : first + TOGETHER] for first in range(0, len(bodies), TOGETHER)]

    def accept() -> None:
        for part in together:
            segments.append_once(Stream.SPANS, otlp.traces.decode(part, NOW).table, segments.digest_of(b"".join(part)))

    accepting, packing = timed(accept), timed(packer.pack_all)
    size = sum(Block.objects.filter(stream=Stream.SPANS).values_list("size", flat=True)) / count
    orm_seconds, plain_size = row_a_span(table.slice(0, 20_000))
    few = bodies[:40]
    all_seconds, copy_seconds = copied(few)
    speed, whole = count / packing, count / (accepting + packing)
    orm, copy, from_request = 20_000 / orm_seconds, len(few) * BATCH / copy_seconds, len(few) * BATCH / all_seconds
    print(f"packing          {speed:12,.0f} spans/s   a row a span {orm:10,.0f} spans/s   {speed / orm:6.1f}× faster")
    print(f"                 {' ' * 23}by COPY      {copy:10,.0f} spans/s   {speed / copy:6.1f}× faster")
    print(f"from requests    {whole:12,.0f} spans/s   by COPY      {from_request:10,.0f} spans/s   {whole / from_request:6.1f}× faster")
    print(f"size             {size:12.1f} B/span    a row a span {plain_size:10.1f} B/span    {plain_size / size:6.1f}× smaller")


def bench_accepting(table: pa.Table) -> None:
    """Durable accept of gzip requests through a real server with many senders; the senders share the machine."""
    token = Token.make("bench")
    bodies = [otlp.traces.encode(table.slice(first, BATCH)) for first in range(BATCH // 2, table.num_rows - BATCH, BATCH)]  # none was sent before
    half = len(bodies) // 2
    with load.serving() as url:
        load.send_all(url, token, "/v1/traces", bodies[:20])
        seconds, _ = load.send_all(url, token, "/v1/traces", bodies[20:half])
        speed = (half - 20) / seconds
        _, took = load.send_all(url, token, "/v1/traces", bodies[half:], a_second=speed / 2)
    print(
        f"accepting        {speed * BATCH:12,.0f} spans/s in requests of {BATCH}; at half that p50 {np.quantile(took, 0.5) * 1e3:.0f} ms, p99 {np.quantile(took, 0.99) * 1e3:.0f} ms"
    )
    Segment.objects.all().delete()


def bench_freshness(table: pa.Table) -> None:
    """From sending a log record to finding it, while spans arrive at a steady pace and a worker packs them."""
    token = Token.make("freshness")
    bodies = [otlp.traces.encode(table.slice(first, BATCH)) for first in range(0, 120 * BATCH, BATCH)]
    waited: list[float] = []
    with load.serving(workers=1) as url:
        busy = threading.Thread(target=load.send_all, args=(url, token, "/v1/traces", bodies, 15.0))
        busy.start()
        for n in range(15):
            record = ExportLogsServiceRequest()
            now = time.time_ns()
            one = record.resource_logs.add().scope_logs.add().log_records.add(time_unix_nano=now)
            one.body.string_value = f"seen {n}"
            began = time.perf_counter()
            load.send_all(url, token, "/v1/logs", [record.SerializeToString()])
            while not reading.logs(now, now + 1).num_rows:
                time.sleep(0.01)
            waited.append(time.perf_counter() - began)
        busy.join()
    print(f"seen after       {np.quantile(waited, 0.5) * 1e3:12.0f} ms, p95 {np.quantile(waited, 0.95) * 1e3:.0f} ms, while 7,680 spans/s arrive")
    Segment.objects.all().delete()


PACK_ALL = """
import os, sys, time
from wirbel.runtime import environment
with environment.database():
    from wirbel.store import packer
    print("ready", flush=True)
    sys.stdin.readline()
    began = time.time()
    while packer._pack("spans", 60): pass
    print(began, time.time(), flush=True)
"""


def bench_two_workers(table: pa.Table) -> None:
    """The same segments packed by one worker process and by two; both are started before the clock."""
    took = {}
    for workers in (1, 2):
        Block.objects.all().delete()
        for first in range(0, table.num_rows - BATCH, BATCH):
            segments.append(Stream.SPANS, table.slice(first, BATCH))
        took[workers] = load.run_together([PACK_ALL] * workers)
    print(f"two workers      {took[1] / took[2]:12.2f}× one, on {os.cpu_count()} cores that the database shares")


def some_logs(count: int) -> bytes:
    """Lines of a few templates with their values, as services write them."""
    rng = np.random.default_rng(3)
    request = ExportLogsServiceRequest()
    holder = request.resource_logs.add()
    holder.resource.attributes.add(key="service.name").value.string_value = "gate-api"
    scope = holder.scope_logs.add()
    for n in range(count):
        line = scope.log_records.add(time_unix_nano=NOW + n * 10**6, severity_number=9, trace_id=rng.bytes(16), span_id=rng.bytes(8))
        line.body.string_value = f"pass {rng.integers(10**6)} scanned at gate {rng.integers(40)} in {rng.integers(90)} ms"
    return request.SerializeToString()


def some_points(series: int, samples: int) -> bytes:
    """Gauges and counters, one sample every ten seconds."""
    rng = np.random.default_rng(4)
    request = ExportMetricsServiceRequest()
    holder = request.resource_metrics.add()
    holder.resource.attributes.add(key="service.name").value.string_value = "gate-api"
    scope = holder.scope_metrics.add()
    gauge, counter = scope.metrics.add(name="pool.used", unit="1").gauge, scope.metrics.add(name="requests", unit="1").sum
    counter.aggregation_temporality, counter.is_monotonic = 2, True
    for number in range(series):
        count = 0
        for n in range(samples):
            at = NOW + n * 10**10
            count += int(rng.integers(0, 50))
            point = (
                gauge.data_points.add(time_unix_nano=at, as_int=int(rng.integers(0, 20)))
                if number % 2
                else counter.data_points.add(time_unix_nano=at, as_int=count)
            )
            point.attributes.add(key="pool").value.string_value = f"pool-{number}"
    return request.SerializeToString()


def bench_logs_and_points() -> None:
    """Packing of log records and samples, and what they take; unique text counts apart."""
    for stream, decode, body in ((Stream.LOGS, otlp.logs.decode, some_logs(60_000)), (Stream.POINTS, otlp.metrics.decode, some_points(600, 240))):
        decoded = decode([body], NOW + 10**15).table
        for first in range(0, decoded.num_rows, 2000):
            segments.append(stream, decoded.slice(first, 2000))
        seconds = timed(lambda stream=stream: packer.pack(stream))
        held = Block.objects.filter(stream=stream, step=0).aggregate(size=Sum("size"), rows=Sum("rows"))
        plain = ""
        if stream == Stream.LOGS:
            text = pa.compress(pa.py_buffer("".join(decoded["body"].to_pylist()).encode()), codec="zstd").size + 24 * decoded.num_rows
            plain = f"   of it {text / decoded.num_rows:.1f} B unique text and ids"
        print(f"pack {stream:<11} {decoded.num_rows / seconds:12,.0f} records/s   {held['size'] / held['rows']:.1f} B each{plain}")


def bench_questions() -> None:
    """Diagnosis and Overview on about a million spans, with their metrics and logs."""
    Block.objects.all().delete()
    world = recorded(SKERRY, 1, NOW - 6 * HOUR_NS, NOW, 3.8, make_history(1, NOW))
    for first in range(NOW - 6 * HOUR_NS, NOW, HOUR_NS // 2):
        store(world.telemetry(first, first + HOUR_NS // 2))
    count = sum(Block.objects.filter(stream=Stream.SPANS).values_list("rows", flat=True))
    start, end = NOW - 6 * HOUR_NS, NOW
    found = windows.signal(start, end)
    minute = 60 * 10**9
    focus, reference = (
        (found.series.grid.first + a * minute, min(found.series.grid.first + b * minute, end)) for a, b in (found.proposal.focus, found.proposal.reference)
    )
    asked = Asked("quay-web", None, "latency", focus, reference)
    cold = timed(lambda: ask(asked))
    warm = statistics.median(timed(lambda: ask(asked)) for _ in range(5))
    print(f"diagnosis        {cold:12.2f} s first, {warm:.2f} s after, {count:,} spans stored")
    overview(start, end, focus, reference, None)
    warm = statistics.median(timed(lambda: overview(start, end, focus, reference, None)) for _ in range(7))
    print(f"overview         {warm * 1e3:12.0f} ms, {count:,} spans stored")
    trace = reading.window_spans(focus[0], focus[1], columns=["trace_id"])["trace_id"][0].as_py()
    took = statistics.median(timed(lambda: reading.trace(trace)) for _ in range(7))
    print(f"trace by its id  {took * 1e3:12.0f} ms")


def rows_of(body: bytes) -> list[tuple[object, ...]]:
    """A request's spans as rows, in a plain loop, as somebody who begins with rows would write it."""
    found = []
    for resource in ExportTraceServiceRequest.FromString(body).resource_spans:
        service = next((pair.value.string_value for pair in resource.resource.attributes if pair.key == "service.name"), "")
        for scope in resource.scope_spans:
            for span in scope.spans:
                attributes = json.dumps({pair.key: plain_value(pair.value) for pair in span.attributes})
                times = span.start_time_unix_nano, span.end_time_unix_nano - span.start_time_unix_nano
                found.append((span.trace_id, span.span_id, span.parent_span_id or None, *times, service, span.name, span.kind, span.status.code, attributes))
    return found


def copied(bodies: list[bytes]) -> tuple[float, float]:
    """The other plain alternative, a row a span through COPY, indexed: seconds with rows made from requests, and of COPY alone."""
    with connection.cursor() as cursor:
        cursor.execute(
            "CREATE TABLE copied (trace_id bytea, span_id bytea, parent_id bytea, start bigint, duration bigint, service text, name text, kind int, status int, attributes jsonb)"
        )
        cursor.execute("CREATE INDEX ON copied (trace_id)")
        cursor.execute("CREATE INDEX ON copied (start)")
        began = time.perf_counter()
        rows = [row for body in bodies for row in rows_of(body)]
        ready = time.perf_counter()
        with transaction.atomic(), cursor.copy("COPY copied FROM STDIN") as copy:
            for row in rows:
                copy.write_row(row)
        ended = time.perf_counter()
        cursor.execute("DROP TABLE copied")
    return ended - began, ended - ready


def run(names: list[str]) -> None:
    """All benchmarks, or those named."""
    table = recorded(SKERRY, 2, NOW - 8 * HOUR_NS, NOW - 7 * HOUR_NS, 20.0).traffic.spans(NOW - 8 * HOUR_NS, NOW - 8 * HOUR_NS + 700 * 10**9)
    print(f"{table.num_rows:,} spans of the demo world")
    benchmarks = {
        "packing": lambda: bench_packing(table),
        "accepting": lambda: bench_accepting(table),
        "freshness": lambda: bench_freshness(table),
        "workers": lambda: bench_two_workers(table),
        "records": bench_logs_and_points,
        "questions": bench_questions,
        "inquiry": bench_inquiry,
        "lookup": bench_lookup,
        "json": bench_json,
        "world": bench_world,
    }
    for name in names or benchmarks:
        benchmarks[name]()
