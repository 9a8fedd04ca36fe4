"""The diagnosis on small worlds whose answer is known."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.builders import NOW, table
from wirbel.core.diagnosis import attribution, requests
from wirbel.core.diagnosis.cascade import cascade
from wirbel.core.diagnosis.case import Case, Records
from wirbel.core.diagnosis.inquire import diagnose
from wirbel.core.diagnosis.model import Answer, Doubt, Question, Signal, Window
from wirbel.core.diagnosis.parts import Part
from wirbel.core.diagnosis.sentences import asked, sentence, short_part_name
from wirbel.core.errors import InvalidQuestion, NotEnoughData
from wirbel.core.signals import spans
from wirbel.core.signals.changes import Change
from wirbel.core.topology.trace_set import TraceSet

MINUTE = 60_000  # ms
FOCUS_MS = 60 * MINUTE


def question(**given: object) -> Question:
    focus = Window(NOW + FOCUS_MS * 10**6, NOW + 2 * FOCUS_MS * 10**6)
    return Question(**{"service": "front", "operation": None, "signal": "latency", "focus": focus, "reference": Window(NOW, NOW + FOCUS_MS * 10**6), **given})  # type: ignore[arg-type]


def deploy(service: str, minute: float, version: str = "2") -> Change:
    return Change(id=f"{service}-{minute}", kind="deploy", at=NOW + round(minute * MINUTE * 10**6), service=service, version=version)


def answered(asking: Question, table: pa.Table, changes: list[Change]) -> Answer:
    return diagnose(asking, Records(spans=table, changes=changes))


def small_world(
    count: int = 400,
    seed: int = 1,
    queries: tuple[int, int] = (1, 1),
    slow_instance: float = 0.0,
    slow_database: float = 1.0,
    failing: float = 0.0,
    load: float = 1.0,
    begins: int = FOCUS_MS,
) -> pa.Table:
    """front → back → db, two hours; what goes wrong begins with the second one (or at ``begins`` ms)."""
    rng = np.random.default_rng(seed)
    times = np.sort(np.r_[rng.uniform(0, FOCUS_MS, count), rng.uniform(FOCUS_MS, 2 * FOCUS_MS, round(count * load))])
    rows, span = [], 0
    for trace, at in enumerate(times, 1):
        wrong = at >= begins
        instance = f"back-{rng.integers(4)}"
        call = float(rng.lognormal(1.5, 0.3)) * (slow_database if wrong else 1)
        own = float(rng.lognormal(2.5, 0.25)) + (slow_instance if wrong and instance == "back-2" else 0)
        calls = queries[1] if wrong else queries[0]
        failed = wrong and rng.random() < failing
        outcome = spans.ERROR if failed else spans.OK
        back = own + calls * (call + 0.2)
        front, client, server = span + 1, span + 2, span + 3
        span += 3
        version = "2" if wrong and queries[0] != queries[1] else "1"
        rows += [
            {"trace": trace, "span": front, "service": "front", "operation": "GET /", "start": at, "duration": back + 9, "outcome": outcome},
            {
                "trace": trace,
                "span": client,
                "parent": front,
                "service": "front",
                "operation": "GET back",
                "kind": spans.CLIENT,
                "peer": "back",
                "peer_kind": "service",
                "start": at + 3,
                "duration": back + 2,
                "outcome": outcome,
            },
            {
                "trace": trace,
                "span": server,
                "parent": client,
                "service": "back",
                "operation": "GET /x",
                "start": at + 4,
                "duration": back,
                "instance": instance,
                "version": version,
                "outcome": outcome,
            },
        ]
        for n in range(calls):
            span += 1
            rows.append(
                {
                    "trace": trace,
                    "span": span,
                    "parent": server,
                    "service": "back",
                    "operation": "SELECT t",
                    "kind": spans.CLIENT,
                    "peer": "db",
                    "peer_kind": "database",
                    "start": at + 4 + own / 2 + n * (call + 0.2),
                    "duration": call,
                    "instance": instance,
                    "version": version,
                    "outcome": outcome if n == 0 else spans.OK,
                }
            )
    return table(*rows)


def parts_add_up(answer: Answer) -> None:
    assert sum(c.delta for c in answer.contributions) == pytest.approx(answer.effect.delta, rel=1e-9)
    for c in answer.contributions:
        assert c.more_calls + c.slower_calls == pytest.approx(c.delta, abs=1e-12)


def apart(whole: pa.Table, operation: str) -> pa.Table:
    """The same requests of other traces, for another operation."""
    for name in ("trace_id", "span_id", "parent_id"):
        ids = [None if value is None else bytes([255 - value[0]]) + value[1:] for value in whole[name].to_pylist()]
        whole = whole.set_column(whole.schema.get_field_index(name), name, pa.array(ids, whole.schema.field(name).type))
    named = pa.array([operation if name == "GET /" else name for name in whole["operation"].to_pylist()])
    return whole.set_column(whole.schema.get_field_index("operation"), "operation", named)


def test_how_large_a_symptom_is_is_told_where_most_of_the_change_is() -> None:
    """One operation of two is slow: of all requests it is less."""
    slow = small_world(count=600, slow_database=20.0)
    calm = apart(small_world(count=600, seed=9), "GET /calm")
    alone, both = (Case(question(), Records(spans=sent)) for sent in (slow, pa.concat_tables([slow, calm])))
    assert alone.carried == pytest.approx((alone.effect.reference, alone.effect.focus))
    assert both.carried == pytest.approx(alone.carried, rel=0.02)
    assert both.effect.focus < 0.8 * both.carried[1]


@pytest.mark.parametrize(
    ("signal", "delta", "doubt", "told"),
    [
        ("latency", 0.1, None, "Why is front GET / slow?"),
        ("latency", -0.1, None, "Why is front GET / faster?"),
        ("errors", -0.1, None, "Why is front GET / failing less?"),
        ("throughput", -3.0, None, "Why is front GET / getting fewer requests?"),
        ("throughput", -3.0, "wanders", "Is front GET / getting more or fewer requests?"),
        ("latency", 0.001, "small", "Is front GET / slow?"),
    ],
)
def test_the_question_is_told_as_the_answer_finds_it(signal: Signal, delta: float, doubt: Doubt | None, told: str) -> None:
    assert asked("front GET /", signal, delta, doubt) == told


def test_the_parts_of_traffic_are_who_asks_and_for_what() -> None:
    twice = small_world(load=2.0)
    of_front, of_back = (answered(question(signal="throughput", service=name), twice, []) for name in ("front", "back"))
    for found, told in ((of_front, "from outside, GET /"), (of_back, "asked by front, GET /x")):
        parts_add_up(found)
        assert [step.label for step in cascade(found.effect, found.contributions, timed=False)] == [told]
        assert found.effect.focus == pytest.approx(2 * found.effect.reference, rel=0.01)


@pytest.mark.parametrize(
    ("part", "of_time", "of_failures"),
    [
        (Part("own", "back", "GET /x"), "back self time", "back itself"),
        (Part("dependency", "back", "SELECT t", "db", "database"), "db", "db"),
        (Part("transfer", "front", "GET back", "back", "service"), "network and queue front → back", "network and queue front → back"),
    ],
)
def test_failures_have_no_self_time(part: Part, of_time: str, of_failures: str) -> None:
    assert (short_part_name(part), short_part_name(part, is_time=False)) == (of_time, of_failures)


def test_one_query_that_becomes_many() -> None:
    answer = answered(question(), small_world(queries=(1, 12)), [deploy("back", 59.9), deploy("front", 75), deploy("elsewhere", 59.8)])
    parts_add_up(answer)
    first = answer.candidates[0]
    assert (first.kind, first.name, first.mechanism, first.change) == ("service", "back", "more-calls", "back-59.9")
    assert first.explains > 0.95
    assert {j.change.service: j.verdict for j in answer.changes} == {"back": "responsible", "front": "too-late", "elsewhere": "off-path"}
    assert answer.onset is not None
    assert answer.onset.low <= NOW + FOCUS_MS * 10**6 + 10**10
    assert answer.onset.high >= NOW + FOCUS_MS * 10**6
    assert answer.unexplained < 0.05
    traces = {
        int(row["trace_id"].hex(), 16): row for row in small_world(queries=(1, 12)).to_pylist() if row["service"] == "front" and row["kind"] == spans.SERVER
    }
    query = next(c for c in answer.contributions if c.part.peer == "db")
    assert query.example is not None
    assert query.beside is not None
    assert traces[int(query.example[0], 16)]["duration"] > 1.5 * traces[int(query.beside[0], 16)]["duration"]


def test_a_slower_database_is_blamed_and_not_its_caller() -> None:
    answer = answered(question(), small_world(slow_database=6.0), [deploy("back", 20)])
    parts_add_up(answer)
    first = answer.candidates[0]
    assert (first.kind, first.name, first.mechanism, first.change) == ("database", "db", "slower-work", None)
    assert all(s.name not in ("front", "back") for s in answer.candidates)
    assert [j.verdict for j in answer.changes] == ["innocent"]


def test_one_bad_instance_stands_out_among_its_siblings() -> None:
    answer = answered(question(), small_world(count=900, slow_instance=120.0), [])
    marks = [(s.service, s.key, s.value) for s in answer.standouts]
    assert marks[0] == ("back", "service.instance.id", "back-2")
    assert answer.standouts[0].explains == pytest.approx(1.0, abs=0.1)
    assert answer.standouts[0].excess_with == pytest.approx(0.120, rel=0.1)
    assert abs(answer.standouts[0].excess_others) < 0.005
    assert any(s.name == "back-2" and s.kind == "instance" for s in answer.candidates)
    assert not any(value.startswith("back-") and value != "back-2" for _, _, value in marks)


def test_what_nearly_all_requests_touched_before_too_does_not_stand_out() -> None:
    """The few that do not get as far are no siblings: beside them, whatever the others touch would explain all."""
    kept = []
    for row in small_world(slow_database=6.0).to_pylist():
        if int.from_bytes(row["trace_id"], "big") % 25:
            kept.append(row)
        elif row["parent_id"] is None:
            kept.append(row | {"duration": 4 * 10**6})
    found = answered(question(), pa.Table.from_pylist(kept, spans.SPAN_SCHEMA), [])
    assert found.candidates[0].name == "db"
    assert found.standouts == []


def test_an_innocent_change_comes_out_innocent() -> None:
    """Deployed a minute before the database slows: the service's own part does not change."""
    answer = answered(question(), small_world(slow_database=6.0), [deploy("front", 59)])
    assert [j.verdict for j in answer.changes] == ["innocent"]
    assert all(s.change is None for s in answer.candidates)


def test_nothing_wrong_is_said_so() -> None:
    for seed in range(6):
        answer = answered(question(), small_world(seed=seed), [deploy("back", 59)])
        if answer.effect.low <= 0 <= answer.effect.high:
            assert answer.candidates == []
            assert answer.unexplained == 1.0
            assert answer.doubt is not None
        assert all(s.change is None for s in answer.candidates)
        assert not answer.standouts


def test_failures_are_given_to_where_they_began() -> None:
    answer = answered(question(signal="errors"), small_world(failing=0.3), [deploy("back", 59.9)])
    parts_add_up(answer)
    assert answer.effect.unit == "share"
    assert answer.effect.focus == pytest.approx(0.3, abs=0.06)
    assert (answer.candidates[0].name, answer.candidates[0].mechanism) == ("db", "errors")


def test_a_deploy_after_which_calls_cost_more_is_told_on_what_is_called() -> None:
    """The same statement, as often as before, five times as slow from the deploy of its caller on."""
    answer = answered(question(), small_world(slow_database=5.0), [deploy("back", 59.9), deploy("front", 59.9)])
    top = answer.candidates[0]
    assert (top.name, top.change) == ("db", "back-59.9")
    [fact] = [sentence(e) for e in top.evidence if e.kind == "change"]
    assert "what back's calls of db add to a request" in fact
    assert "nobody else calls it" in fact
    assert {judged.change.service: judged.verdict for judged in answer.changes} == {"back": "calls", "front": "innocent"}


def test_time_before_anything_was_sent_is_no_time_of_little_traffic() -> None:
    long = question(reference=Window(NOW - 2 * FOCUS_MS * 10**6, NOW + FOCUS_MS * 10**6))
    answer = answered(long, small_world(slow_database=5.0), [])
    assert not [c for c in answer.candidates if c.kind == "load"]
    assert not [e for c in answer.candidates for e in c.evidence if e.kind == "load"]


def without_minutes(table: pa.Table, first: int, last: int) -> pa.Table:
    """Nothing of these minutes was sent."""
    minute = (table["start"].to_numpy() - NOW) // (60 * 10**9)
    return table.filter(pa.array((minute < first) | (minute >= last)))


def test_a_pause_in_the_reference_is_no_time_of_little_traffic() -> None:
    paused = without_minutes(small_world(slow_database=5.0), 15, 45)
    answer = answered(question(), paused, [])
    assert not [e for c in answer.candidates for e in c.evidence if e.kind == "load"]
    asked = answered(question(signal="throughput"), paused, [])
    assert asked.effect.focus / asked.effect.reference == pytest.approx(1.0, abs=0.15)
    assert not asked.candidates
    found = Case(question(), Records(spans=paused)).services
    assert abs(found.busier).max() < 0.3


def test_more_traffic_is_split_by_who_asks() -> None:
    answer = answered(question(signal="throughput"), small_world(load=3.0), [])
    parts_add_up(answer)
    assert answer.effect.focus / answer.effect.reference == pytest.approx(3.0, rel=0.1)
    assert (answer.candidates[0].kind, answer.candidates[0].mechanism) == ("load", "traffic")


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 10**6), st.sampled_from([1.0, 4.0, 16.0]))
def test_parts_sum_to_the_delta_on_random_trees(seed: int, weight: float) -> None:
    rng = np.random.default_rng(seed)
    rows = []
    for trace in range(1, 61):
        start = trace * 2 * MINUTE
        for n in range(int(rng.integers(1, 12))):
            rows.append({
                "trace": trace, "span": trace * 100 + n, "parent": None if n == 0 else trace * 100 + int(rng.integers(0, n)), "service": "front" if n == 0 else f"s{rng.integers(3)}",
                "kind": spans.SERVER if n == 0 else int(rng.integers(1, 6)), "start": start + float(rng.uniform(-5, 50)) * (n > 0), "duration": float(rng.uniform(0, 90)),
                "operation": f"op{rng.integers(2)}" if n else "GET /", "peer": ["p", "q", None][rng.integers(3)], "peer_kind": ["database", "service", "external"][rng.integers(3)], "weight": weight if trace % 2 else 1.0,
            })  # fmt: skip
    everything = table(*rows)
    built = requests.build(
        TraceSet(everything), requests.symptom_rows(TraceSet(everything), "front", None), (NOW + FOCUS_MS * 10**6, NOW + 3 * FOCUS_MS * 10**6)
    )
    change = attribution.effect(built, built.seconds, "s", "mean")
    parts = attribution.where_the_time_went(built)
    assert sum(c.delta for c in parts) == pytest.approx(change.delta, abs=1e-12)


def test_too_few_requests_and_overlapping_windows_are_refused() -> None:
    with pytest.raises(NotEnoughData, match="the reference holds"):
        answered(question(reference=Window(NOW - 10**12, NOW - 10**11)), small_world(), [])
    with pytest.raises(InvalidQuestion, match="overlap"):
        question(reference=Window(NOW, NOW + 2 * FOCUS_MS * 10**6))
