"""A change is guilty by what happened at it, and not by being there, being near, or being of a kind."""

from __future__ import annotations

import numpy as np
import pytest

from tests.builders import NOW
from tests.core.made_cases import fleet, samples
from tests.core.test_diagnosis import FOCUS_MS, question
from wirbel.core.diagnosis import change_choice
from wirbel.core.diagnosis.case import Case, Records
from wirbel.core.diagnosis.changes import HELD
from wirbel.core.diagnosis.ranking import rank
from wirbel.core.signals.changes import KINDS, Change

MINUTE_NS = 60 * 10**9
ONSET = NOW + int(FOCUS_MS) * 10**6


def told(kind: str, minutes: float, **of: object) -> Change:
    """A change so many minutes before the onset."""
    return Change(id=f"{kind}-{minutes}", kind=kind, at=ONSET - int(minutes * MINUTE_NS), **of)  # type: ignore[arg-type]


def first(table: object, *changes: Change, **records: object):  # type: ignore[no-untyped-def]
    return rank(Case(question(), Records(spans=table, changes=list(changes), **records))).candidates[0]  # type: ignore[arg-type]


@pytest.mark.parametrize("minutes", [5, 12, 40, -4])
@pytest.mark.parametrize("kind", KINDS)
def test_a_change_of_the_culprit_at_another_time_is_not_held_responsible(kind: str, minutes: float) -> None:
    found = first(fleet(slow_database=True), told(kind, minutes, entity={"server.address": "db"}))
    assert (found.entity, found.change) == (("database", "ns at db"), None)


@pytest.mark.parametrize("kind", ["config", "migration", "job", "deploy"])
def test_a_change_of_the_culprit_at_the_onset_is(kind: str) -> None:
    change = told(kind, 0.2, entity={"server.address": "db"})
    innocent = [told("config", minutes, entity={"server.address": "db"}) for minutes in (6, 25)]
    found = first(fleet(slow_database=True), change, *innocent)
    assert (found.entity, found.change) == (("database", "ns at db"), change.id)


def test_a_change_at_the_onset_of_what_did_not_change_is_not() -> None:
    found = first(fleet(slow_database=True), told("deploy", 0.1, service="front"), told("config", 0.2, service="front"))
    assert (found.entity, found.change) == (("database", "ns at db"), None)


def test_verdicts_of_those_that_are_held_are_all_there_are() -> None:
    assert HELD == ("responsible", "calls", "gradual")


def ramp(since_minute: int) -> np.ndarray:
    return np.where(np.arange(120) < since_minute, 0.3, 0.3 + 0.005 * (np.arange(120) - since_minute))


@pytest.mark.parametrize(("since_minute", "expected"), [(30, True), (5, False), (45, False), (None, False)])
def test_a_measure_that_builds_up_from_a_change_on_holds_it(since_minute: int | None, expected: bool) -> None:
    """A heap that has risen since half an hour before the onset; one that rose before the change, began a quarter of an hour after it, or never rose, tells nothing of it."""
    table = samples({("back", "back-h1", "h1", "process.memory.utilization", "{}"): (0.3, 0.3)})
    if since_minute is not None:
        rows = table.to_pylist()
        for row in rows:
            row["value"] = float(ramp(since_minute)[(row["time"] - NOW) // MINUTE_NS])
        table = table.from_pylist(rows, table.schema)
    change = told("deploy", 30, service="back")
    case = Case(question(), Records(spans=fleet(slow_database=True), changes=[change], points=table))
    [judged] = case.judged
    assert change_choice.builds_up(case, judged, change_choice.measured_of(case, ("service", "back"))) is expected
