"""Benchmarks on a database of their own; each prints the plain alternative from the same run.

Run: ./wirbel bench, which starts a throw-away database.
"""

from __future__ import annotations

import gzip
import statistics
import time
from collections.abc import Callable

from django.db import connection, transaction
from django.test import Client

from wirbel.core import arrow
from wirbel.core.signals import otlp, spans
from wirbel.demo.history import make_history
from wirbel.demo.simulate import World
from wirbel.explore import windows
from wirbel.explore.standing import overview
from wirbel.inquiry.ask import Asked, ask
from wirbel.intake.models import Token
from wirbel.store import packer, reading, segments
from wirbel.store.models import Block, Segment, Stream

BATCH = 512  # spans a request
HOUR_NS = 3600 * 10**9
NOW = 1_772_000_000 * 10**9


def timed(work: Callable[[], object]) -> float:
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def row_a_span(table: spans.pa.Table) -> tuple[float, float]:
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


def bench_packing(table: spans.pa.Table) -> None:
    """From accepted segments, as intake leaves them, to blocks and cells; against rows made ready in memory."""
    count = table.num_rows - table.num_rows % BATCH
    for first in range(0, count, BATCH):
        body = otlp.traces.encode(table.slice(first, BATCH))
        segments.append_once(Stream.SPANS, otlp.traces.decode([body], NOW).table, segments.digest_of(body))
    seconds = timed(packer.pack_all)
    size = sum(Block.objects.filter(stream=Stream.SPANS).values_list("size", flat=True)) / count
    plain_seconds, plain_size = row_a_span(table.slice(0, 20_000))
    speed, plain_speed = count / seconds, 20_000 / plain_seconds
    print(f"packing          {speed:12,.0f} spans/s   a row a span {plain_speed:10,.0f} spans/s   {speed / plain_speed:6.1f}× faster")
    print(f"size             {size:12.1f} B/span    a row a span {plain_size:10.1f} B/span    {plain_size / size:6.1f}× smaller")


def bench_accepting(table: spans.pa.Table) -> None:
    """Durable accept of gzip requests, decoded and checked, through the real view; one client after another."""
    token = Token.make("bench")
    bodies = [gzip.compress(otlp.traces.encode(table.slice(first, BATCH)), 6) for first in range(BATCH // 2, 60 * BATCH, BATCH)]  # none was sent before
    client = Client(SERVER_NAME="localhost")
    took = []
    for body in bodies:
        took.append(
            timed(
                lambda body=body: client.post(
                    "/v1/traces", body, content_type="application/x-protobuf", HTTP_CONTENT_ENCODING="gzip", HTTP_AUTHORIZATION=f"Bearer {token}"
                )
            )
        )
    assert Segment.objects.count() >= len(bodies)
    print(
        f"accepting        {len(took) / sum(took):12,.1f} requests/s of {BATCH} spans, {len(took) * BATCH / sum(took):,.0f} spans/s; median {statistics.median(took) * 1e3:.1f} ms, largest {max(took) * 1e3:.1f} ms"
    )
    Segment.objects.all().delete()


def bench_questions() -> None:
    """Diagnosis and Overview on about a million spans."""
    Block.objects.all().delete()
    world = World(1, make_history(NOW), 4.2)
    for first in range(NOW - 6 * HOUR_NS, NOW, HOUR_NS // 2):
        with transaction.atomic():
            packer.write(Stream.SPANS, spans.combine([world.requests(first, first + HOUR_NS // 2)]), level=1)
    count = sum(Block.objects.filter(stream=Stream.SPANS).values_list("rows", flat=True))
    start, end = NOW - 6 * HOUR_NS, NOW
    found = windows.signal(start, end)
    minute = 60 * 10**9
    focus, reference = ((found.grid.first + a * minute, min(found.grid.first + b * minute, end)) for a, b in (found.proposal.focus, found.proposal.reference))
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


def main() -> None:
    table = World(2, make_history(NOW), 20.0).requests(NOW - 8 * HOUR_NS, NOW - 8 * HOUR_NS + 700 * 10**9)
    print(f"{table.num_rows:,} spans of the demo world")
    bench_packing(table)
    bench_accepting(table)
    bench_questions()
