"""What has no part in a symptom is no candidate for being new, near or common: path attributes, new lines, hosts told by counters, queues, failing places."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pytest

from tests.builders import NOW, table
from tests.core.made_cases import HOSTS, ZONE, case, counted, fleet, samples, seen
from tests.core.test_diagnosis import FOCUS_MS, question
from wirbel.core.diagnosis.case import Case, Records
from wirbel.core.diagnosis.parts import TRANSFER
from wirbel.core.diagnosis.ranking import rank
from wirbel.core.signals import spans

MODULE, GROUP = "span.s:mod.name", "span.s:group.id"


def two_operations(slow_group: bool) -> pa.Table:
    """front asks back for one of two things; the second says where in the program it is, and every request carries a group through both services.

    With the second hour the second becomes slow, or all that is asked for one group.
    """
    rng = np.random.default_rng(5)
    rows, span = [], 0
    for trace, at in enumerate(np.sort(rng.uniform(0, 2 * FOCUS_MS, 1600)), 1):
        group, second = f"g{int(rng.integers(6))}", bool(rng.random() < 0.4)
        slow = at >= FOCUS_MS and (group == "g3" if slow_group else second)
        took = float(rng.lognormal(3, 0.2)) * (5 if slow else 1)
        front, client, server = span + 1, span + 2, span + 3
        span += 3
        name = "GET /b" if second else "GET /a"
        rows += [
            {"trace": trace, "span": front, "service": "front", "operation": "GET /x", "start": at, "duration": took + 12, GROUP: group, MODULE: None},
            {
                "trace": trace, "span": client, "parent": front, "service": "front", "operation": name, "kind": spans.CLIENT, "start": at + 6,
                "duration": took + 1, "peer": "back", "peer_kind": "service", GROUP: group, MODULE: None,
            },
            {
                "trace": trace, "span": server, "parent": client, "service": "back", "operation": name, "start": at + 6.5, "duration": took, GROUP: group,
                MODULE: "list" if second else "open",
            },
        ]  # fmt: skip
    return table(*rows)


def test_a_value_that_tells_no_more_than_an_operation_is_no_candidate() -> None:
    given = case(two_operations(slow_group=False))
    assert "mod.name" in {key for s in given.standouts for _, key, _ in [(s.service, s.key, s.value), *s.same_as]}  # it does mark the slow requests
    assert not [entity for entity, _ in seen(given, "contrast") if entity == ("attribute", "mod.name")]
    assert rank(given).candidates[0].entity == ("service", "back")


def test_a_value_that_is_carried_through_services_belongs_to_the_one_that_changed() -> None:
    found = seen(case(two_operations(slow_group=True)), "contrast")[("attribute", "group.id"), "stands out"]
    assert found.service == "back"
    assert found.attributes["group.id"] == "g3"


def with_new_ids(rows: pa.Table) -> pa.Table:
    """The same after a roll-out: every instance has another id in the second hour."""
    later = (rows["start"].to_numpy() - NOW) / 1e6 >= FOCUS_MS
    names = [f"{name}-new" if name and new else name for name, new in zip(rows["instance"].to_pylist(), later, strict=True)]
    return rows.set_column(rows.schema.get_field_index("instance"), "instance", pa.array(names, pa.string()))


def test_new_ids_after_a_roll_out_do_not_take_the_evidence_of_the_service() -> None:
    """All of the service is slower: no instance of it is, though each is new."""
    rng = np.random.default_rng(8)
    rows = []
    for trace, at in enumerate(np.sort(rng.uniform(0, 2 * FOCUS_MS, 1200)), 1):
        rows.append(
            {
                "trace": trace,
                "span": trace,
                "service": "front",
                "operation": "GET /x",
                "start": at,
                "duration": float(rng.lognormal(3, 0.2)) * (3 if at >= FOCUS_MS else 1),
                "instance": f"front-{int(rng.integers(2))}",
            }
        )
    found = rank(case(with_new_ids(table(*rows)))).candidates
    assert found[0].entity == ("service", "front")


def test_a_pod_and_its_instance_are_one_candidate() -> None:
    rows = fleet(slow_host="h3")
    pods = pa.array([f"pod-of-{name}" for name in rows["instance"].to_pylist()])
    found = seen(case(rows.append_column("resource.s:k8s.pod.name", pods)), "contrast")
    assert not [entity for entity, _ in found if entity[0] == "instance" and entity[1].startswith("pod-of")]


def test_a_new_line_of_what_the_requests_never_meet_counts_for_little() -> None:
    """A release elsewhere brings a new line, as releases do."""
    lines = counted(*[(service, "option <num> is no longer used", 13, 0.0, 400.0, 0.0) for service in ("ledger", "back")])
    found = seen(case(fleet(slow_database=True), patterns=lines), "log patterns")
    there, met = (found[("service", name), "new pattern of its own"].value for name in ("ledger", "back"))
    assert there < 0.2 * met / 0.3
    assert rank(case(fleet(slow_database=True), patterns=lines)).candidates[0].entity == ("database", "ns at db")


def test_what_is_asked_and_adds_nothing_is_told_apart_from_what_is_not_asked() -> None:
    given = case(fleet(slow_database=True))
    assert {entity for entity, feature in seen(given, "involvement") if feature == "no effect seen"} >= {("service", "back")}
    assert ("database", "ns at db") not in {entity for entity, _ in seen(given, "involvement")}


def queue(slow_consumer: bool) -> pa.Table:
    """front orders work by a message and waits until worker has done it; with the second hour messages wait in the queue, as worker takes longer for each."""
    rng = np.random.default_rng(6)
    rows, span = [], 0
    for trace, at in enumerate(np.sort(rng.uniform(0, 2 * FOCUS_MS, 1400)), 1):
        late = at >= FOCUS_MS and slow_consumer
        waits, works = float(rng.exponential(400 if late else 4)), float(rng.lognormal(3, 0.2)) * (4 if late else 1)
        front, sent, taken = span + 1, span + 2, span + 3
        span += 3
        rows += [
            {"trace": trace, "span": front, "service": "front", "operation": "POST /x", "start": at, "duration": waits + works + 4},
            {
                "trace": trace, "span": sent, "parent": front, "service": "front", "operation": "send orders", "kind": spans.PRODUCER, "start": at + 1,
                "duration": waits + works + 2, "peer": "bus.example", "peer_kind": "broker",
            },
            {
                "trace": trace, "span": taken, "parent": sent, "service": "worker", "operation": "process orders", "kind": spans.CONSUMER,
                "start": at + 1 + waits, "duration": works,
            },
        ]  # fmt: skip
    return table(*rows)


def test_what_waits_in_a_queue_waits_for_its_consumer() -> None:
    given = case(queue(slow_consumer=True))
    assert {part.peer for part in given.here.parts if part.kind == TRANSFER} == {"worker"}
    assert given.effect_of(("service", "worker")) > 0.9
    assert given.effect_of(("database", "bus.example")) == 0
    assert rank(given).candidates[0].entity == ("service", "worker")


def failing(host: str) -> pa.Table:
    """Both services fail in half of what they serve on one host, with the second hour."""
    rng = np.random.default_rng(9)
    rows, span = [], 0
    for trace, at in enumerate(np.sort(rng.uniform(0, 2 * FOCUS_MS, 2400)), 1):
        places = [str(rng.choice(list(HOSTS))) for _ in range(2)]
        bad = [at >= FOCUS_MS and place == host and rng.random() < 0.5 for place in places]
        front, client, server = span + 1, span + 2, span + 3
        span += 3
        where = [{"host": one, ZONE: HOSTS[one], "instance": f"{name}-{one}"} for one, name in zip(places, ("front", "back"), strict=True)]
        outcome = [spans.ERROR if one else spans.OK for one in (bad[0] or bad[1], bad[1])]
        rows += [
            {"trace": trace, "span": front, "service": "front", "operation": "GET /x", "start": at, "duration": 20, "outcome": outcome[0], **where[0]},
            {
                "trace": trace, "span": client, "parent": front, "service": "front", "operation": "GET /y", "kind": spans.CLIENT, "start": at + 2,
                "duration": 12, "peer": "back", "peer_kind": "service", "outcome": outcome[1], **where[0],
            },
            {"trace": trace, "span": server, "parent": client, "service": "back", "operation": "GET /y", "start": at + 3, "duration": 10, "outcome": outcome[1], **where[1]},
        ]  # fmt: skip
    return table(*rows)


def test_failing_requests_are_located_on_hosts() -> None:
    given = Case(question(signal="errors"), Records(spans=failing("h2")))
    found = seen(given, "failing places")
    assert found[("host", "h2"), "services failing there"].facts["services"] == ["back", "front"]
    assert found[("host", "h2"), "failures located there"].value > 0.9
    assert not [entity for entity, _ in found if entity[0] == "host" and entity[1] != "h2"]


@pytest.mark.parametrize("named", [{"host": "db"}, {"label": '{"postgresql.database.name": "ns"}'}, {"label": '{"server.address": "db"}'}])
def test_what_a_database_server_sends_is_read_by_its_address_name_or_host(named: dict[str, str]) -> None:
    """No span meets its host: callers know an address only."""
    key = ("pg-exporter", None, named.get("host", "somewhere"), "postgresql.lock.waits", named.get("label", "{}"))
    found = seen(case(fleet(slow_database=True), points=samples({key: (1.0, 40.0)}, unit="{lock}")), "saturation")
    assert found[("database", "ns at db"), "waits more"].value > 3
    assert found[("database", "ns at db"), "waits more"].mechanism == "lock"


def heavy_tail(times: float, seed: int) -> Case:
    """Requests whose durations have hardly a mean (Pareto, 1.05); with the second hour each takes so many times as long."""
    rng = np.random.default_rng(seed)
    at = np.sort(rng.uniform(0, 2 * FOCUS_MS, 160))
    took = 5 * (1 + rng.pareto(1.05, len(at))) * np.where(at >= FOCUS_MS, times, 1)
    rows = [
        {"trace": n, "span": n, "service": "front", "operation": "GET /x", "start": float(a), "duration": float(t)}
        for n, (a, t) in enumerate(zip(at, took, strict=True), 1)
    ]
    return case(table(*rows))


def test_a_heavy_tail_does_not_hide_what_is_several_times_as_slow() -> None:
    """The mean of such is clear in some samples only; its logarithm and its tail are."""
    effects = [heavy_tail(8, seed).effect for seed in range(20)]
    by_mean = sum(not effect.low <= 0 <= effect.high for effect in effects)
    assert sum(effect.is_clear for effect in effects) >= max(17, by_mean + 3)


def test_and_what_is_as_it_was_is_rarely_clear() -> None:
    assert sum(heavy_tail(1, seed).effect.is_clear for seed in range(40)) <= 5  # 5 % are to be expected
