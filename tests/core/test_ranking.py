"""Weighing of suspects from given findings: what adds, what speaks against, and what is left over."""

from __future__ import annotations

import math
from dataclasses import replace

import pytest

from tests.builders import NOW
from wirbel.core.diagnosis import weights
from wirbel.core.diagnosis.attribution import Contribution, Effect
from wirbel.core.diagnosis.changes import Judged
from wirbel.core.diagnosis.contrast import Standout
from wirbel.core.diagnosis.model import Moved, Suspect
from wirbel.core.diagnosis.onset import Onset
from wirbel.core.diagnosis.ranking import Findings, rank, rank_traffic
from wirbel.core.diagnosis.requests import DEPENDENCY, OWN, TRANSFER, Part
from wirbel.core.signals.changes import Change

SECOND = 10**9
EFFECT = Effect(0.2, 1.0, 0.8, 0.7, 0.9, "s", "mean", 500, 500)
BEGAN = Onset(NOW, NOW - 30 * SECOND, NOW + 30 * SECOND, 4.0)


def part(service: str, more: float, slower: float, peer: str | None = None, kind: str = OWN, peer_kind: str | None = None) -> Contribution:
    delta = more + slower
    where = Part(kind, service, "GET /x", peer, peer_kind)
    return Contribution(where, 1.0, 4.0 if more else 1.0, 0.05, 0.05 + delta, delta, more, slower, delta - 0.01, delta + 0.01, ("ab", "cd"), ("ef", "01"))


def findings(*parts: Contribution, **more: object) -> Findings:
    base = Findings(EFFECT, "latency", BEGAN, list(parts), [], [], [], 1.0, 0.0)
    return replace(base, **more)  # type: ignore[arg-type]


def judged(service: str, verdict: str, lead_s: float, **more: object) -> Judged:
    change = Change(id=f"deploy-{service}", kind="deploy", at=NOW - round(lead_s * SECOND), service=service, version="2.0")
    base = Judged(change, True, lead_s, 0.05, 0.7, 0.8, 1e-9, None, verdict)
    return replace(base, **more)  # type: ignore[arg-type]


def only(suspects: list[Suspect], name: str) -> Suspect:
    [found] = [s for s in suspects if s.name == name]
    return found


def test_more_calls_are_the_callers_and_slower_calls_are_the_callees() -> None:
    suspects, _ = rank(findings(part("planner", 0.5, 0.0, "berth", DEPENDENCY, "database"), part("planner", 0.0, 0.2, "berth", DEPENDENCY, "database")))
    assert (only(suspects, "planner").kind, only(suspects, "planner").mechanism) == ("service", "more-calls")
    assert (only(suspects, "berth").kind, only(suspects, "berth").mechanism) == ("database", "slower-work")
    assert suspects[0].name == "planner"


def test_time_on_the_way_is_waiting_for_who_was_asked() -> None:
    suspects, _ = rank(findings(part("front", 0.0, 0.7, "back", TRANSFER, "service")))
    assert (only(suspects, "back").mechanism, only(suspects, "back").explains) == ("waiting", pytest.approx(0.875))


def test_what_no_suspect_explains_is_said() -> None:
    suspects, unexplained = rank(findings(part("a", 0.0, 0.4), part("b", 0.0, 0.2)))
    assert [s.name for s in suspects] == ["a", "b"]
    assert unexplained == pytest.approx(0.25)


@pytest.mark.parametrize("effect", [replace(EFFECT, low=-0.1), replace(EFFECT, delta=0.0, low=0.0, high=0.0)])
def test_a_change_that_may_be_none_has_no_suspects(effect: Effect) -> None:
    assert rank(findings(part("a", 0.0, 0.8), effect=effect)) == ([], 1.0)


def test_confidence_is_the_sum_of_its_evidence_in_log_odds() -> None:
    suspects, _ = rank(findings(part("a", 0.0, 0.8), changes=[judged("a", "responsible", 60)]))
    suspect = only(suspects, "a")
    odds = weights.PRIOR + sum(e.weight for e in suspect.evidence)
    assert suspect.confidence == pytest.approx(1 / (1 + math.exp(-odds)))
    assert suspect.change == "deploy-a"
    plain, _ = rank(findings(part("a", 0.0, 0.8)))
    assert suspect.confidence > only(plain, "a").confidence


@pytest.mark.parametrize(("verdict", "words"), [("too-late", "after the onset"), ("innocent", "did not change")])
def test_a_change_that_is_not_it_speaks_against_itself_only(verdict: str, words: str) -> None:
    suspects, _ = rank(findings(part("a", 0.0, 0.8), changes=[judged("a", verdict, -300)]))
    suspect = only(suspects, "a")
    [against] = [e for e in suspect.evidence if not e.supports]
    assert words in against.text
    assert suspect.change is None


def test_instances_that_did_not_change_are_the_control() -> None:
    stayed, _ = rank(findings(part("a", 0.0, 0.8), changes=[judged("a", "responsible", 60, old_version_after=0.06)]))
    moved, _ = rank(findings(part("a", 0.0, 0.8), changes=[judged("a", "responsible", 60, old_version_after=0.7)]))
    assert [e.supports for e in only(stayed, "a").evidence if e.kind == "control"] == [True]
    assert [e.supports for e in only(moved, "a").evidence if e.kind == "control"] == [False]
    assert only(stayed, "a").confidence > only(moved, "a").confidence


def test_who_moved_first_gains_and_who_moved_after_the_symptom_loses() -> None:
    late = Onset(NOW + 600 * SECOND, NOW + 500 * SECOND, NOW + 700 * SECOND, 3.0)
    both = [Moved("a, own part", "a", BEGAN), Moved("b, own part", "b", late)]
    suspects, _ = rank(findings(part("a", 0.0, 0.4), part("b", 0.0, 0.4), moved=both))
    assert suspects[0].name == "a"
    assert any(e.kind == "onset" and e.supports for e in only(suspects, "a").evidence)
    assert any(e.kind == "onset" and not e.supports for e in only(suspects, "b").evidence)


def test_more_traffic_is_a_suspect_and_speaks_against_the_others() -> None:
    suspects, _ = rank(findings(part("a", 0.0, 0.8), load_ratio=2.5, load_explains=0.9))
    load = next(s for s in suspects if s.kind == "load")
    assert load.mechanism == "traffic"
    assert any(e.kind == "load" and not e.supports for e in only(suspects, "a").evidence)
    alone, _ = rank(findings(part("a", 0.0, 0.8)))
    assert only(suspects, "a").confidence < only(alone, "a").confidence


def test_one_bad_instance_is_a_suspect_of_its_own() -> None:
    standout = Standout("back", "service.instance.id", "back-2", 0.9, 0.2, 120, 0.8, 0.01, "focus", 0.8, 1e-12)
    suspects, _ = rank(findings(part("back", 0.0, 0.8), standouts=[standout]))
    assert any((s.kind, s.name) == ("instance", "back-2") for s in suspects)


def test_the_main_sentence_leads_to_an_example_beside_a_normal_request() -> None:
    suspects, _ = rank(findings(part("a", 0.0, 0.8)))
    about = only(suspects, "a").evidence[0].about
    assert (about["trace"], about["span"], about["against"]) == ("ab", "cd", "ef:01")


def test_at_most_ten_suspects_surest_first() -> None:
    suspects, _ = rank(findings(*[part(f"s{n:02}", 0.0, 0.05) for n in range(16)]))
    assert len(suspects) == 10
    assert [s.confidence for s in suspects] == sorted((s.confidence for s in suspects), reverse=True)


def test_fewer_requests_are_an_absence_of_who_asked() -> None:
    less = Effect(10.0, 4.0, -6.0, -7.0, -5.0, "requests/s", "rate", 600, 240)
    gone = Contribution(Part(OWN, "gate", "POST /scan", "manifest", "service"), 8.0, 2.0, 8.0, 2.0, -6.0, -6.0, 0.0, -7.0, -5.0)
    suspects, unexplained = rank_traffic(less, [gone])
    assert (suspects[0].name, suspects[0].mechanism, unexplained) == ("gate", "absence", pytest.approx(0.0))
