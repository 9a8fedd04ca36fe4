"""Weighing of candidates from given findings: what adds, what speaks against, and what is left over."""

from __future__ import annotations

import math
from dataclasses import replace

import pytest

from tests.builders import NOW
from wirbel.core.diagnosis import weights
from wirbel.core.diagnosis.attribution import Contribution, Effect
from wirbel.core.diagnosis.changes import Control, Judged
from wirbel.core.diagnosis.contrast import Standout
from wirbel.core.diagnosis.model import Candidate, Evidence, Load, Moved
from wirbel.core.diagnosis.onset import Onset
from wirbel.core.diagnosis.parts import DEPENDENCY, OWN, TRANSFER, Part
from wirbel.core.diagnosis.ranking import Findings, Share, rank, rank_traffic
from wirbel.core.diagnosis.responsibility import Doer
from wirbel.core.diagnosis.sentences import KINDS, sentence
from wirbel.core.signals.changes import Change

SECOND = 10**9
EFFECT = Effect(reference=0.2, focus=1.0, delta=0.8, low=0.7, high=0.9, unit="s", statistic="mean", requests_reference=500, requests_focus=500)
BEGAN = Onset(NOW, NOW - 30 * SECOND, NOW + 30 * SECOND, 4.0)


def contribution(part: Part, more: float, slower: float, calls: float = 4.0) -> Contribution:
    delta = more + slower
    return Contribution(
        part=part,
        calls_reference=1.0,
        calls_focus=calls if more else 1.0,
        reference=0.05,
        focus=0.05 + delta,
        delta=delta,
        more_calls=more,
        slower_calls=slower,
        low=delta - 0.01,
        high=delta + 0.01,
        example=("ab", "cd"),
        beside=("ef", "01"),
    )


def adds(kind: str, name: str, mechanism: str, amount: float, part: Part | None = None) -> tuple[Share, Contribution]:
    """Somebody who adds so much to the symptom, and the part in which it is seen."""
    where = part or Part(OWN, name, "GET /x")
    more = mechanism == "more-calls"
    return Share(Doer(kind, name, mechanism), amount, [where]), contribution(where, amount if more else 0.0, 0.0 if more else amount)


def own(service: str, amount: float) -> tuple[Share, Contribution]:
    return adds("service", service, "slower-work", amount)


def findings(*given: tuple[Share, Contribution], **more: object) -> Findings:
    base = Findings(
        effect=EFFECT,
        signal="latency",
        service="front",
        onset=BEGAN,
        contributions=[c for _, c in given],
        shares=[s for s, _ in given],
        standouts=[],
        changes=[],
        moved=[],
        load=Load(1.0, None),
    )
    return replace(base, **more)  # type: ignore[arg-type]


def judged(service: str, verdict: str, lead_s: float, **more: object) -> Judged:
    change = Change(id=f"deploy-{service}", kind="deploy", at=NOW - round(lead_s * SECOND), service=service, version="2.0")
    return replace(Judged(change=change, entity=("service", service), lead_s=lead_s, before=0.05, after=0.7, share=0.8, p=1e-9, verdict=verdict), **more)  # type: ignore[arg-type]


def only(candidates: list[Candidate], name: str) -> Candidate:
    [found] = [c for c in candidates if c.name == name]
    return found


def told(candidate: Candidate, kind: str) -> list[Evidence]:
    return [e for e in candidate.evidence if e.kind == kind]


def test_each_adds_by_its_own_mechanism() -> None:
    berth = Part(DEPENDENCY, "planner", "SELECT place", "berth", "database")
    candidates, _ = rank(findings(adds("service", "planner", "more-calls", 0.5, berth), adds("database", "berth", "slower-work", 0.2, berth)))
    assert [(c.kind, c.name, c.mechanism) for c in candidates] == [("service", "planner", "more-calls"), ("database", "berth", "slower-work")]


def test_time_on_the_way_is_waiting_for_who_was_asked() -> None:
    way = Part(TRANSFER, "front", "GET back", "back", "service")
    candidates, _ = rank(findings(adds("service", "back", "waiting", 0.7, way)))
    assert (only(candidates, "back").mechanism, only(candidates, "back").explains) == ("waiting", pytest.approx(0.875))


def test_what_no_candidate_explains_is_said() -> None:
    candidates, unexplained = rank(findings(own("a", 0.4), own("b", 0.2)))
    assert [c.name for c in candidates] == ["a", "b"]
    assert unexplained == pytest.approx(0.25)


@pytest.mark.parametrize("effect", [replace(EFFECT, low=-0.1), replace(EFFECT, delta=0.0, low=0.0, high=0.0)])
def test_a_change_that_may_be_none_has_no_candidates(effect: Effect) -> None:
    assert rank(findings(own("a", 0.8), effect=effect)) == ([], 1.0)


def test_a_change_that_the_reference_nearly_makes_by_itself_speaks_against_all() -> None:
    unsure, _ = rank(findings(own("a", 0.8), effect=replace(EFFECT, p=0.03)))
    sure, _ = rank(findings(own("a", 0.8)))
    assert told(only(unsure, "a"), "drift")[0].supports is False
    assert only(unsure, "a").confidence < only(sure, "a").confidence


def test_confidence_is_the_sum_of_its_evidence_in_log_odds() -> None:
    candidates, _ = rank(findings(own("a", 0.8), changes=[judged("a", "responsible", 60)]))
    candidate = only(candidates, "a")
    odds = weights.PRIOR + sum(e.log_odds for e in candidate.evidence)
    assert candidate.confidence == pytest.approx(1 / (1 + math.exp(-odds)))
    assert candidate.change == "deploy-a"
    plain, _ = rank(findings(own("a", 0.8)))
    assert candidate.confidence > only(plain, "a").confidence


@pytest.mark.parametrize(("verdict", "words"), [("too-late", "after the onset"), ("innocent", "did not step"), ("earlier", "but later")])
def test_a_change_that_is_not_it_is_told_and_holds_nobody_responsible(verdict: str, words: str) -> None:
    candidates, _ = rank(findings(own("a", 0.8), changes=[judged("a", verdict, -300)]))
    candidate = only(candidates, "a")
    [against] = [e for e in candidate.evidence if not e.supports]
    assert words in sentence(against)
    assert candidate.change is None
    assert candidate.confidence == only(rank(findings(own("a", 0.8)))[0], "a").confidence


def test_a_slow_effect_of_a_change_is_weaker_evidence_than_a_step_at_it() -> None:
    gradual, _ = rank(findings(own("a", 0.8), changes=[judged("a", "gradual", 1800)]))
    at_once, _ = rank(findings(own("a", 0.8), changes=[judged("a", "responsible", 0)]))
    assert only(gradual, "a").change == "deploy-a"
    assert only(gradual, "a").confidence < only(at_once, "a").confidence
    both, _ = rank(findings(own("a", 0.8), changes=[judged("a", "gradual", 1800), judged("a", "gradual", 900)]))
    assert only(both, "a").change is None  # it cannot be told which


def test_a_change_of_who_adds_little_makes_nobody_likely() -> None:
    """Its step is real, and is a twentieth of the symptom's."""
    candidates, _ = rank(findings(own("a", 0.04), own("b", 0.7), changes=[judged("a", "responsible", 0, control=Control("other entities", 0.0, 0.0))]))
    assert only(candidates, "a").change == "deploy-a"
    assert only(candidates, "a").confidence < 0.15


def test_what_was_not_changed_is_the_control() -> None:
    control = Control("other instances or versions", 0.05, 0.06)
    candidates, _ = rank(findings(own("a", 0.8), changes=[judged("a", "responsible", 60, control=control)]))
    [evidence] = told(only(candidates, "a"), "control")
    assert evidence.supports
    assert "50 ms before and 60 ms after" in sentence(evidence)


def test_who_moved_first_gains_and_who_moved_after_the_symptom_loses() -> None:
    late = Onset(NOW + 600 * SECOND, NOW + 500 * SECOND, NOW + 700 * SECOND, 3.0)
    candidates, _ = rank(findings(own("a", 0.4), own("b", 0.4), moved=[Moved("service", "a", BEGAN), Moved("service", "b", late)]))
    assert candidates[0].name == "a"
    assert [e.supports for e in told(only(candidates, "a"), "onset")] == [True]
    assert [e.supports for e in told(only(candidates, "b"), "onset")] == [False]


def test_no_order_is_claimed_where_intervals_overlap() -> None:
    little_later = Onset(NOW + 40 * SECOND, NOW + 15 * SECOND, NOW + 70 * SECOND, 3.0)
    candidates, _ = rank(findings(own("a", 0.4), own("b", 0.4), moved=[Moved("service", "a", BEGAN), Moved("service", "b", little_later)]))
    assert not any(told(c, "onset") for c in candidates)


@pytest.mark.parametrize("ratio", [2.5, 6.5])
def test_more_traffic_is_a_candidate_and_speaks_against_the_others(ratio: float) -> None:
    candidates, _ = rank(findings(own("a", 0.8), load=Load(ratio, 0.9)))
    load = next(c for c in candidates if c.kind == "load")
    assert (load.name, load.mechanism) == ("front", "traffic")
    assert only(candidates, "a").confidence < only(rank(findings(own("a", 0.8)))[0], "a").confidence


def test_much_more_traffic_is_told_though_the_reference_was_too_even_to_tell_what_it_does() -> None:
    candidates, _ = rank(findings(own("a", 0.8), load=Load(6.5, None)))
    load = next(c for c in candidates if c.kind == "load")
    assert "6.5 times what it was; the reference's own traffic was too even" in sentence(load.evidence[0])
    assert load.confidence > 0.5
    assert told(only(candidates, "a"), "load")
    slightly, _ = rank(findings(own("a", 0.8), load=Load(1.6, None)))
    assert [c.kind for c in slightly] == ["service"]
    assert told(only(slightly, "a"), "load")


def standout(*same_as: tuple[str, str, str], **more: object) -> Standout:
    base = Standout(
        service="back",
        key="service.instance.id",
        value="back-2",
        share_bad=0.9,
        share_normal=0.2,
        requests=120,
        excess_with=0.8,
        excess_others=0.01,
        others="focus",
        explains=0.8,
        p=1e-12,
        same_as=list(same_as),
    )
    return replace(base, **more)  # type: ignore[arg-type]


def test_one_bad_instance_is_a_candidate_of_its_own() -> None:
    candidates, _ = rank(findings(own("back", 0.8), standouts=[standout()]))
    assert any((c.kind, c.name) == ("instance", "back-2") for c in candidates)


def test_an_instance_and_a_host_that_mark_the_same_requests_are_both_named() -> None:
    candidates, _ = rank(findings(own("back", 0.8), standouts=[standout(("back", "host.name", "islet-4"))]))
    instance, host = only(candidates, "back-2"), only(candidates, "islet-4")
    assert (instance.kind, host.kind) == ("instance", "host")
    assert "cannot tell back-2 from it" in sentence(told(instance, "same-requests")[0])
    assert "instance back-2" in sentence(told(host, "same-requests")[0])
    also = standout(service="fares", key="host.name", value="islet-4")
    shared, _ = rank(findings(own("back", 0.8), standouts=[standout(("back", "host.name", "islet-4")), also]))
    assert told(only(shared, "islet-4"), "tenants")
    assert only(shared, "islet-4").confidence > only(shared, "back-2").confidence


def test_an_improvement_has_nobody_who_became_slower() -> None:
    better = replace(EFFECT, reference=1.0, focus=0.2, delta=-0.8, low=-0.9, high=-0.7)
    candidates, _ = rank(findings(own("a", -0.7), own("b", 0.1), effect=better, standouts=[standout()], load=Load(3.0, 0.9)))
    [only_one] = candidates
    assert (only_one.name, only_one.mechanism) == ("a", "unknown")
    assert "−700 ms a request" in sentence(only_one.evidence[0])
    assert "slower" not in " ".join(sentence(e) for e in only_one.evidence)


def test_the_net_is_told_first_with_both_of_its_halves() -> None:
    """17 calls instead of one, each 2.6 times faster: no share is above 100 %."""
    part = Part(DEPENDENCY, "planner", "SELECT place", "berth", "database")
    change = replace(contribution(part, 0.07, -0.049, calls=17.0), reference=0.006, focus=0.0392)
    effect = replace(EFFECT, delta=0.023, low=0.02, high=0.026)
    candidates, _ = rank(findings((Share(Doer("service", "planner", "more-calls"), 0.021, [part]), change), effect=effect))
    words = sentence(candidates[0].evidence[0])
    assert (
        words == "+21 ms a request, 91.3 % of the change: planner calls berth (SELECT place) 1 → 17 times a request, 17 times the calls, each 2.6 times faster."
    )


def test_the_main_sentence_leads_to_an_example_beside_a_normal_request() -> None:
    candidates, _ = rank(findings(own("a", 0.8)))
    about = only(candidates, "a").evidence[0].about
    assert (about["trace"], about["span"], about["against"]) == ("ab", "cd", "ef:01")


def test_at_most_ten_candidates_surest_first() -> None:
    candidates, _ = rank(findings(*[own(f"s{n:02}", 0.05) for n in range(16)]))
    assert len(candidates) == 10
    assert [c.confidence for c in candidates] == sorted((c.confidence for c in candidates), reverse=True)


def test_fewer_requests_are_an_absence_of_who_asked() -> None:
    less = Effect(reference=10.0, focus=4.0, delta=-6.0, low=-7.0, high=-5.0, unit="requests/s", statistic="rate", requests_reference=600, requests_focus=240)
    gone = replace(contribution(Part(OWN, "gate", "POST /scan", "manifest", "service"), -6.0, 0.0), reference=8.0, focus=2.0)
    candidates, unexplained = rank_traffic(less, [gone], "manifest")
    assert (candidates[0].name, candidates[0].mechanism, unexplained) == ("gate", "absence", pytest.approx(0.0))
    assert sentence(candidates[0].evidence[0]).startswith("POST /scan called by gate: 8 → 2 requests/s")


def test_every_kind_of_evidence_has_its_sentence() -> None:
    assert set(KINDS) >= {"where-time-went", "where-errors-began", "stands-out", "change", "control", "onset", "load", "traffic", "drift"}
