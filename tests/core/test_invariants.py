"""What a diagnosis must not depend on, and what it must bear: names, weights, innocents beside, very wide and very long traces."""

from __future__ import annotations

import time

import numpy as np
import pyarrow as pa
import pytest

from tests.builders import NOW, table
from tests.core.made_cases import counted, fleet, samples
from tests.core.test_diagnosis import FOCUS_MS, deploy, question, small_world
from wirbel.core.diagnosis import requests
from wirbel.core.diagnosis.case import Case, Records
from wirbel.core.diagnosis.inquire import answer, diagnose
from wirbel.core.diagnosis.model import Answer, Question
from wirbel.core.errors import NotEnoughData
from wirbel.core.signals import spans
from wirbel.core.topology.trace_set import TraceSet

NAMED = ("service", "operation", "name", "peer", "instance", "host", "version")


def first(found: Answer) -> tuple[str, str]:
    assert found.candidates
    return found.candidates[0].entity


def weighted(given: pa.Table, factor: float) -> pa.Table:
    return given.set_column(given.schema.get_field_index("weight"), "weight", pa.array(given["weight"].to_numpy() * factor))


@pytest.fixture(scope="module")
def slow() -> pa.Table:
    return small_world(slow_database=6.0)


def test_swapped_windows_turn_the_sign(slow: pa.Table) -> None:
    asked = question()
    swapped = Question("front", None, "latency", asked.reference, asked.focus)
    there, back = (answer(Case(one, Records(spans=slow))) for one in (asked, swapped))
    assert back.effect.delta == pytest.approx(-there.effect.delta)
    parts = [{c.part: (c.delta, c.more_calls, c.slower_calls) for c in found.contributions} for found in (there, back)]
    assert parts[0].keys() == parts[1].keys()
    for part, amounts in parts[0].items():
        assert parts[1][part] == pytest.approx(tuple(-x for x in amounts), abs=1e-12)


def test_doubled_weights_change_nothing(slow: pa.Table) -> None:
    once, twice = (diagnose(question(), Records(spans=weighted(slow, factor))) for factor in (1.0, 2.0))
    assert [c.entity for c in once.candidates] == [c.entity for c in twice.candidates]
    assert once.effect.delta == pytest.approx(twice.effect.delta)
    assert [c.confidence for c in once.candidates] == pytest.approx([c.confidence for c in twice.candidates], abs=0.02)


def test_names_mean_nothing(slow: pa.Table) -> None:
    def renamed(text: str | None) -> str | None:
        return None if text is None else f"x{sum(text.encode()) * 7919 % 100003}"

    other = slow
    for column in NAMED:
        values = pa.array([renamed(text) for text in slow[column].to_pylist()], pa.string())
        other = other.set_column(other.schema.get_field_index(column), column, values)
    before = diagnose(question(), Records(spans=slow))
    after = diagnose(question(service=renamed("front")), Records(spans=other))
    assert [(c.kind, renamed(c.name)) for c in before.candidates] == [c.entity for c in after.candidates]
    assert [c.confidence for c in before.candidates] == pytest.approx([c.confidence for c in after.candidates])


def test_an_innocent_beside_changes_nobody(slow: pa.Table) -> None:
    """A service that nobody in the symptom's requests meets, its deploy just then, a metric that does not move, a log line as ever."""
    rng = np.random.default_rng(9)
    bystander = table(
        *(
            {"trace": 10_000 + n, "span": 100_000 + n, "service": "bystander", "operation": "GET /z", "start": at, "duration": float(rng.lognormal(2, 0.3))}
            for n, at in enumerate(rng.uniform(0, 2 * FOCUS_MS, 800))
        )
    )
    metric = samples({("bystander", "b-1", None, "process.cpu.utilization", "{}"): (0.3, 0.3)})
    patterns = counted(("bystander", "all is well", 9, 300.0, 300.0, 0.0))
    alone = diagnose(question(), Records(spans=slow))
    beside = Records(spans=pa.concat_tables([slow, bystander]), points=metric, patterns=patterns, changes=[deploy("bystander", 60)])
    found = diagnose(question(), beside)
    assert first(found) == first(alone) == ("database", "db")
    assert found.candidates[0].change is None
    assert ("service", "bystander") not in [c.entity for c in found.candidates[:3]]


def test_of_two_faults_at_once_both_are_among_the_first_three() -> None:
    one, other = fleet(slow_host="h2"), fleet(slow_database=True)
    query = np.array([kind == "database" for kind in other["peer_kind"].to_pylist()])
    # The second fault's added time of each request's query, laid into the first's requests.
    longer = np.where(query, other["duration"].to_numpy() - fleet()["duration"].to_numpy(), 0)
    per_trace = np.repeat(np.add.reduceat(longer, np.arange(0, len(longer), 4)), 4)
    both = one.set_column(one.schema.get_field_index("duration"), "duration", pa.array(one["duration"].to_numpy() + per_trace))
    found = [c.entity for c in diagnose(question(), Records(spans=both)).candidates[:3]]
    assert ("host", "h2") in found
    assert ("database", "ns at db") in found


def built(given: pa.Table) -> requests.Requests:
    traces = TraceSet(given)
    focus = question().focus
    return requests.build(traces, requests.symptom_rows(traces, "front", None), (focus.start, focus.end))


def test_children_that_outlive_their_parent_take_no_time_from_it() -> None:
    """Work handed on runs for a minute after the request is answered: none of that is the request's."""
    found = built(
        table(
            {"trace": 1, "span": 1, "service": "front", "operation": "GET /", "start": FOCUS_MS + 5, "duration": 20},
            {"trace": 1, "span": 2, "parent": 1, "service": "front", "operation": "send", "kind": spans.PRODUCER, "start": FOCUS_MS + 10, "duration": 2, "peer": "broker", "peer_kind": "broker"},
            {"trace": 1, "span": 3, "parent": 2, "service": "later", "operation": "take", "kind": spans.CONSUMER, "start": FOCUS_MS + 30, "duration": 60_000},
        )
    )  # fmt: skip
    assert found.self_time.sum() == 20 * 10**6
    assert found.time.sum() == pytest.approx(0.020)
    assert found.self_time[TraceSet(found.traces.table).equal("service", "later")].sum() == 0


@pytest.mark.parametrize("together", [True, False], ids=["all at once", "one after the other"])
def test_a_fan_out_of_five_thousand_adds_up(together: bool) -> None:
    count, each = 5_000, 0.4
    lasts = 50.0 if together else 10 + count * each
    calls = (
        {
            "trace": 1, "span": 10 + n, "parent": 1, "service": "front", "operation": "SELECT t", "kind": spans.CLIENT, "peer": "db", "peer_kind": "database",
            "start": FOCUS_MS + (5 + n * 0.004 if together else 5 + n * each), "duration": each if not together else 20 + n * 0.004,
        }
        for n in range(count)
    )  # fmt: skip
    found = built(table({"trace": 1, "span": 1, "service": "front", "operation": "GET /", "start": FOCUS_MS, "duration": lasts}, *calls))
    assert found.self_time.sum() == round(lasts * 10**6)
    assert found.calls.sum() == count + 1


def test_a_hundred_thousand_spans_in_one_trace_are_read_in_seconds() -> None:
    """A chain as deep as it is long would be the worst: here 1,000 deep, and 100 wide at each depth."""
    deep, wide = 1_000, 100
    rows, number = [], 0
    above = None
    for level in range(deep):
        number += 1
        head = number
        rows.append((head, above, level))
        for _ in range(wide - 1):
            number += 1
            rows.append((number, head, level))
        above = head
    given = table(
        *(
            {"trace": 1, "span": n, **({"parent": p} if p else {}), "service": f"s{level % 7}" if level else "front", "operation": "GET /", "start": FOCUS_MS + level, "duration": 2 * deep - 2 * level}
            for n, p, level in rows
        )
    )  # fmt: skip
    began = time.process_time()
    found = built(given)
    assert time.process_time() - began < 20
    assert found.self_time.sum() == 2 * deep * 10**6


def test_a_circle_of_parents_is_no_request_and_stops_nobody(slow: pa.Table) -> None:
    circle = table(
        {"trace": 77_777, "span": 900_001, "parent": 900_002, "service": "front", "operation": "GET /", "start": FOCUS_MS + 9, "duration": 5},
        {"trace": 77_777, "span": 900_002, "parent": 900_001, "service": "back", "operation": "GET /x", "start": FOCUS_MS + 9, "duration": 5},
    )
    assert first(diagnose(question(), Records(spans=pa.concat_tables([slow, circle])))) == ("database", "db")


def test_windows_too_small_for_a_claim_are_said_to_be() -> None:
    few = small_world(count=12, slow_database=6.0)
    with pytest.raises(NotEnoughData, match=r"the (focus|reference) holds \d+ requests of front ; at least 20|at least 20 are needed\. Widen"):
        diagnose(question(), Records(spans=few))


def test_clocks_that_differ_between_hosts_move_no_blame(slow: pa.Table) -> None:
    """The back's clock is four seconds ahead: its spans begin after their callers have ended."""
    theirs = np.array([name == "back" for name in slow["service"].to_pylist()])
    ahead = slow.set_column(slow.schema.get_field_index("start"), "start", pa.array(slow["start"].to_numpy() + np.where(theirs, 4 * 10**9, 0)))
    found = diagnose(question(), Records(spans=ahead))
    assert first(found) == ("database", "db")
    assert found.question.focus.start > NOW
