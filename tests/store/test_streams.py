"""Logs and samples in the store, what is remembered of them, and what happens to records that come twice or cannot be packed."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from importlib import import_module

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pytest
from django.apps import apps
from django.db import connection

from tests.builders import NOW, table
from tests.core import test_otlp_logs as log_requests
from tests.core import test_otlp_metrics as metric_requests
from tests.store.test_store import WIDE, recount, some_spans
from wirbel.core import cells as cell_model
from wirbel.core.signals import entities, otlp, points, spans
from wirbel.core.topology.graph import EntityId
from wirbel.store import blocks, catalogue, packer, reading, segments
from wirbel.store.models import Arrival, AttributeName, Block, Entity, Metric, Relation, Segment, Service, Stream

pytestmark = pytest.mark.django_db
HOUR_NS = 3600 * 10**9


def accept(stream: str, decoded: otlp.Decoded, name: str) -> None:
    assert segments.append_once(stream, decoded.table, segments.digest_of(name.encode()))


def some_logs(count: int = 6, service: str = "shop", step_ns: int = 10**9) -> otlp.Decoded:
    records = [{"body": f"line {n}", "time_unix_nano": NOW - n * step_ns, "severity_number": 9, "attributes": {"order": n}} for n in range(count)]
    return log_requests.decode(*records, resource={"service.name": service, "host.name": "islet-1", "k8s.pod.name": "pod-a", "process.pid": 41})


def some_points(count: int = 5, pool: str = "a") -> otlp.Decoded:
    made = [metric_requests.metric("gauge", as_int=n, time_unix_nano=NOW - n * 10**9, attributes={"pool": pool}) for n in range(count)]
    return metric_requests.decode(*made)


@pytest.mark.parametrize("packed", [False, True])
def test_logs_are_read_in_order_of_time_before_and_after_packing(packed: bool) -> None:
    accept("logs", some_logs(), "a")
    accept("logs", some_logs(4, service="other"), "b")
    if packed:
        assert packer.pack("logs") == 10
        assert Segment.objects.count() == 0
    found = reading.logs(*WIDE, services=["shop"])
    assert found["body"].to_pylist() == [f"line {n}" for n in range(5, -1, -1)]
    assert found["log.i:order"].to_pylist() == list(range(5, -1, -1))
    assert reading.logs(*WIDE).num_rows == 10
    assert reading.logs(NOW - 2 * 10**9, NOW, services=["shop"])["body"].to_pylist() == ["line 2", "line 1"]
    assert reading.logs(*WIDE, environment="elsewhere").num_rows == 0


@pytest.mark.parametrize("packed", [False, True])
def test_samples_are_read_series_by_series_and_once(packed: bool) -> None:
    accept("points", some_points(), "a")
    accept("points", some_points(8), "the same series again, and three samples more")
    accept("points", some_points(2, pool="b"), "c")
    if packed:
        packer.pack("points")
    found = reading.points(*WIDE, metric="queue.length")
    assert [(row["labels"], row["value"]) for row in found.to_pylist()] == [
        *[('{"pool": "a"}', float(n)) for n in range(7, -1, -1)],
        *[('{"pool": "b"}', float(n)) for n in (1, 0)],
    ]


def test_merging_blocks_of_logs_and_samples_changes_no_answer() -> None:
    for part in range(20):
        accept("logs", some_logs(3 + part % 4, step_ns=10**7 * (part + 1)), f"logs {part}")
        accept("points", some_points(2 + part, pool=f"p{part % 3}"), f"points {part}")
        packer.pack_all()

    def answers() -> list[object]:
        lines = reading.logs(*WIDE)
        samples = reading.points(*WIDE)
        return [sorted(zip(lines["time"].to_pylist(), lines["body"].to_pylist(), strict=True)), samples.select(["labels", "time", "value"]).to_pylist()]

    before, count = answers(), Block.objects.count()
    while packer.merge_once():
        pass
    assert Block.objects.count() < count
    assert answers() == before


KINDS = ("gauge", "delta", "cumulative", "histogram")


def counted(seconds: Sequence[int]) -> otlp.Decoded:
    """Samples of every kind at some seconds before NOW."""
    begun, made = NOW - 3600 * 10**9, []
    for s in seconds:
        at = NOW - s * 10**9
        made += [
            metric_requests.metric("gauge", "gauge", as_double=float(s % 7), time_unix_nano=at),
            metric_requests.metric("sum", "delta", temporality=points.DELTA, as_int=1 + s % 5, time_unix_nano=at, start_time_unix_nano=at - 10**9),
            metric_requests.metric("sum", "cumulative", temporality=points.CUMULATIVE, as_int=10_000 - 3 * s, time_unix_nano=at, start_time_unix_nano=begun),
            metric_requests.metric(
                "histogram",
                "histogram",
                temporality=points.DELTA,
                count=3,
                sum=6.0,
                bucket_counts=[1, 2],
                explicit_bounds=[1.0],
                time_unix_nano=at,
                start_time_unix_nano=at - 10**9,
            ),
        ]
    return metric_requests.decode(*made)


def summed(metric: str, step: int) -> list[tuple[object, ...]]:
    found = reading.points(*WIDE, metric=metric, step=step)
    columns = ["time", "value", "count", "total", "low", "high"]
    return [tuple(row[name] for name in columns) for row in found.select(columns).to_pylist()]


def test_samples_sent_again_in_other_batches_count_once_in_every_summary() -> None:
    """As a sender does that had no answer: what waits is sent again, cut otherwise."""
    rng = np.random.default_rng(4)
    seconds = [*range(300)]
    accept("points", counted(seconds), "all at once")
    packer.pack_all()
    later = NOW + 10**15
    while packer.merge_once(later):
        pass
    once = {(metric, step): summed(metric, step) for metric in KINDS for step in (0, 600, 3600)}
    Block.objects.all().delete()
    for part in range(12):
        first = 300 - 25 * (part + 1)
        again = rng.choice(range(first, 300), 20, replace=False).tolist()
        accept("points", counted([*range(first, first + 25), *again]), f"part {part}")
        packer.pack_all()
        if part % 3 == 2:
            while packer.merge_once(later):
                pass
    assert {key: summed(*key) for key in once} == once
    # Nothing but what is known: no record, and no summary.
    known = set(Block.objects.values_list("id", flat=True))
    accept("points", counted(seconds[10:60]), "only again")
    packer.pack_all()
    while packer.merge_once(later):
        pass
    assert {key: summed(*key) for key in once} == once
    assert set(Block.objects.values_list("id", flat=True)) <= known


def test_environments_are_kept_in_blocks_of_their_own() -> None:
    both = table(*[{"trace": n, "span": n, "environment": "live" if n % 2 else "test", "start": n} for n in range(1, 9)])
    accept("spans", otlp.Decoded(both, np.zeros(8, np.int64)), "a")
    packer.pack_all()
    assert sorted(Block.objects.filter(stream=Stream.SPANS).values_list("environment", "rows")) == [("live", 4), ("test", 4)]
    assert reading.window_spans(*WIDE, environment="live").num_rows == 4


def test_a_trace_over_two_environments_keeps_its_parents() -> None:
    rows = [
        {"trace": 1, "span": 1, "environment": "live", "start": 0, "duration": 9},
        {"trace": 1, "span": 2, "parent": 1, "environment": "test", "start": 1, "duration": 5},
        {"trace": 1, "span": 3, "parent": 1, "environment": "live", "start": 2, "duration": 5},
    ]
    accept("spans", otlp.Decoded(table(*rows), np.zeros(3, np.int64)), "a")
    packer.pack_all()
    found = reading.trace((1).to_bytes(16, "big"))
    assert {row["span_id"][-1]: row["parent_id"] and row["parent_id"][-1] for row in found.to_pylist()} == {1: None, 2: 1, 3: 1}


def test_a_span_in_two_requests_packed_apart_is_counted_once() -> None:
    accept("spans", otlp.Decoded(some_spans(range(1, 9)), np.zeros(0)), "first")
    packer.pack_all()
    accept("spans", otlp.Decoded(some_spans(range(5, 13)), np.zeros(0)), "half of it again")
    packer.pack_all()
    stored = reading.window_spans(*WIDE)
    assert stored.num_rows == 12 * 3
    assert recount(reading.cells(*WIDE)) == recount(cell_model.derive(stored))


def test_a_request_of_spans_that_are_all_stored_leaves_no_block() -> None:
    for name in ("first", "again in another batch"):
        accept("spans", otlp.Decoded(some_spans(range(1, 5)), np.zeros(0)), name)
        packer.pack_all()
    assert Block.objects.filter(stream=Stream.SPANS).count() == 1
    assert Segment.objects.count() == 0


def test_what_cannot_be_packed_is_set_aside_and_the_rest_goes_on(monkeypatch: pytest.MonkeyPatch) -> None:
    accept("logs", some_logs(2), "good")
    accept("logs", some_logs(3, service="poison"), "bad")
    accept("logs", some_logs(4, service="other"), "good too")
    genuine = catalogue.remember

    def stumble(stream: str, given: object, *more: object) -> None:
        if "poison" in given["service"].to_pylist():  # type: ignore[index]
            raise ValueError("a row that nobody foresaw")
        genuine(stream, given, *more)  # type: ignore[arg-type]

    monkeypatch.setattr(catalogue, "remember", stumble)
    packer.pack_all()
    [kept] = Segment.objects.all()
    assert (kept.rows, kept.error) == (3, "ValueError: a row that nobody foresaw")
    assert packer.pack_all() == 0
    # Nothing is lost: it can still be read.
    assert reading.logs(*WIDE).num_rows == 9


def test_a_segment_that_nothing_goes_with_takes_no_fresh_answer_with_it() -> None:
    """It was set aside because it cannot be combined with the others; questions about what is fresh go on without it."""
    accept("logs", some_logs(3), "good")
    accept("logs", some_logs(2, service="shop"), "spoilt")
    spoilt = Segment.objects.order_by("id").last()
    assert spoilt is not None
    unlike = some_logs(2).table
    unlike = unlike.set_column(unlike.schema.get_field_index("time"), "time", pa.array(["now", "then"]))
    Segment.objects.filter(id=spoilt.id).update(data=blocks.to_ipc(unlike), error="ArrowTypeError: text is no time")
    assert reading.logs(*WIDE).num_rows == 3
    Segment.objects.filter(id=spoilt.id).update(data=b"not even Arrow")
    assert reading.logs(*WIDE).num_rows == 3


def test_an_address_names_a_service_of_its_environment_and_only_while_it_answers() -> None:
    """10.0.0.7 answers as back in one environment; a day later the address is somebody else's, or nobody's."""

    def call(number: int, environment: str, at: float, answered_by: str | None = None) -> None:
        span = {"trace": number, "span": 10 * number, "kind": spans.CLIENT, "peer": "10.0.0.7", "peer_kind": "external", "start": at, "duration": 5}
        rows = [span | {"service": "front", "environment": environment}]
        if answered_by:
            rows.append(
                {
                    "trace": number,
                    "span": 10 * number + 1,
                    "parent": 10 * number,
                    "service": answered_by,
                    "environment": environment,
                    "start": at + 1,
                    "duration": 2,
                }
            )
        accept("spans", otlp.Decoded(table(*rows), np.zeros(0)), f"{number}")
        packer.pack_all()

    def peers_of(number: int) -> list[str]:
        found = reading.trace(number.to_bytes(16, "big"))
        return found.filter(pc.equal(found["service"], "front"))["peer"].to_pylist()

    hour_ms, day_ms = 3_600_000, 24 * 3_600_000
    call(1, "production", -2 * day_ms, answered_by="back")
    call(2, "production", -2 * day_ms + hour_ms / 2)
    call(3, "staging", -2 * day_ms + hour_ms / 2)
    call(4, "production", -day_ms)
    call(5, "production", -day_ms + 1000, answered_by="mail")
    call(6, "production", -day_ms + 2000)
    assert [peers_of(number) for number in range(1, 7)] == [["back"], ["back"], ["10.0.0.7"], ["10.0.0.7"], ["mail"], ["mail"]]


def test_relations_are_kept_with_the_time_in_which_they_were_seen() -> None:
    accept("logs", some_logs(6), "a")
    packer.pack_all()
    shop, host = EntityId("service", "shop"), EntityId("host", "islet-1")
    graph = reading.entity_graph(NOW - HOUR_NS, NOW + 1, "default")
    assert graph.tenants(host) == {shop}
    assert reading.entity_graph(NOW + HOUR_NS, NOW + 2 * HOUR_NS).entities == set()
    accept("logs", some_logs(4000), "an hour before")
    packer.pack_all()
    [relation] = Relation.objects.filter(verb="runs on", subject_kind="pod")
    assert (relation.first_seen, relation.last_seen) == (NOW - 3999 * 10**9, NOW)


def test_what_was_seen_is_remembered() -> None:
    accept("logs", some_logs(6), "a")
    accept("points", some_points(5), "b")
    packer.pack_all()
    service = Service.objects.get(name="shop")
    assert (service.first_seen, service.last_seen) == (NOW - 5 * 10**9, NOW)
    assert {(row.stream, row.rows, row.newest) for row in Arrival.objects.all()} == {("logs", 6, NOW), ("points", 5, NOW)}
    metric = Metric.objects.get()
    assert (metric.service, metric.name, metric.unit, metric.kind) == ("shop", "queue.length", "{item}", 0)
    shares = {(n.level, n.name): n.rows for n in AttributeName.objects.filter(stream="logs")}
    assert shares["", ""] == 6
    assert shares["log", "order"] == 6
    assert shares["resource", "k8s.pod.name"] == 6
    runs_on = {(e.kind, e.name): (e.runs_on_kind, e.runs_on) for e in Entity.objects.all()}
    assert runs_on["pod", "pod-a"] == ("host", "islet-1")
    assert runs_on["process", "41 on islet-1"] == ("pod", "pod-a")
    assert runs_on["host", "islet-1"] == ("", "")
    packer.pack_all()
    accept("logs", some_logs(4), "more")
    packer.pack_all()
    assert AttributeName.objects.get(stream="logs", name="order").rows == 10


def test_databases_are_entities_though_they_send_nothing() -> None:
    call = {"trace": 1, "span": 1, "kind": spans.CLIENT, "peer": "berth-db", "peer_kind": "database"}
    found = entities.entities_of(table(call, call | {"span": 2, "peer": "back", "peer_kind": "service"}))
    assert found == {entities.Entity("default", "database", "berth-db")}


def test_ids_as_names_do_not_blow_up_the_catalogue(monkeypatch: pytest.MonkeyPatch) -> None:
    """High cardinality (common practice): an attribute made of ids is bounded, and the records are all kept."""
    for name in ("MOST_ENTITIES", "MOST_SERVICES", "MOST_METRICS", "MOST_NAMES"):
        monkeypatch.setattr(catalogue, name, 30)
    records = [{"body": "x", "attributes": {f"id.{n}": n}} for n in range(120)]
    accept("logs", log_requests.decode(*records), "wide")
    for n in range(50):
        accept("logs", log_requests.decode({"body": "y"}, resource={"service.name": f"s{n}", "host.name": f"h{n}"}), f"service {n}")
        accept("points", metric_requests.decode(metric_requests.metric("gauge", f"m.{n}", as_int=n)), f"metric {n}")
    packer.pack_all()
    assert max(model.objects.count() for model in (Service, Entity, Metric)) <= 30
    assert AttributeName.objects.filter(stream="logs").count() <= 30
    assert reading.logs(*WIDE).num_rows == 170
    assert reading.points(*WIDE).num_rows == 50


def test_names_that_the_database_cannot_hold_are_mended() -> None:
    long = "s" * 5_000
    accept("logs", log_requests.decode({"body": "nul\x00inside"}, resource={"service.name": "a\x00b", "host.name": long}), "nul")
    packer.pack_all()
    [row] = reading.logs(*WIDE).to_pylist()
    assert (row["service"], row["body"], len(row["host"])) == ("a\ufffdb", "nul\x00inside", 200)
    assert Service.objects.filter(name="a\ufffdb").exists()


@pytest.mark.django_db(transaction=True)
def test_a_reader_sees_each_record_once_while_workers_pack_and_merge() -> None:
    """Two workers move records from segments to blocks and merge those; whoever reads meanwhile counts the same."""
    for part in range(60):
        accept("logs", some_logs(5, step_ns=1 + part), f"part {part}")
    done = threading.Event()
    failures: list[BaseException] = []

    def work() -> None:
        try:
            while packer._pack("logs", 1) or packer.merge_once():
                pass
        except BaseException as error:
            failures.append(error)
        finally:
            connection.close()
            done.set()

    workers = [threading.Thread(target=work) for _ in range(2)]
    for worker in workers:
        worker.start()
    counts = set()
    while not done.is_set():
        counts.add(reading.logs(*WIDE).num_rows)
    for worker in workers:
        worker.join()
    assert not failures
    assert counts | {reading.logs(*WIDE).num_rows} == {300}


@pytest.mark.django_db(transaction=True)
def test_two_workers_that_hold_the_same_span_store_it_once() -> None:
    for name in ("one request", "another with the same spans"):
        accept("spans", otlp.Decoded(some_spans(range(1, 40)), np.zeros(0)), name)
    together = threading.Barrier(2)

    def work() -> None:
        together.wait()
        packer._pack("spans", 1)
        connection.close()

    workers = [threading.Thread(target=work) for _ in range(2)]
    for worker in workers:
        worker.start()
    for worker in workers:
        worker.join()
    ids = [i for part in blocks.read(Block.objects.filter(stream="spans")) for i in part["span_id"].to_pylist()]
    assert len(ids) == len(set(ids)) == 39 * 3
    assert recount(reading.cells(*WIDE)) == recount(cell_model.derive(reading.window_spans(*WIDE)))


def test_filters_of_older_versions_are_made_again() -> None:
    packer.write("spans", some_spans(range(1, 50)))
    packer.write("logs", some_logs(20).table, level=1)
    made = [*Block.objects.order_by("id").values_list("trace_filter", "word_filter")]
    assert [(held is not None, of_words is not None) for held, of_words in made].count((True, True)) == 1
    Block.objects.filter(stream="spans").update(trace_filter=b"as it was")
    Block.objects.filter(stream="logs").update(trace_filter=b"as it was", word_filter=b"as it was")
    import_module("wirbel.store.migrations.0007_filters_in_segments").make_again(apps, None)
    assert [*Block.objects.order_by("id").values_list("trace_filter", "word_filter")] == made
