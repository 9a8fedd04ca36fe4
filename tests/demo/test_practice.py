"""What is ordered on the demo's practice happens in its world, and is remembered."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from wirbel.core.signals.changes import from_plain, parse_time
from wirbel.demo import faults, history
from wirbel.demo.practice import ORDERS, SHOWN, Act, Practice
from wirbel.demo.world.conditions import Conditions
from wirbel.demo.world.skerry import SKERRY
from wirbel.demo.world.state import solve

NOW = 20_508 * 24 * 3600 * 10**9 + 11 * 3600 * 10**9
MINUTE_NS = 60 * 10**9


@pytest.fixture
def practice(tmp_path: Path) -> Practice:
    return Practice(tmp_path, 1, NOW, "bad-deploy")


def order(folder: Path, act: str, do: str) -> None:
    with (folder / ORDERS).open("a") as file:
        file.write(json.dumps({"act": act, "do": do}) + "\n")


def shown(folder: Path) -> dict[str, dict[str, str | None]]:
    return {act["name"]: act for act in json.loads((folder / SHOWN).read_text())["acts"]}


def response(practice: Practice, at: int) -> float:
    """Mean seconds of a reservation in the minute after ``at``."""
    conditions = Conditions(practice.happenings().effects, at - 10 * MINUTE_NS, 72, 10)
    return float(solve(SKERRY, conditions).response["quay-web POST /reservations"][60:66].mean())


def test_a_remedy_ends_the_fault_is_told_as_a_change_and_the_world_recovers(practice: Practice, tmp_path: Path) -> None:
    practice.obey(NOW)
    assert shown(tmp_path)["bad-deploy"]["since"]
    suffering = response(practice, NOW + 5 * MINUTE_NS)
    order(tmp_path, "bad-deploy", "remedy")
    assert practice.obey(NOW + 6 * MINUTE_NS)
    assert shown(tmp_path)["bad-deploy"] | {"about": ""} == {"name": "bad-deploy", "about": "", "remedy": "roll back", "since": None, "how": "remedied"}
    recovered = response(practice, NOW + 8 * MINUTE_NS)
    assert recovered < 0.7 * suffering
    told = [change for change in practice.happenings().changes if change["kind"] == "rollback"]
    assert [(change["service"], parse_time(change["at"], "at")) for change in told] == [("berth-planner", NOW + 6 * MINUTE_NS)]
    from_plain(told[0])
    assert practice.happenings().versions(SKERRY.services["berth-planner"], *two(NOW + 10 * MINUTE_NS)).tolist() == ["4.7.3", "4.7.3"]


def two(at: int):  # type: ignore[no-untyped-def]
    return np.array([at, at]), np.array([0, 2])


def test_what_was_started_goes_on_after_a_restart_of_the_feed(practice: Practice, tmp_path: Path) -> None:
    order(tmp_path, "memory-leak", "start")
    order(tmp_path, "zone-loss", "start")
    order(tmp_path, "zone-loss", "start")  # twice is once
    practice.obey(NOW)
    again = Practice(tmp_path, 1, NOW, "bad-deploy")
    assert [act.kind for act in again.acts] == ["bad-deploy", "memory-leak", "zone-loss"]
    assert not again.obey(NOW + MINUTE_NS)
    leak = next(act for act in again.acts if act.kind == "memory-leak")
    assert leak.onset > NOW
    assert min(effect.shape.start for effect in leak.fault().happenings.effects) == pytest.approx(NOW, abs=10**9)
    order(tmp_path, "memory-leak", "stop")
    again.obey(NOW + 5 * MINUTE_NS)
    assert shown(tmp_path)["memory-leak"]["how"] == "stopped"


@pytest.mark.parametrize("kind", [kind for kind, described in faults.FAULTS.items() if described.remedy])
def test_every_remedy_is_a_change_that_can_be_told(kind: str, tmp_path: Path) -> None:
    practice = Practice(tmp_path, 1, NOW, "nothing-wrong")
    order(tmp_path, kind, "start")
    practice.obey(NOW)
    order(tmp_path, kind, "remedy")
    practice.obey(NOW + 40 * MINUTE_NS)
    told = [change for change in practice.happenings().changes if change["actor"] == "you"]
    assert len(told) == 1
    from_plain(told[0])
    act = practice.acts[-1]
    assert all(effect.shape.start >= act.end or effect.shape.end <= act.end + MINUTE_NS for effect in act.fault().happenings.effects)


def test_a_restart_that_is_a_remedy_takes_instances_away(tmp_path: Path) -> None:
    practice = Practice(tmp_path, 1, NOW, "nothing-wrong")
    for step, do in enumerate(("start", "remedy")):
        order(tmp_path, "silent-service", do)
        practice.obey(NOW + step * 40 * MINUTE_NS)
    service = practice.acts[-1].fault().truth.services[0]
    at = NOW + 40 * MINUTE_NS
    again = Practice(tmp_path, 1, NOW, "nothing-wrong")  # a feed that starts anew remembers it
    for one in (practice, again):
        state = solve(SKERRY, Conditions(one.happenings().effects, at - MINUTE_NS, 18, 10))
        shares = [state.share(service, n) for n in range(2)]
        assert shares[0].min() == 0
        assert shares[1].min() == 0
        assert (shares[0] + shares[1]).min() == pytest.approx(1.0)


def test_an_act_is_the_same_fault_however_long_it_lasts() -> None:
    long, short = Act("bad-canary", 4, NOW, NOW + 10**13), Act("bad-canary", 4, NOW, NOW + 10**11)
    assert long.fault().truth.entities == short.fault().truth.entities
    assert [(e.name, e.times) for e in long.fault().happenings.effects] == [(e.name, e.times) for e in short.fault().happenings.effects]
    assert {kind for kind, described in faults.FAULTS.items() if described.remedy is None} == {"load-surge", "nothing-wrong"}
    seeds = [described.seed for described in faults.FAULTS.values()]
    assert len(set(seeds)) == len(seeds)


def test_the_demo_goes_on_for_weeks() -> None:
    """What happens later is spread over the days, and leaves alone what the fault's truth speaks of."""
    days = [parse_time(str(change["at"]), "at") for part in history.later(1, NOW, "bad-deploy") for change in part.changes]
    counts, _ = np.histogram(days, bins=np.arange(NOW + history.DAY_NS, NOW + history.AHEAD_NS, history.DAY_NS))
    assert counts.min() > 5
    assert not [c for part in history.later(1, NOW, "bad-deploy") for c in part.changes if c["service"] == "berth-planner"]
