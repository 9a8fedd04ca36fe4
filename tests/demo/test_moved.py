"""A reference of another day gives the answer of one just before: the same drill, asked with its reference moved."""

from __future__ import annotations

import pytest

from wirbel.core.diagnosis import inquire
from wirbel.core.diagnosis.case import Case
from wirbel.demo.drill.batch import SKERRY_LINE, Drill
from wirbel.demo.drill.moved import moved
from wirbel.demo.drill.prepared import Prepared

MINUTE_NS = 60 * 10**9


@pytest.fixture(scope="module")
def prepared(tmp_path_factory: pytest.TempPathFactory) -> Prepared:
    found = Drill(SKERRY_LINE, "index-dropped", 2).prepared(tmp_path_factory.mktemp("drills"), whole=False)
    assert found is not None
    return found


def answered(found: Prepared, by_minutes: float):  # type: ignore[no-untyped-def]
    there = moved(found, int(by_minutes) * MINUTE_NS)
    assert there is not None
    assert there.question is not None
    assert there.records is not None
    return inquire.answer(Case(there.question, there.records))


@pytest.mark.parametrize("minutes", [120, 24 * 60, 6 * 24 * 60, 30 * 24 * 60, -240], ids=["2 h", "1 d", "6 d", "30 d", "after the focus"])
def test_the_answer_stays_when_the_reference_moves(prepared: Prepared, minutes: int) -> None:
    before, there = answered(prepared, 0), answered(prepared, minutes)
    assert there.candidates[0].entity == before.candidates[0].entity
    assert there.candidates[0].mechanism == before.candidates[0].mechanism
    assert there.candidates[0].change == before.candidates[0].change == prepared.truth["change"]
    assert there.candidates[0].confidence == pytest.approx(before.candidates[0].confidence, abs=0.1)
    assert there.effect.delta == pytest.approx(before.effect.delta, rel=1e-9)
    assert there.effect.reference == pytest.approx(before.effect.reference, rel=1e-9)
    assert before.onset is not None
    assert there.onset is not None
    assert abs(there.onset.at - before.onset.at) <= MINUTE_NS


def test_windows_that_change_places_tell_of_the_opposite(prepared: Prepared) -> None:
    """What became slower became faster the other way round, by as much; and nobody is told to have slowed it."""
    from dataclasses import replace

    there = moved(prepared, 24 * 60 * MINUTE_NS)
    assert there is not None
    assert there.question is not None
    assert there.records is not None
    swapped = replace(there.question, focus=there.question.reference, reference=there.question.focus)
    forth, back = (Case(question, there.records) for question in (there.question, swapped))
    assert back.effect.delta == pytest.approx(-forth.effect.delta, rel=1e-9)
    assert {candidate.mechanism for candidate in inquire.answer(back).candidates} <= {"unknown", "traffic", "absence", "network", "config", "saturation"}
