"""The second world: plays what it says, sends what stock agents send, and shares nothing with the first."""

from __future__ import annotations

import ast
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
import simpy
from scipy import stats

import wirbel
from wirbel.core import arrow
from wirbel.core.signals import points, spans
from wirbel.core.topology.parents import parent_rows
from wirbel.demo.drill.memory import Memory
from wirbel.demo.faults import NoSuchPlace
from wirbel.demo.other import drill, happen, plan
from wirbel.demo.other.engine import Sim

FOLDER = Path(wirbel.__file__).parent / "demo" / "other"


@pytest.fixture(scope="module")
def made() -> Iterator[tuple[Memory, dict]]:  # type: ignore[type-arg]
    """A quarter of an hour of it: a drill's hour and a half takes longer to play."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(drill, "BEFORE_S", 600.0)
        patch.setattr(drill, "AFTER_S", 300.0)
        yield drill.memory("lost-index", 3)


def test_it_shares_no_code_with_the_first_world_but_what_a_drill_is() -> None:
    """Its physics, emitters and faults are its own: a diagnosis fitted on the first world has seen none of them."""
    imported = {
        node.module
        for file in FOLDER.glob("*.py")
        for node in ast.walk(ast.parse(file.read_text()))
        if isinstance(node, ast.ImportFrom) and node.module and node.module.startswith("wirbel.demo") and "demo.other" not in node.module
    }
    assert imported == {"wirbel.demo.drill.memory", "wirbel.demo.faults"}  # what a team knows, and an error
    assert "core.diagnosis" not in "".join(file.read_text() for file in FOLDER.glob("*.py"))


def test_the_same_seed_plays_the_same(made: tuple[Memory, dict]) -> None:  # type: ignore[type-arg]
    known, truth = made
    again, truth_again = drill.memory("lost-index", 3)
    assert truth == truth_again
    assert known.spans.equals(again.spans)
    assert known.points.equals(again.points)
    assert known.changes == again.changes


def test_spans_lie_within_their_parents_and_calls_lead_to_services(made: tuple[Memory, dict]) -> None:  # type: ignore[type-arg]
    table = made[0].spans
    parent = parent_rows(table)
    start, end = arrow.numbers(table["start"]), arrow.numbers(table["start"]) + arrow.numbers(table["duration"])
    rows = np.flatnonzero((parent >= 0) & (arrow.numbers(table["kind"]) != spans.CONSUMER))
    assert (start[rows] >= start[parent[rows]]).all()
    assert (end[rows] <= end[parent[rows]] + 1_000).all()
    called = set(table.filter(arrow.numbers(table["kind"]) == spans.CLIENT)["peer_kind"].unique().to_pylist())
    assert {"service", "database"} <= called


def test_agents_count_seconds_and_tell_no_limits(made: tuple[Memory, dict]) -> None:  # type: ignore[type-arg]
    table = made[0].points
    metrics = set(table["metric"].unique().to_pylist())
    assert not {name for name in metrics if name.startswith("system.") and "utilization" in name}
    if "system.cpu.time" in metrics:
        rows = table.filter(np.array(table["metric"].to_pylist()) == "system.cpu.time")
        assert set(rows["temporality"].unique().to_pylist()) == {points.CUMULATIVE}
        assert (rows["value"].to_numpy() >= 0).all()


@pytest.mark.parametrize("kind", list(happen.TROUBLES))
def test_every_trouble_has_a_place_in_some_world_and_a_truth(kind: str) -> None:
    """Told, not played: that takes a while."""
    for seed in range(1, 9):
        sim = Sim(plan.draw(seed), 1.7e9, 1.7e9 + 3600, np.random.default_rng(seed))
        story = happen.Story(sim, np.random.default_rng(seed), 1.7e9 + 1800)
        try:
            found = happen.TROUBLES[kind](story)
        except NoSuchPlace:
            continue
        if found is None:
            continue
        assert bool(found.entities or found.instances) == bool(found.mechanisms) == (kind != "quiet")
        assert found.change is None or found.change in {change["id"] for change in story.changes}
        happen.everyday(story, found)
        assert len({change["id"] for change in story.changes}) == len(story.changes)
        return
    pytest.fail(f"{kind} has no place in eight worlds")


def test_innocent_changes_fall_on_what_is_at_fault_as_well(made: tuple[Memory, dict]) -> None:  # type: ignore[type-arg]
    """Over a few stories, before and after the onset."""
    before = after = 0
    for seed in range(1, 30):
        sim = Sim(plan.draw(seed % 4 + 1), 1.7e9, 1.7e9 + 3600, np.random.default_rng(seed))
        story = happen.Story(sim, np.random.default_rng(seed), 1.7e9 + 1800)
        trouble = happen.slow_code(story)
        happen.everyday(story, trouble)
        mine = [change for change in story.changes if change["service"] in trouble.services and change["id"] != trouble.change]
        later = [change for change in mine if change["at"] > story.changes[0]["at"]]
        after, before = after + len(later), before + len(mine) - len(later)
    assert before > 15
    assert after > 5


def test_waiting_for_a_worker_is_that_of_an_m_m_c_queue() -> None:
    """The engine's way to hold what is limited, against Erlang's formula: 2 servers, 1 erlang, a third of the arrivals wait (Erlang C)."""
    env, rng = simpy.Environment(), np.random.default_rng(4)
    servers, waited = simpy.Resource(env, 2), []

    def one() -> object:
        came = env.now
        with servers.request() as turn:
            yield turn
            waited.append(env.now > came)
            yield env.timeout(rng.exponential(1.0))

    def come() -> object:
        for _ in range(40_000):
            yield env.timeout(rng.exponential(1.0))
            env.process(one())  # type: ignore[arg-type]

    env.process(come())  # type: ignore[arg-type]
    env.run()
    assert np.mean(waited) == pytest.approx(1 / 3, abs=0.02)


def test_work_has_a_heavy_tail(made: tuple[Memory, dict]) -> None:  # type: ignore[type-arg]
    """Not the exponential times of the first world: most of a server's own durations scatter over more than a factor of two."""
    table = made[0].spans
    rows = table.filter(arrow.numbers(table["kind"]) == spans.CLIENT)
    took = np.log(arrow.numbers(rows.filter(np.array(rows["peer_kind"].to_pylist(), object) == "database")["duration"]).astype(float))
    assert stats.iqr(took) > np.log(2)
