"""Worlds drawn from a seed: sized so that they run, the same for a seed, and told as a team would tell them."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pyarrow.compute as pc
import pytest

from wirbel.core import arrow
from wirbel.core.series.samples import by_step
from wirbel.core.signals import points, spans
from wirbel.demo import faults
from wirbel.demo.drill import batch, scene
from wirbel.demo.drill.memory import Memory
from wirbel.demo.faults import sites, strength
from wirbel.demo.making import recorded
from wirbel.demo.telemetry import attributes, counters, habits
from wirbel.demo.world import drawn
from wirbel.demo.world.conditions import Conditions
from wirbel.demo.world.skerry import SKERRY
from wirbel.demo.world.state import solve

SEEDS = (1, 3, 5, 9, 12)
NOON = scene.MONDAY + 12 * scene.HOUR_NS


@pytest.mark.parametrize("seed", SEEDS)
def test_a_drawn_world_runs_with_room_to_spare(seed: int) -> None:
    world = drawn.draw(seed)
    state = solve(world, Conditions([], NOON, 30, 60))
    assert max(float(cores.max()) for cores in state.cpu.values()) < 4 * 0.9
    assert max(float(station.busy.max()) for station in state.workers.values()) < 0.9
    assert max(float(station.busy.max()) for station in state.backends.values()) < 0.9
    for key in world.entries:
        assert state.failing[key].max() < 0.05
        assert state.response[key].max() < 5


@pytest.mark.parametrize("seed", SEEDS)
def test_everything_in_a_drawn_world_is_reached(seed: int) -> None:
    world = drawn.draw(seed)
    asked = sites.asked_for(world)
    assert all(rate > 0 for key, rate in asked.items())
    place = {key: n for n, key in enumerate(world.operations)}
    for key, operation in world.operations.items():
        for call in operation.calls:
            assert call.to in world.backends or place[call.to] < place[key], "what is called stands before who calls it"
    assert all(instance.host in world.hosts for found in world.instances.values() for instance in found)


def test_a_seed_means_one_world_and_another_seed_another() -> None:
    one, same, other = drawn._Drawing(np.random.default_rng([4, 7])).world("a"), drawn._Drawing(np.random.default_rng([4, 7])).world("a"), drawn.draw(5)
    assert one.operations == same.operations
    assert one.services == same.services
    assert one.operations != other.operations


@pytest.mark.parametrize("kind", ["index-dropped", "noisy-neighbour", "bad-canary", "expired-key"])
def test_a_fault_in_a_drawn_world_is_felt_as_wanted(kind: str) -> None:
    fault = faults.make(drawn.draw(9), kind, 2, faults.Span(NOON, NOON + scene.HOUR_NS))
    assert strength.FELT.least <= strength.felt(fault) < 4 * strength.FELT.high


def test_a_fault_that_can_strike_nowhere_says_so() -> None:
    alone = replace(drawn.draw(9), clients={})
    with pytest.raises(faults.NoSuchPlace):
        faults.make(alone, "load-surge", 1, faults.Span(NOON, NOON + scene.HOUR_NS))


def told(given: habits.Habits) -> Memory:
    made = scene.make(SKERRY, "bad-deploy", 1, history_ns=12 * scene.MINUTE_NS, kept=1 / 400)
    return Memory.of(made, given)


def test_habits_leave_out_what_they_say() -> None:
    whole = told(habits.EVERYTHING)
    sampled = told(replace(habits.EVERYTHING, sampled=0.3))
    assert 0.2 < sampled.spans.num_rows / whole.spans.num_rows < 0.4
    assert pc.sum(sampled.spans["weight"]).as_py() == pytest.approx(pc.sum(whole.spans["weight"]).as_py(), rel=0.15)
    traces = set(map(bytes, arrow.ids(sampled.spans["trace_id"], 16)))
    kept = whole.spans.filter(pc.is_in(whole.spans["trace_id"].cast("binary"), value_set=sampled.spans["trace_id"].cast("binary").unique()))
    assert kept.num_rows == sampled.spans.num_rows, "a trace is kept whole or not at all"
    assert traces
    untold = told(replace(habits.EVERYTHING, sampled=0.3, sampling_told=False))
    assert pc.min_max(untold.spans["weight"]).as_py() == {"min": 1.0, "max": 1.0}
    bare = told(replace(habits.EVERYTHING, metrics=False, logs=False, versions=False, changes=0.0))
    assert (bare.points.num_rows, bare.logs.num_rows, bare.changes) == (0, 0, [])
    assert bare.spans["version"].null_count == bare.spans.num_rows
    some = told(replace(habits.EVERYTHING, agents=frozenset(), without_logs=frozenset({"identity"}), own_names=3))
    assert not set(habits.AGENTS) & set(some.points["service"].to_pylist())
    assert "identity" not in some.logs["service"].to_pylist()
    names = set(some.points["metric"].unique().to_pylist())
    assert "process.runtime.worker.utilization" not in names
    assert {"http.server.request.duration", "jvm.memory.used", "jvm.memory.limit"} <= names


def test_a_drill_in_memory_is_marked_as_one_through_the_store(tmp_path: Path) -> None:
    result = batch.graded(batch.Drill(batch.SKERRY_LINE, "bad-deploy", 1), tmp_path)
    assert result is not None
    marks, answer, truth = result
    assert (marks.exact, marks.change, marks.mechanism) == (1, True, True)
    assert answer["diagnosis"]["candidates"][0]["evidence"]
    assert truth["change"]


def test_what_spans_carry_besides_tells_no_more_than_an_operation_or_a_group() -> None:
    """Each value of the first two marks just the spans of some operation, or the traces that began with one."""
    table = attributes.added(recorded(SKERRY, 3, NOON, NOON + 60 * 10**9, 30).telemetry(NOON, NOON + 60 * 10**9).spans, 7)
    keys = [name for name in table.column_names if name not in spans.SPAN_SCHEMA.names and not name.startswith(("span.s:http", "span.s:db", "span.s:code"))][
        -3:
    ]
    place, asked, group = (table[key].to_pylist() for key in keys)
    operation = table["operation"].to_pylist()
    trace = table["trace_id"].to_pylist()
    told = {(value, of) for value, of, kind in zip(place, operation, table["kind"].to_pylist(), strict=True) if value is not None and kind == spans.SERVER}
    assert len({of for _, of in told}) == len(told)  # one value for an operation
    for values in (asked, group):
        of_trace: dict[bytes, set[str]] = {}
        for one, value in zip(trace, values, strict=True):
            if value is not None:
                of_trace.setdefault(one, set()).add(value)
        assert all(len(found) == 1 for found in of_trace.values())


def test_agents_that_count_seconds_tell_no_shares_and_mean_the_same() -> None:
    told = recorded(SKERRY, 3, NOON, NOON + 600 * 10**9, 5).telemetry(NOON, NOON + 600 * 10**9).points
    seconds = counters.as_seconds(told)
    assert not set(seconds["metric"].unique().to_pylist()) & set(counters.SHARES)
    shares, again = (by_step(points.combine([table]), NOON, 60, 10) for table in (told, seconds))
    for metric in ("system.cpu.utilization",):
        before, after = ({s.host[n]: s.values[n] for n in range(len(s)) if s.metric[n] == metric} for s in (shares, again))
        assert before.keys() == after.keys()
        for host, values in before.items():
            known = np.isfinite(values) & np.isfinite(after[host])
            assert known.sum() >= 8
            assert np.abs(values - after[host])[known].max() < 1e-9
