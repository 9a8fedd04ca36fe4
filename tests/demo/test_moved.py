"""A reference of another day gives the answer of one just before: the same drill, asked with its reference moved."""

from __future__ import annotations

from dataclasses import replace

import pytest

from wirbel.core.diagnosis import inquire
from wirbel.core.diagnosis.case import Case
from wirbel.demo.drill.batch import SKERRY_LINE, Drill
from wirbel.demo.drill.memory import Memory
from wirbel.demo.drill.moved import moved
from wirbel.demo.drill.prepared import Prepared, prepare
from wirbel.demo.faults import Truth

MINUTE_NS = 60 * 10**9


@pytest.fixture(scope="module")
def known() -> tuple[Memory, Truth]:
    memory, made = Drill(SKERRY_LINE, "index-dropped", 2).memory()
    return memory, made.fault.truth


@pytest.fixture(scope="module")
def prepared(known: tuple[Memory, Truth]) -> Prepared:
    memory, truth = known
    return prepare(memory, truth.as_dict(), whole=False)


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


def test_the_first_candidate_is_the_same_from_the_front_and_from_the_service_behind_it(known: tuple[Memory, Truth], prepared: Prepared) -> None:
    memory, truth = known
    assert prepared.question is not None
    focus = (prepared.question.focus.start, prepared.question.focus.end)
    asked = {prepared.question.service, *truth.services}
    assert len(asked) == 2
    firsts = [inquire.answer(memory.case(service, "latency", focus)).candidates[0] for service in sorted(asked)]
    assert {(one.entity, one.mechanism, one.change) for one in firsts} == {(firsts[0].entity, firsts[0].mechanism, truth.change)}


def test_windows_that_change_places_tell_of_the_opposite(prepared: Prepared) -> None:
    """What became slower became faster the other way round, by as much; and nobody is told to have slowed it."""
    there = moved(prepared, 24 * 60 * MINUTE_NS)
    assert there is not None
    assert there.question is not None
    assert there.records is not None
    swapped = replace(there.question, focus=there.question.reference, reference=there.question.focus)
    forth, back = (Case(question, there.records) for question in (there.question, swapped))
    assert back.effect.delta == pytest.approx(-forth.effect.delta, rel=1e-9)
    assert {candidate.mechanism for candidate in inquire.answer(back).candidates} <= {"unknown", "traffic", "absence", "network", "config", "saturation"}
