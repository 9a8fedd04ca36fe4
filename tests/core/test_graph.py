"""The graph of entities, from the records of each signal."""

from __future__ import annotations

from tests.builders import NOW, table
from tests.core import test_otlp_logs as log_requests
from tests.core import test_otlp_metrics as metric_requests
from wirbel.core.signals import otlp, spans
from wirbel.core.signals.entities import entities_of
from wirbel.core.topology.graph import EntityGraph, EntityId, Relation, relations_of

PLACE = {"service.name": "fares", "service.instance.id": "fares-1", "k8s.pod.name": "pod-7", "host.name": "islet-3", "cloud.availability_zone": "mid"}
FARES, INSTANCE, POD, HOST, ZONE = (
    EntityId(*one) for one in (("service", "fares"), ("instance", "fares-1"), ("pod", "pod-7"), ("host", "islet-3"), ("zone", "mid"))
)


def test_spans_tell_calls_and_what_is_used() -> None:
    call = {"trace": 1, "span": 1, "service": "fares", "kind": spans.CLIENT, "instance": "fares-1", "host": "islet-3"}
    calls = table(
        call | {"peer": "identity", "peer_kind": "service"},
        call | {"span": 2, "peer": "berths at berth-db", "peer_kind": "database"},
        call | {"span": 3, "peer": "tides.example", "peer_kind": "external"},
    )
    found = relations_of(calls, entities_of(calls), 1, 9)
    told = {(one.subject, one.verb, one.object) for one in found}
    database = EntityId("database", "berths at berth-db")
    assert (FARES, "calls", EntityId("service", "identity")) in told
    assert (FARES, "uses", database) in told
    assert (FARES, "calls", EntityId("external", "tides.example")) in told
    assert (database, "part of", EntityId("server", "berth-db")) in told
    assert (INSTANCE, "part of", FARES) in told
    assert (INSTANCE, "runs on", HOST) in told
    assert {(one.first, one.last) for one in found} == {(1, 9)}


def test_logs_and_samples_tell_what_runs_where() -> None:
    logs = log_requests.decode({"body": "x"}, resource=PLACE).table
    samples = otlp.metrics.decode([metric_requests.request(metric_requests.metric("gauge", "m", as_int=1), resource=PLACE)], NOW + 10**10).table
    for records in (logs, samples):
        graph = EntityGraph(relations_of(records, entities_of(records), 0, 1))
        assert graph.beneath(INSTANCE, "runs on") == {POD, HOST, ZONE}
        assert graph.tenants(HOST) == graph.tenants(ZONE) == {FARES}


def test_walks_end_in_a_circle_and_go_both_ways() -> None:
    a, b, c = (EntityId("service", name) for name in "abc")
    graph = EntityGraph([Relation("e", a, "calls", b, 0, 1), Relation("e", b, "calls", c, 0, 1), Relation("e", c, "calls", a, 0, 1)])
    assert graph.beneath(a, "calls") == {b, c}
    assert graph.above(c, "calls") == {a, b}
    assert graph.objects(a, "calls") == {b}
    assert graph.subjects(a, "calls") == {c}
    assert graph.beneath(a, "uses") == set()
