"""Changes judged by a local step of what they touch, against what they did not touch."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
import numpy.typing as npt
import pytest

from tests.builders import NOW
from tests.core.test_responsibility import MINUTE, Trace, both_windows, built
from wirbel.core.diagnosis import onset
from wirbel.core.diagnosis.changes import Judged, Judging, judge
from wirbel.core.signals.changes import Change

Floats = npt.NDArray[np.float64]
RNG = np.random.default_rng(8)
HOSTS = ("islet-1", "islet-2", "islet-3")


def _one(number: int, at: float, focus: bool) -> Trace:
    trace = Trace(number, at, 30, host=HOSTS[number % 3], instance=f"front-{number % 3}", version="1")
    answer = trace.call(trace.root, "front", "back", 5, 20)
    new = at >= 60 * MINUTE and number % 4 == 0
    trace.rows[-1] |= {"version": "2" if new else "1", "instance": f"back-{number % 4}"}
    trace.query(answer, "back", 8, 10)
    return trace


REQUESTS = built(both_windows(_one, 900))
MINUTES = (REQUESTS.start - NOW) / (MINUTE * 10**6)


def noisy(values: npt.ArrayLike) -> Floats:
    return np.asarray(values) + RNG.normal(0, 0.02, len(REQUESTS))


def step(at: float, size: float = 0.3, where: Any = True) -> Floats:
    return noisy(np.where((at <= MINUTES) & where, size, 0.0))


def change(minute: float, service: str | None = "back", **more: Any) -> Change:
    return Change(**{"id": "c", "kind": "deploy", "at": NOW + round(minute * MINUTE * 10**6), "service": service, **more})


def judged(
    given: Change,
    amounts: Mapping[tuple[str, str], Floats],
    symptom: Floats | None = None,
    calls: Mapping[tuple[str, tuple[str, str]], Floats] | None = None,
) -> Judged:
    everything = sum(amounts.values()) if symptom is None else symptom
    started = onset.find(REQUESTS.start, everything)
    assert started is not None
    delta = everything[REQUESTS.in_focus].mean() - everything[~REQUESTS.in_focus].mean()
    onsets = {entity: onset.find(REQUESTS.start, amount) for entity, amount in amounts.items()}
    [found] = judge(
        Judging(
            requests=REQUESTS,
            amounts=amounts,
            onsets=onsets,
            symptom=everything,
            symptom_onset=started,
            delta=float(delta),
            calls=calls or {("back", DATABASE): step(200)},
        ),
        [given],
    )
    return found


BACK, DATABASE, FRONT = ("service", "back"), ("database", "db"), ("service", "front")


@pytest.mark.parametrize(("minute", "verdict"), [(20, "earlier"), (50, "earlier"), (59.5, "responsible"), (60.5, "responsible"), (70, "too-late")])
def test_only_a_step_at_the_change_makes_it_responsible(minute: float, verdict: str) -> None:
    found = judged(change(minute), {BACK: step(60), FRONT: step(200)})
    assert found.verdict == verdict
    assert found.entity == BACK
    if verdict == "responsible":
        assert found.share == pytest.approx(1.0, abs=0.15)


def test_what_rises_slowly_after_a_change_may_come_from_it() -> None:
    """A leak: half an hour of nothing to see after the deploy, then ever more. A step at the same time would not be its doing."""
    leaking = noisy(0.4 * np.clip((MINUTES - 62) / 30, 0, 1))
    assert judged(change(35), {BACK: leaking}).verdict == "gradual"
    assert judged(change(35), {BACK: step(62)}).verdict == "earlier"


def test_nothing_stepped_at_an_innocent_change() -> None:
    assert judged(change(59.9), {BACK: step(200), DATABASE: step(60)}).verdict == "innocent"


def test_a_changes_service_is_told_when_what_its_calls_cost_stepped_at_it() -> None:
    """A new version may ask the database for more each time: its own time stays, the database's does not."""
    mine, amounts = ("back", DATABASE), {BACK: step(200), DATABASE: step(60)}
    found = judged(change(59.9), amounts, calls={mine: step(60)})
    assert (found.entity, found.verdict) == (DATABASE, "calls")
    assert judged(change(20), amounts, calls={mine: step(60)}).verdict == "innocent"
    assert judged(change(59.9, "front"), {**amounts, FRONT: step(200)}, calls={mine: step(60)}).verdict == "innocent"
    others_stayed = judged(change(59.9), amounts, calls={mine: step(60), ("front", DATABASE): step(200)})
    assert others_stayed.verdict == "calls"
    assert others_stayed.control is not None
    assert others_stayed.control.what == "other callers of it"
    both_moved = {mine: step(60, 0.15), ("front", DATABASE): step(60, 0.15)}
    assert judged(change(59.9), amounts, calls=both_moved).verdict == "innocent"  # it is the database


def test_when_old_instances_moved_too_the_new_version_is_not_it() -> None:
    met_new = np.arange(1, len(REQUESTS) + 1) % 4 == 0  # the instance that runs version 2 from minute 60 on
    canary = judged(change(60, version="2"), {BACK: step(60, where=met_new)})
    assert canary.verdict == "responsible"
    assert canary.control is not None
    assert canary.control.moved == pytest.approx(0.0, abs=0.02)
    everywhere = judged(change(60, version="2"), {BACK: step(60)})
    assert everywhere.verdict == "innocent"
    assert everywhere.control is not None
    assert everywhere.control.moved == pytest.approx(0.3, abs=0.02)


def test_when_all_else_moved_with_it_the_change_is_not_it() -> None:
    others = {("service", f"s{n}"): step(60, 0.25) for n in range(4)}
    assert judged(change(60), {BACK: step(60), **others}).verdict == "innocent"
    still = {("service", f"s{n}"): step(200) for n in range(4)}
    assert judged(change(60), {BACK: step(60), **still}).verdict == "responsible"


@pytest.mark.parametrize(
    "given",
    [
        change(60, None, kind="job", entity={"db.name": "db"}),
        change(60, None, kind="job", entity={"server.address": "db"}),
        change(60, "back", kind="migration"),
        change(60, "back", kind="migration", entity={"db.namespace": "db"}),
        change(60, "db", kind="config"),
    ],
)
def test_databases_have_changes_too(given: Change) -> None:
    found = judged(given, {BACK: step(200), DATABASE: step(60)})
    assert (found.entity, found.verdict) == (DATABASE, "responsible")


def test_a_job_on_a_host_is_judged_by_the_requests_there() -> None:
    there = np.arange(1, len(REQUESTS) + 1) % 3 == 0  # on the first host
    slow_there = step(60, where=there)
    job = change(60, None, kind="job", entity={"host.name": "islet-1"})
    assert judged(job, {FRONT: slow_there}).verdict == "responsible"
    assert judged(job, {FRONT: step(60)}).verdict == "innocent"  # as slow on the other hosts
    assert judged(change(60, None, kind="job", entity={"host.name": "elsewhere"}), {FRONT: slow_there}).verdict == "off-path"


def test_a_flag_without_a_service_is_judged_by_the_symptom() -> None:
    assert judged(change(60, None, kind="flag"), {FRONT: step(60)}).verdict == "responsible"
    assert judged(change(40, None, kind="flag"), {FRONT: step(60)}).verdict != "responsible"


def test_what_requests_do_not_touch_is_off_their_path() -> None:
    assert judged(change(60, "elsewhere"), {BACK: step(60)}).verdict == "off-path"
