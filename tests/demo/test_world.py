"""The demo world: its physics, that its telemetry of different kinds agrees, and that a seed means one world."""

from __future__ import annotations

import os
import subprocess
import sys

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pytest

from wirbel.core import arrow
from wirbel.core.signals import spans
from wirbel.core.signals.otlp.traces import adjusted_count
from wirbel.core.topology.parents import parent_rows
from wirbel.demo.drill import scene
from wirbel.demo.faults.model import AWAY, COLD, restart_by_hand, scaled_down
from wirbel.demo.making import World
from wirbel.demo.telemetry import durations, metrics
from wirbel.demo.world.conditions import Conditions, Effect, Shape
from wirbel.demo.world.happenings import Happenings
from wirbel.demo.world.queues import erlang_c
from wirbel.demo.world.skerry import SKERRY
from wirbel.demo.world.state import State, solve
from wirbel.demo.world.told import threshold
from wirbel.demo.world.topology import CORES

NOON = 20_508 * 24 * 3600 * 10**9 + 12 * 3600 * 10**9
MINUTE_NS = 60 * 10**9
STRETCH = (NOON, NOON + 10 * MINUTE_NS)


def world(seed: int = 1, kept: float = 1 / 20, effects: tuple[Effect, ...] = ()) -> World:
    return World.make(SKERRY, seed, Happenings(effects=list(effects)), *STRETCH, kept)


@pytest.fixture(scope="module")
def usual() -> World:
    return world()


@pytest.fixture(scope="module")
def table(usual: World) -> pa.Table:
    return usual.traffic.spans(*STRETCH)


def seconds(table: pa.Table) -> np.ndarray:
    return arrow.numbers(table["duration"]) / 1e9


def test_an_operation_takes_as_long_as_the_state_says(usual: World, table: pa.Table) -> None:
    """Where nothing runs beside anything else: the mean of a maximum is more than the maximum of means."""
    for key in ("berth-planner POST /places/reserve", "gate-api POST /scans", "pass-issuer POST /passes", "quay-web POST /reservations"):
        operation = SKERRY.operations[key]
        own = table.filter(pc.and_(pc.equal(table["service"], operation.service), pc.equal(table["name"], f"{operation.method} {operation.route}")))
        assert seconds(own).mean() == pytest.approx(usual.state.response[key].mean(), rel=0.06)


def test_requests_at_work_are_rate_times_time(usual: World, table: pa.Table) -> None:
    """Little's law: the workers in use that the metric shows are what the spans add up to."""
    length = (STRETCH[1] - STRETCH[0]) / 1e9
    for service in ("quay-web", "berth-planner", "pass-issuer"):
        own = table.filter(pc.and_(pc.equal(table["service"], service), pc.equal(table["kind"], spans.SERVER)))
        at_work = (seconds(own) * arrow.numbers(own["weight"])).sum() / length
        shown = sum(usual.state.workers[service, n].busy[60:120].mean() for n in range(SKERRY.services[service].instances)) * SKERRY.services[service].workers
        assert at_work == pytest.approx(shown, rel=0.08)


def test_a_database_makes_its_callers_wait_as_erlang_c_says() -> None:
    """Calls to one that is nearly full take longer, by the mean wait of M/M/c with so many servers."""
    slow = Effect(("time", "manifest-db"), Shape(0, 2**62), times=2.6)
    made = world(effects=(slow,))
    state = made.state
    asked = made.traffic.spans(*STRETCH)
    asked = asked.filter(pc.equal(asked["peer"], "manifest at manifest-db"))
    held = state.backend_hold["manifest-db"].mean()
    load = state.backend_rate["manifest-db"][60:120].mean() * held
    servers = SKERRY.backends["manifest-db"].servers
    assert 0.6 < load / servers < 0.97
    wait = float(erlang_c(servers, load)) * held / (servers - load)
    travel = 2 * 0.35e-3 * np.exp(0.3**2 / 2) / 2  # the answer's way, of which a query has one
    assert seconds(asked).mean() == pytest.approx(held + wait + travel, rel=0.08)


def test_what_a_caller_counts_as_calls_the_callee_counts_as_served(table: pa.Table) -> None:
    """But for those that were turned away, which leave no span where they were not let in."""
    parent = parent_rows(table)
    kind = arrow.numbers(table["kind"])
    asked = (kind == spans.CLIENT) & pc.is_in(table["peer"], value_set=pa.array([f"{name}:8080" for name in SKERRY.services])).fill_null(False).to_numpy()
    answered = np.zeros(table.num_rows, np.bool_)
    served = np.flatnonzero((kind == spans.SERVER) & (parent >= 0))
    answered[parent[served]] = True
    assert np.bincount(parent[served]).max() == 1
    assert asked[parent[served]].all()
    refused = pc.match_substring(table["status_message"].fill_null(""), "refused").to_numpy()
    assert (answered[asked] | refused[asked]).all()
    roots = (parent < 0).sum()
    assert roots == pc.sum(pc.is_null(table["parent_id"])).as_py()


def test_turned_away_requests_are_told_by_their_callers_only() -> None:
    crowd = Effect(("load", "gate-api POST /scans"), Shape(0, 2**62), times=1.0)
    stuck = Effect(("work", "pass-issuer", 0), Shape(0, 2**62), times=25.0)
    made = world(effects=(crowd, stuck))
    told = made.traffic.spans(*STRETCH)
    assert made.state.workers["pass-issuer", 0].refused[60:].max() > 0.1
    refused = told.filter(pc.match_substring(told["status_message"].fill_null(""), "refused"))
    assert set(refused["kind"].to_pylist()) == {spans.CLIENT}
    assert set(refused["service"].unique().to_pylist()) <= {"quay-web", "gate-api"}


def test_the_request_counter_counts_the_requests_that_the_spans_tell_of(table: pa.Table) -> None:
    told = durations.request_durations(table)
    counted = told.filter(pc.equal(told["metric"], "http.server.request.duration"))
    served = table.filter(pc.equal(table["kind"], spans.SERVER))
    assert pc.sum(counted["count"]).as_py() == pytest.approx(pc.sum(served["weight"]).as_py())
    assert pc.sum(counted["total"]).as_py() == pytest.approx((seconds(served) * arrow.numbers(served["weight"])).sum())
    by_service = counted.group_by("service").aggregate([("count", "sum")]).to_pydict()
    for service, count in zip(by_service["service"], by_service["count_sum"], strict=True):
        weight = pc.sum(served.filter(pc.equal(served["service"], service))["weight"]).as_py()
        assert count == pytest.approx(weight)


def gauge(state: State, metric: str, host: str) -> float:
    table = metrics.gauges(state, Happenings(), 1, *STRETCH)
    found = table.filter(pc.and_(pc.equal(table["metric"], metric), pc.equal(table["host"], host)))
    return float(np.mean(found["value"].to_numpy()))


def test_processors_follow_work() -> None:
    """Half the requests are half the cores, beyond what a host takes for itself."""
    full, half = (solve(SKERRY, Conditions([], NOON - 600 * 10**9, 130, 10), SKERRY.rate * factor) for factor in (1.0, 0.5))
    idle = gauge(solve(SKERRY, Conditions([], NOON - 600 * 10**9, 130, 10), SKERRY.rate * 1e-6), "system.cpu.utilization", "islet-3")
    shown = [gauge(state, "system.cpu.utilization", "islet-3") for state in (full, half)]
    assert (shown[1] - idle) / (shown[0] - idle) == pytest.approx(0.5, abs=0.03)
    assert shown[0] * CORES == pytest.approx(full.cpu["islet-3"][60:].mean(), rel=0.02)


def test_what_fails_is_asked_for_again_and_weighs_on_who_is_asked() -> None:
    broken = Effect(("failing", "tides.example"), Shape(0, 2**62), plus=0.6)
    made = world(effects=(broken,))
    attempts = 1 + 0.604 + 0.604**2
    attempts *= 1 + 0.2 * 0.604**3  # a fifth of tide-feed's requests go there; sailing-api asks once more for those that fail
    assert made.state.backend_rate["tides.example"].mean() / world().state.backend_rate["tides.example"].mean() == pytest.approx(attempts, rel=0.02)
    told = made.traffic.spans(*STRETCH)
    again = told.filter(pc.equal(told["peer"], "tides.example"))["span.i:http.request.resend_count"].fill_null(0).to_numpy()
    counts = np.bincount(again)
    assert counts[1] / counts[0] == pytest.approx(0.604, abs=0.05)


def test_a_message_links_to_the_span_that_sent_it(table: pa.Table) -> None:
    consumed = table.filter(pc.is_valid(table["links"]))
    assert set(consumed["service"].to_pylist()) == {"notice-fanout"}
    sent = {row["span_id"]: row for row in table.filter(pc.equal(table["kind"], spans.PRODUCER)).select(["span_id", "trace_id", "start"]).to_pylist()}
    for row in consumed.slice(0, 50).select(["links", "start"]).to_pylist():
        source = sent[row["links"][0]["span_id"]]
        assert source["trace_id"] == row["links"][0]["trace_id"]
        assert source["start"] <= row["start"]


def test_the_threshold_says_what_a_recorded_span_stands_for() -> None:
    """OpenTelemetry's consistent probability sampling: th is the share that was not recorded."""
    for kept in (1.0, 0.5, 1 / 3, 1 / 64, 1 / 90):
        state = f"ot=th:{threshold(kept)}"
        assert adjusted_count(state) == pytest.approx(1 / kept)


def whole(made: World) -> bytes:
    sink = pa.BufferOutputStream()
    told = made.telemetry(NOON, NOON + 2 * MINUTE_NS)
    for part in (told.spans, told.logs, told.points):
        with pa.ipc.new_stream(sink, part.schema) as writer:
            writer.write_table(part.combine_chunks())
    return sink.getvalue().to_pybytes()


def test_a_seed_means_one_world() -> None:
    assert whole(world(3)) == whole(world(3))
    assert whole(world(3)) != whole(world(4))


def test_effects_have_their_shapes() -> None:
    times = np.arange(0, 1200, 10) * 10**9
    step, ramp, comes = (Shape(300 * 10**9, 900 * 10**9, form, 300.0).at(times) for form in ("step", "ramp", "intermittent"))  # type: ignore[arg-type]
    assert step.sum() == 60
    assert ramp[45] == pytest.approx(0.5)
    assert ramp[89] == 1.0
    assert 0 < comes.sum() < 60
    assert step[-1] == ramp[-1] == comes[-1] == 0


def test_an_instance_that_is_restarted_serves_nothing_and_is_slow_at_first() -> None:
    """The others serve what it would have; nothing is lost."""
    at = STRETCH[0] + 3 * MINUTE_NS
    restart = restart_by_hand(SKERRY, "fare-engine", at)
    made = World.make(SKERRY, 1, restart, *STRETCH, 1 / 5)
    served = made.traffic.spans(*STRETCH)
    served = served.filter(pc.and_(pc.equal(served["service"], "fare-engine"), pc.equal(served["kind"], spans.SERVER)))
    start, took = arrow.numbers(served["start"]), seconds(served)
    first = np.array(served["instance"].to_pylist()) == SKERRY.instances["fare-engine"][0].name
    away, cold = (start >= at) & (start < at + AWAY), (start >= at + AWAY) & (start < at + AWAY + COLD)
    usually = start < at
    assert first[usually].sum() > 100
    assert first[away].sum() == 0
    assert away.sum() / AWAY == pytest.approx(usually.sum() / (at - STRETCH[0]), rel=0.25)
    assert np.median(took[cold & first]) > 1.2 * np.median(took[usually & first])
    assert [change["kind"] for change in restart.changes] == ["restart"]


def test_a_gate_is_held_by_one_of_the_staff_for_a_shift(table: pa.Table) -> None:
    scans = table.filter(pc.and_(pc.equal(table["service"], "gate-api"), pc.is_valid(table["span.s:device.id"])))
    pairs = scans.group_by(["span.s:device.id", "span.s:user.id"]).aggregate([]).to_pylist()
    assert len(pairs) == len({pair["span.s:user.id"] for pair in pairs}) == len({pair["span.s:device.id"] for pair in pairs}) > 1
    assert all(pair["span.s:user.id"].startswith("staff-") for pair in pairs)


def test_limits_are_constant_and_nothing_is_used_to_more_than_all_of_it() -> None:
    made = scene.make(SKERRY, "noisy-neighbour", 2, history_ns=scene.HOUR_NS)
    told = points_of(made)
    limits = told.filter(pc.is_in(told["metric"], value_set=pa.array(["db.client.connection.max", "jvm.memory.limit"])))
    for row in limits.group_by(["metric", "instance", "labels"]).aggregate([("value", "count_distinct")]).to_pylist():
        assert row["value_count_distinct"] == 1, row
    shares = told.filter(pc.equal(told["unit"], "1"))
    assert pc.max(shares["value"]).as_py() <= 1.0
    # What the host's processors lack, its instances show.
    host = next(name for kind, name in made.fault.truth.entities if kind == "host")
    held = told.filter(pc.equal(told["metric"], "container.cpu.throttled.share"))
    after = pc.greater(held["time"], made.fault.truth.onset + 5 * 60 * 10**9)
    there = pc.equal(held["host"], host)
    mean = {where: pc.mean(held.filter(pc.and_(after, rows))["value"]).as_py() for where, rows in (("there", there), ("elsewhere", pc.invert(there)))}
    assert mean["there"] > 2 * mean["elsewhere"]


def test_announced_scaling_takes_an_instance_away_and_brings_it_back() -> None:
    scaled = scaled_down(SKERRY, "quay-web", NOON, NOON + 45 * MINUTE_NS)
    assert [(change["before"], change["after"]) for change in scaled.changes] == [({"instances": 4}, {"instances": 3}), ({"instances": 3}, {"instances": 4})]
    state = solve(SKERRY, Conditions(scaled.effects, NOON - 600 * 10**9, 400, 10))
    last = state.share("quay-web", 3)
    assert last[:59].min() > 0.2
    assert last[61:320].max() == 0
    assert last[-1] > 0.2
    assert scaled_down(SKERRY, "vessel-track", NOON, NOON + 1).changes == []  # two instances: one could not do the work of both


def test_application_spans_name_their_code() -> None:
    made = scene.make(SKERRY, "nothing-wrong", 1, history_ns=scene.HOUR_NS // 6)
    served = made.world.telemetry(made.start, made.start + 5 * 60 * 10**9).spans
    served = served.filter(pc.equal(served["kind"], spans.SERVER))
    assert served.num_rows
    assert served["span.s:code.file.path"].null_count == 0
    places = served.group_by(["service", "operation"]).aggregate([("span.i:code.line.number", "count_distinct")])
    assert set(places["span.i:code.line.number_count_distinct"].to_pylist()) == {1}


def points_of(made: scene.Scene) -> pa.Table:
    return pa.concat_tables([made.world.telemetry(at, min(at + scene.CHUNK_NS, made.asked)).points for at in range(made.start, made.asked, scene.CHUNK_NS)])


TOLD = """
import hashlib
from tests.demo.test_world import STRETCH, seconds, world
from wirbel.demo.world.conditions import Effect, Shape
lost = world(effects=(Effect(("loss", SOUTH), Shape(0, 2**62), plus=0.1),)).traffic.spans(*STRETCH)
print(hashlib.sha256(seconds(lost).tobytes()).hexdigest())
"""


def test_a_seed_means_one_world_in_every_process() -> None:
    """Sets of names are in another order in each process: nothing may be drawn in it."""
    zone = SKERRY.zones[-1]
    told = [
        subprocess.run(
            [sys.executable, "-c", TOLD.replace("SOUTH", repr(zone))], env={**os.environ, "PYTHONHASHSEED": seed}, text=True, capture_output=True, check=True
        ).stdout
        for seed in ("1", "2")
    ]
    assert told[0] == told[1] != ""
