"""Sources of evidence on requests, calls and messages: what each must see, and what it must not."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pytest

from tests.builders import NOW, table
from tests.core.made_cases import HOSTS, MINUTE_NS, case, counted, fleet, samples, seen
from tests.core.test_diagnosis import FOCUS_MS, question, small_world
from wirbel.core import cells
from wirbel.core.diagnosis.case import Case, Records
from wirbel.core.diagnosis.evidence.observation import Observation
from wirbel.core.diagnosis.marks import compared
from wirbel.core.diagnosis.model import Evidence, Signal, Window
from wirbel.core.diagnosis.ranking import observe
from wirbel.core.diagnosis.sentences import sentence
from wirbel.core.diagnosis.services import Services
from wirbel.core.signals import spans


def asked_often(wrong: dict[str, str], count: int = 120, times: int = 8) -> pa.Table:
    """front asks back eight times a request, each time another of its four instances; in the second hour some are ``slow``, or fail at a third."""
    rng = np.random.default_rng(8)
    rows, span = [], 0
    for trace, at in enumerate(np.sort(rng.uniform(0, 2 * FOCUS_MS, 2 * count)), 1):
        root, at_ms, rose, children = span + 1, at + 1, False, []
        for host in rng.choice(list(HOSTS), times):
            span += 2
            how = wrong.get(host) if at >= FOCUS_MS else None
            took = float(rng.lognormal(2, 0.2)) * (3 if how == "slow" else 1)
            outcome = spans.ERROR if how == "fails" and rng.random() < 0.3 else spans.OK
            rose |= outcome == spans.ERROR
            asked = {"trace": trace, "service": "front", "operation": "GET /y", "kind": spans.CLIENT, "peer": "back", "peer_kind": "service"}
            children += [
                asked | {"span": span, "parent": root, "start": at_ms, "duration": took + 0.2, "outcome": outcome},
                {"trace": trace, "span": span + 1, "parent": span, "service": "back", "operation": "GET /y", "start": at_ms + 0.1, "duration": took}
                | {"instance": f"back-{host}", "host": host, "outcome": outcome},
            ]
            at_ms += took + 0.3
        rows += [
            {"trace": trace, "span": root, "service": "front", "operation": "GET /x", "start": at, "duration": at_ms - at + 1}
            | {"outcome": spans.ERROR if rose else spans.OK},
            *children,
        ]
        span += 1
    return table(*rows)


@pytest.mark.parametrize(("how", "signal"), [("slow", "latency"), ("fails", "errors")])
def test_one_instance_apart_is_told_from_its_siblings_though_all_requests_touch_them_all(how: str, signal: Signal) -> None:
    def apart(hosts: list[str]) -> dict[tuple[tuple[str, str], str], Observation]:
        given = Case(replace(question(), signal=signal), Records(spans=asked_often(dict.fromkeys(hosts, how))))
        return seen(given, "instances")

    found = apart(["h3"])
    alone = found[("instance", "back-h3"), "instance apart"]
    assert alone.value > 0.8
    assert alone.facts["others"] < 0.1 * alone.facts["with"]
    told = sentence(Evidence("instance-apart", True, 1.0, alone.facts))
    assert told.index("back-h3") < told.index("the other instances of back")
    assert {entity for entity, feature in found if feature == "instance apart"} == {("instance", "back-h3")}
    assert found[("service", "back"), "one value alone"].value == alone.value
    assert not apart(list(HOSTS))


def test_who_brings_the_traffic_is_named_and_not_what_it_asks_for() -> None:
    """A visitor that was never there asks one route, which others ask too, and is not found."""
    agent, route, status = "span.s:user_agent.original", "span.s:http.route", "span.i:http.response.status_code"
    rng = np.random.default_rng(4)

    def visits(count: int, since: float, **given: object) -> list[dict[str, object]]:
        return [{"at": float(at), **given} for at in rng.uniform(since, 2 * FOCUS_MS, count)]

    usual = [one | {agent: f"reader/{n % 3}", route: "/x" if n % 3 else "/y", status: 200} for n, one in enumerate(visits(600, 0))]
    came = visits(500, FOCUS_MS, **{agent: "crawler/1", route: "/y", status: 404})
    rows = [
        {"trace": n, "span": n, "service": "front", "operation": "GET /x", "start": one.pop("at"), "duration": float(rng.lognormal(2, 0.2))} | one
        for n, one in enumerate(sorted(usual + came, key=lambda one: float(str(one["at"]))), 1)
    ]
    [(key, found)] = [(key, one) for key, one in seen(case(table(*rows)), "load").items() if key[1] == "brings the traffic"]
    assert key[0] == ("attribute", "user_agent.original")
    assert found.attributes == {"user_agent.original": "crawler/1"}
    assert found.facts["usual"] == 0
    assert found.value > 0.9


def failing(table: pa.Table, share: float, fails: set[tuple[str, int]]) -> pa.Table:
    """In the second hour a share of the traces fails in spans of these services and kinds."""
    late = np.array(table["start"]) >= NOW + FOCUS_MS * 10**6
    chosen = np.array([int.from_bytes(trace, "big") % 100 < 100 * share for trace in table["trace_id"].to_pylist()])
    of = np.array([pair in fails for pair in zip(table["service"].to_pylist(), table["kind"].to_pylist(), strict=True)])
    outcome = np.where(late & chosen & of, spans.ERROR, spans.OK)
    return table.set_column(table.schema.get_field_index("outcome"), "outcome", pa.array(outcome, pa.int8()))


@pytest.mark.parametrize(
    ("fails", "expected"),
    [
        ({("front", spans.SERVER)}, {"front"}),
        ({("front", spans.SERVER), ("front", spans.CLIENT)}, set()),  # gave up on a call of which its callee thinks well
        ({("front", spans.SERVER), ("front", spans.CLIENT), ("back", spans.SERVER)}, {"back"}),
    ],
)
def test_only_who_fails_though_its_calls_do_not_fails_by_itself(fails: set[tuple[str, int]], expected: set[str]) -> None:
    found = seen(case(failing(fleet(), 0.3, fails)), "passing on")
    assert {entity[1] for entity, feature in found if feature == "fails by itself"} == expected
    for name in expected:
        assert found[("service", name), "fails by itself"].value == pytest.approx(0.3, abs=0.06)


def test_who_waits_for_a_slow_database_is_held_longer_and_a_slow_service_is_not() -> None:
    held = seen(case(fleet(slow_database=True)), "passing on")
    # Of about 28 ms at back, 8 in the database became 32; of 49 at front, 29 at back became 53.
    assert held[("service", "back"), "held longer"].value == pytest.approx(24 / 28, abs=0.15)
    assert held[("service", "front"), "held longer"].value == pytest.approx(24 / 49, abs=0.15)
    assert not [key for key in seen(case(asked_often(dict.fromkeys(HOSTS, "slow"))), "passing on") if key == (("service", "back"), "held longer")]


def test_a_service_that_says_and_serves_less_is_silent() -> None:
    whole = fleet()
    start, service = np.array(whole["start"]), whole["service"].to_pylist()
    silent = whole.filter(pa.array([not (s == "back" and at >= NOW + FOCUS_MS * 10**6) for s, at in zip(service, start, strict=True)]))
    given = case(silent, patterns=counted(("back", "served <*>", 9, 3600.0, 0.0, 0.0)))
    found = seen(given, "silence")
    assert found[("service", "back"), "serves less"].value == pytest.approx(1.0)
    assert (("service", "back"), "silent") in found
    assert (("service", "front"), "serves less") not in found
    assert seen(given, "log patterns")[("service", "back"), "says less"].value == pytest.approx(1.0)


def test_who_falls_silent_late_in_the_focus_is_silent() -> None:
    """The focus may begin early, with something lesser: its end counts."""
    whole = fleet()
    start, service = np.array(whole["start"]), whole["service"].to_pylist()
    since = NOW + round(1.6 * FOCUS_MS) * 10**6
    silent = whole.filter(pa.array([not (s == "back" and at >= since) for s, at in zip(service, start, strict=True)]))
    assert (("service", "back"), "silent") in seen(case(silent), "silence")


def without_late_spans_of(whole: pa.Table, *gone: tuple[str, int]) -> pa.Table:
    """No spans of these services and kinds in the second hour."""
    late = np.array(whole["start"]) >= NOW + FOCUS_MS * 10**6
    of = np.array([pair in gone for pair in zip(whole["service"].to_pylist(), whole["kind"].to_pylist(), strict=True)])
    return whole.filter(pa.array(~(late & of)))


def asked_again(count: int = 1500) -> pa.Table:
    """front asks back three times in every second request, of two instances; in the second hour each time fails at a fifth: who asked more fails oftener."""
    rng = np.random.default_rng(9)
    rows, span = [], 0
    for trace, at in enumerate(np.sort(rng.uniform(0, 2 * FOCUS_MS, count)), 1):
        root, failed, children = span + 1, False, []
        for n in range(1 + 2 * (trace % 2)):
            span += 2
            fails = at >= FOCUS_MS and rng.random() < 0.2
            failed |= fails
            one = {"trace": trace, "operation": "GET /y", "start": at + 1 + 10 * n, "duration": 9.0, "outcome": spans.ERROR if fails else spans.OK}
            children.append(one | {"span": span, "parent": root, "service": "front", "kind": spans.CLIENT, "peer": "back", "peer_kind": "service"})
            children.append(one | {"span": span + 1, "parent": span, "service": "back", "instance": f"back-{(trace // 2 + n) % 2}", "duration": 8.0})
        outcome = spans.ERROR if failed else spans.OK
        rows += [{"trace": trace, "span": root, "service": "front", "operation": "GET /x", "start": at, "duration": 30.0, "outcome": outcome}, *children]
        span += 1
    return table(*rows)


def test_instances_that_stand_out_alike_are_none_of_them_alone() -> None:
    given = Case(replace(question(), signal="errors"), Records(spans=asked_again()))
    instances = {s.value: s.explains for s in given.standouts if s.key == "service.instance.id"}
    assert set(instances) == {"back-0", "back-1"}  # requests that touch either touch both more often, and fail
    found = seen(given, "contrast")
    assert found[("service", "back"), "one value alone"].value < 0.4 * max(instances.values())
    assert all(found[("instance", name), "stands out"].value < 0.4 * share for name, share in instances.items())


def test_who_is_not_asked_is_not_silent() -> None:
    unasked = without_late_spans_of(fleet(), ("front", spans.CLIENT), ("back", spans.SERVER), ("back", spans.CLIENT))
    found = seen(case(unasked), "silence")
    assert not [key for key in found if key[1] in ("serves less", "silent")]
    asked = without_late_spans_of(fleet(), ("back", spans.SERVER), ("back", spans.CLIENT))
    found = seen(case(asked), "silence")
    assert {entity for entity, feature in found if feature == "silent"} == {("service", "back")}
    # What is known by calls only cannot be told to be silent: it is asked less, by who serves on.
    unasked = without_late_spans_of(fleet(), ("back", spans.CLIENT))
    assert set(seen(case(unasked), "silence")) == {(("database", "ns at db"), "is asked less")}


def posted(taken_late: float, sent_late: float = 1.0, seed: int = 6) -> pa.Table:
    """front sends a message with each request, worker takes one for each; in the second hour of what there was so many are sent and taken."""
    rng = np.random.default_rng(seed)
    late = {"taken": taken_late, "sent": sent_late}

    def at(what: str) -> Iterator[float]:
        return (t for t in np.sort(rng.uniform(0, 2 * FOCUS_MS, 1400)) if t < FOCUS_MS or rng.random() < late[what])

    served = [{"service": "front", "operation": "POST /x", "start": t, "duration": 9.0} for t in at("sent")]
    queue = {"service": "front", "operation": "send", "kind": spans.PRODUCER, "peer": "events", "peer_kind": "broker", "duration": 1.0}
    rows = [row | {"trace": n, "span": 2 * n} for n, row in enumerate(served, 1)]
    rows += [queue | {"trace": row["trace"], "span": row["span"] + 1, "parent": row["span"], "start": row["start"] + 1} for row in rows]  # type: ignore[operator]
    taken = {"service": "worker", "operation": "notices", "kind": spans.CONSUMER, "duration": 20.0}
    return table(*rows, *(taken | {"trace": n, "span": 2 * n, "start": t} for n, t in enumerate(at("taken"), len(rows) + 1)))


def of_messages(given: pa.Table) -> dict[tuple[tuple[str, str], str], Observation]:
    return seen(Case(replace(question(), service="worker", signal="throughput"), Records(spans=given)), "silence")


def test_a_consumer_that_takes_less_than_is_sent_is_told_from_one_that_is_sent_less() -> None:
    found = of_messages(posted(taken_late=0.2))
    takes = found[("service", "worker"), "takes less than is sent"]
    assert takes.value == pytest.approx(0.8, abs=0.06)
    assert found[("load", "worker"), "sent as before"].value == takes.value
    assert sentence(Evidence("takes-less", True, 1.0, takes.facts)).startswith("Whoever sends messages still sends ")
    assert {feature for entity, feature in of_messages(posted(0.2, 0.2)) if entity[1] == "worker"} == set()
    # Who sends to it is not known, where others that are known send too little.
    unknown = posted(0.2).filter(pc.field("service") != "front")
    assert {feature for _, feature in of_messages(unknown)} == {"serves less"}


def test_what_no_calls_and_no_host_links_with_the_symptom_says_nothing_of_it() -> None:
    """Two systems in one store: the traffic of one rises, and one of its services falls silent, while requests of the other are slow."""
    late = NOW + FOCUS_MS * 10**6
    other = {"front": "shop", "back": "shelf", "ns at db": "ns at store"}
    whole = fleet(slow_database=True)

    def of_another_system(name: str) -> pa.Array:
        return pa.array([other.get(value, value) for value in whole[name].to_pylist()], pa.string())

    apart = whole
    for name in ("service", "peer"):
        apart = apart.set_column(apart.schema.get_field_index(name), name, of_another_system(name))
    apart = apart.filter(pa.array([name == "shop" or at < late for name, at in zip(apart["service"].to_pylist(), np.array(apart["start"]), strict=True)]))
    both = cells.derive(pa.concat_tables([whole, apart, *[apart.filter(pa.array(np.array(apart["start"]) >= late))] * 2]))
    assert {"front", "shop", "shelf"} <= {name for _, name in Services.of(both, question()).entities}
    said = {entity[1] for entity in (o.entity for o in observe(case(whole, cells=both)))}
    assert "ns at db" in said
    assert not said & {"shop", "shelf", "ns at store"}
    beside = samples({("shop", "s1", "h1", "m", "{}"): (1.0, 1.0)})
    assert "shop" in {entity[1] for entity in (o.entity for o in observe(case(whole, cells=both, points=beside)))}


def test_who_is_called_less_does_not_serve_less() -> None:
    """Half of the requests of users stay away, with all that they would have called."""
    whole = fleet()
    late = np.array(whole["start"]) >= NOW + FOCUS_MS * 10**6
    trace = [int.from_bytes(trace, "big") for trace in whole["trace_id"].to_pylist()]
    halved = whole.filter(pa.array([not (is_late and number % 2) for is_late, number in zip(late, trace, strict=True)]))
    serving_less = {entity for entity, feature in seen(case(halved), "silence") if feature == "serves less"}
    assert serving_less == {("service", "front")}


def test_who_is_called_now_and_then_is_not_silent_after_a_pause() -> None:
    """A burst of calls in every twentieth minute: that the last half of the focus has none says nothing."""
    whole = fleet()
    minute = (np.array(whole["start"]) - NOW) // (60 * 10**9)
    peer = whole["peer"].to_pylist()
    rare = whole.filter(pa.array([p != "ns at db" or (m % 20 == 0 and m < 90) for m, p in zip(minute, peer, strict=True)]))
    assert not [key for key in seen(case(rare), "silence") if key[0] == ("database", "ns at db")]


def test_who_suffers_because_of_what_it_calls_passes_it_on() -> None:
    given = case(fleet(slow_database=True))
    found = seen(given, "passing on")
    assert found[("database", "ns at db"), "off by itself"].value > 3
    assert found[("service", "back"), "passes on"].value > 1
    assert found[("database", "ns at db"), "walked to"].value > found.get((("service", "front"), "walked to"), Observation(("", ""), "", 0.0)).value


def test_how_far_off_who_calls_and_who_is_called_are_is_told_with_their_times() -> None:
    found = seen(case(fleet(slow_database=True)), "passing on")

    def told(entity: tuple[str, str], feature: str) -> str:
        one = found[entity, feature]
        return sentence(Evidence(str(one.kind), True, 1.0, one.facts))

    database, back = ("database", "ns at db"), ("service", "back")
    took = re.fullmatch(r"ns at db takes ([\d.]+) ms a request, ([\d.]+) ms before \(([\d.]+) standard deviations more\), and is not known to call anything\.", told(database, "off by itself"))  # fmt: skip
    assert took is not None
    after, before, off = map(float, took.groups())
    assert after / before == pytest.approx(4, rel=0.05)  # as it was made
    assert off == pytest.approx(found[database, "off by itself"].value, rel=0.01)
    assert told(back, "passes on").startswith("back calls what is off itself: ns at db takes ")
    assert told(database, "walked to").startswith("Calls lead from the symptom to ns at db, which moved with it (correlation 0.")


@pytest.mark.parametrize(("seems", "told"), [(False, "nothing that it calls is as far off"), (True, "what it calls seems as far off, but only from there")])
def test_what_is_beneath_one_who_is_off_by_itself_is_told(seems: bool, told: str) -> None:
    off = {"name": "back", "unit": "share", "before": 0.0, "after": 0.25, "off": 9.0, "serves": True, "calls": True, "seems": seems}
    assert sentence(Evidence("off-by-itself", True, 1.0, off)) == f"back fails at 25 % of what it is asked, 0 % before (9 standard deviations more); {told}."


def test_who_waits_longer_for_what_it_calls_is_told() -> None:
    longer = {"name": "back", "longer": 1.4}
    words = "back waits longer for what it calls, by 140 % of all that its requests took before: who waits for it may wait for that."
    assert sentence(Evidence("held-longer", False, -1.0, longer)) == words


def test_who_was_slow_before_it_served_no_more_is_told_as_it_was_last() -> None:
    """What it takes in the focus is nothing, as it serves nothing there."""
    whole = fleet(slow_database=True)
    minute = (np.array(whole["start"]) - NOW) // MINUTE_NS
    stopped = whole.filter(pa.array((minute < 80) | (np.array(whole["service"]) == "front")))
    late = question(focus=Window(NOW + 90 * MINUTE_NS, NOW + 2 * FOCUS_MS * 10**6))
    off = seen(Case(late, Records(spans=stopped)), "passing on")[("database", "ns at db"), "off by itself"]
    words = sentence(Evidence("off-by-itself", True, 1.0, off.facts))
    assert re.match(r"ns at db last took (2\d|3\d)(\.\d)? ms a request, 7\.\d+ ms before ", words), words


def test_minutes_in_which_nothing_is_served_are_not_fast_ones() -> None:
    """Where all suffer, few requests come through: in a quarter of the minutes of the focus only."""
    whole = fleet(slow_database=True)
    minute = (np.array(whole["start"]) - NOW) // MINUTE_NS
    rare = whole.filter(pa.array((minute < 60) | (minute % 20 < 5)))
    found = seen(case(rare), "passing on")
    assert found[("database", "ns at db"), "off by itself"].value > 3
    assert found[("service", "back"), "passes on"].value > 1


def test_who_fails_by_itself_is_seen_where_what_it_calls_does_not() -> None:
    given = small_world(failing=0.3)  # the database fails, and with it all above
    found = seen(case(given), "passing on")
    assert found[("database", "db"), "fails by itself"].value == pytest.approx(0.3, abs=0.08)
    assert found[("database", "db"), "fails by itself"].mechanism == "errors"
    assert (("service", "front"), "fails by itself") not in found


def test_a_value_whose_siblings_are_well_speaks_against_the_whole() -> None:
    """Only requests of one version of the app fail: what says who asks is a candidate, what says how it ended is none."""
    rng = np.random.default_rng(2)
    rows = []
    for trace, at in enumerate(np.sort(rng.uniform(0, 2 * FOCUS_MS, 1600)), 1):
        version = str(rng.choice(["1.0", "2.0", "3.0"]))
        failed = at >= FOCUS_MS and version == "3.0"
        rows.append(
            {
                "trace": trace, "span": trace, "service": "front", "operation": "GET /x", "start": at, "duration": float(rng.lognormal(3, 0.2)),
                "outcome": spans.ERROR if failed else spans.OK,
                "span.s:app.version": version, "span.i:http.response.status_code": 500 if failed else 200,
            }
        )  # fmt: skip
    found = seen(Case(question(signal="errors"), Records(spans=table(*rows))), "contrast")
    assert found[("attribute", "app.version"), "stands out"].value == pytest.approx(1.0, abs=0.05)
    assert found[("service", "front"), "one value alone"].value == pytest.approx(1.0, abs=0.05)
    assert (("attribute", "http.response.status_code"), "stands out") not in found


def test_a_captured_header_is_compared_by_the_text_in_it() -> None:
    """Captured headers are lists of one text (semantic conventions for HTTP)."""
    column = "span.j:http.request.header.x_app"
    told = compared(pa.chunked_array([['["3.0"]', '["a","b"]', None, '["x\\"y"]']]), column)
    assert told.to_pylist() == ["3.0", '["a","b"]', None, '["x\\"y"]']


def test_failures_that_come_of_slowness_are_asked_about_as_slowness() -> None:
    """The back answers late and half of those who wait give up: the database that is slow is found, though nothing of it fails."""
    late = small_world(count=600, slow_database=30.0)
    row_of_front = np.array(
        [name == "front" and kind != spans.CLIENT for name, kind in zip(late["service"].to_pylist(), late["kind"].to_pylist(), strict=True)]
    )
    call = np.array([name == "GET back" for name in late["operation"].to_pylist()])
    gives_up = (row_of_front | call) & (late["duration"].to_numpy() > 150e6)
    outcome = np.where(gives_up, spans.ERROR, late["outcome"].to_numpy()).astype(np.int8)
    given = late.set_column(late.schema.get_field_index("outcome"), "outcome", pa.array(outcome))
    found = {(o.entity, o.feature) for o in observe(Case(question(signal="errors"), Records(spans=given)))}
    assert (("service", "back"), "errors begin on the way") in found
    assert (("database", "db"), "explains") in found
