"""Innocent changes of what is at fault: told of, at any time, and nothing comes of them."""

from __future__ import annotations

import numpy as np
import pytest

from wirbel.core.signals.changes import from_plain
from wirbel.demo.drill import scene
from wirbel.demo.drill.grade import innocents
from wirbel.demo.faults import innocent
from wirbel.demo.faults.model import Case, Fault, Site, Span, Truth, release
from wirbel.demo.making import World
from wirbel.demo.world.happenings import Happenings
from wirbel.demo.world.skerry import SKERRY

ONSET = scene.MONDAY + 9 * scene.HOUR_NS
SPAN = Span(ONSET, ONSET + scene.LASTS_NS)
SERVICE, DATABASE, HOST = "fare-engine", "berth-db", "islet-3"


def fault(entity: tuple[str, str], services: tuple[str, ...] = (), released: bool = False) -> Fault:
    """One whose strength does not matter here."""
    case = Case(SKERRY, SPAN, Site(service=SERVICE), 0.5, np.random.default_rng(1))
    found = Fault(case, Truth("made-up", (entity,), (), services, None, SPAN.onset, SPAN.end))
    if released:
        found.happenings.rollouts.append(release(case, ONSET)[1])
    return found


FAULTS = (fault(("service", SERVICE), (SERVICE,)), fault(("database", DATABASE)), fault(("host", HOST)))


def test_they_are_of_every_kind_and_before_and_after_the_onset() -> None:
    leads, kinds = [], set()
    for made in FAULTS:
        for seed in range(1, 40):
            told = innocents(made.truth.as_dict(), [from_plain(one) for one in innocent.upon(made, seed, SPAN.end).changes])
            assert all(one["on_culprit"] for one in told)
            leads += [one["lead_s"] / 60 for one in told]
            kinds |= {one["kind"] for one in told}
    assert {"deploy", "config", "flag", "restart", "migration", "manual", "job"} <= kinds
    assert min(leads) < -1
    assert max(leads) > 60
    assert not [lead for lead in leads if 0 <= lead < 4.9]  # nearer ones nobody could tell from the guilty one by time


@pytest.mark.parametrize("made", FAULTS, ids=["service", "database", "host"])
def test_nothing_comes_of_them(made: Fault) -> None:
    """The world with them is the world without, once an instance that was restarted is warm."""
    found = innocent.upon(made, 3, SPAN.end)
    start, end = ONSET - scene.HOUR_NS, ONSET + scene.HOUR_NS // 2
    worlds = [World.make(SKERRY, 3, more, start, end, 0.01) for more in (Happenings(), found)]
    warm = 3 * 60 // 10
    restarts = sum(change["kind"] == "restart" for change in found.changes)
    for key in SKERRY.operations:
        without, with_them = (world.state.response[key] for world in worlds)
        changed = np.abs(with_them / np.maximum(without, 1e-12) - 1) > 0.05
        assert changed.sum() <= restarts * 2 * warm, key


def test_a_fault_that_came_with_a_roll_out_keeps_its_version() -> None:
    """An innocent release after it would end it."""
    made = fault(("service", SERVICE), (SERVICE,), released=True)
    later = [rollout for seed in range(1, 60) for rollout in innocent.upon(made, seed, SPAN.end).rollouts if rollout.begins >= ONSET]
    earlier = [rollout for seed in range(1, 60) for rollout in innocent.upon(made, seed, SPAN.end).rollouts if rollout.begins < ONSET]
    assert earlier
    assert not later


def test_drills_have_them() -> None:
    made = scene.make(SKERRY, "disk-full", 2)
    told = innocents(made.fault.truth.as_dict(), [from_plain(change) for change in made.everyday.changes])
    assert any(one["on_culprit"] for one in told)
