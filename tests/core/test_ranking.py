"""Weighing of candidates from given findings: what adds, what speaks against, and what is left over."""

from __future__ import annotations

import re
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from tests.builders import NOW
from wirbel.core.diagnosis import evidence
from wirbel.core.diagnosis.attribution import Contribution, Effect
from wirbel.core.diagnosis.case import Case, Records, Share
from wirbel.core.diagnosis.changes import Control, Judged
from wirbel.core.diagnosis.contrast import Standout
from wirbel.core.diagnosis.model import Candidate, Doubt, Evidence, Load, Moved, Question, Window
from wirbel.core.diagnosis.onset import Onset
from wirbel.core.diagnosis.parts import DEPENDENCY, OWN, TRANSFER, Part
from wirbel.core.diagnosis.ranking import Ranking, observe, rank
from wirbel.core.diagnosis.responsibility import Doer
from wirbel.core.diagnosis.sentences import KINDS, next_step, sentence, title
from wirbel.core.signals import spans
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


def findings(*given: tuple[Share, Contribution], **more: object) -> Case:
    """A case in which this was found; of what is not given there is nothing."""
    window = Window(NOW, NOW + 3600 * SECOND), Window(NOW - 3600 * SECOND, NOW)
    case = Case(Question("front", None, "latency", *window), Records(spans=spans.empty(), changes=[]))
    found: dict[str, object] = {
        "effect": EFFECT,
        "contributions": [c for _, c in given],
        "shares": [s for s, _ in given],
        "standouts": [],
        "judged": [],
        "order": [],
        "moved": {},
        "onset": BEGAN,
        "carried": (EFFECT.reference, EFFECT.focus),
        "load": Load(1.0, None),
        **more,
    }
    found["_standouts"] = (found.pop("standouts"), [])
    case.__dict__.update(found)
    return case


def ranked(case: Case) -> list[Candidate]:
    return rank(case).candidates


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
    found = ranked(findings(adds("service", "planner", "more-calls", 0.5, berth), adds("database", "berth", "slower-work", 0.2, berth)))
    assert [(c.kind, c.name, c.mechanism) for c in found] == [("service", "planner", "more-calls"), ("database", "berth", "slower-work")]


def test_time_on_the_way_is_waiting_for_who_was_asked() -> None:
    way = Part(TRANSFER, "front", "GET back", "back", "service")
    back = only(ranked(findings(adds("service", "back", "waiting", 0.7, way))), "back")
    assert (back.mechanism, back.explains) == ("waiting", pytest.approx(0.875))


def test_what_no_candidate_explains_is_said() -> None:
    case = findings(own("a", 0.4), own("b", 0.2))
    ranking = rank(case)
    found, unexplained = ranking.candidates, ranking.unexplained
    assert found[0].name == "a"
    assert unexplained == pytest.approx(1 - sum(c.explains for c in found))


@pytest.mark.parametrize(("effect", "doubt"), [(replace(EFFECT, low=-0.1), "wanders"), (replace(EFFECT, delta=0.0, low=0.0, high=0.0), "same")])
def test_a_change_that_may_be_none_has_no_candidates(effect: Effect, doubt: Doubt) -> None:
    case = findings(own("a", 0.8), effect=effect)
    assert rank(case) == Ranking([], 1.0, 1.0)
    assert case.doubt == doubt


@pytest.mark.parametrize(
    ("certain", "usual", "now", "matters"),
    [(0.5, 0.1, 0.104, False), (0.4, 0.1, 0.123, True), (-0.1, 0.1, 0.2, False), (0.3, 0.0, 0.01, True), (0.6, 0.1, 0.09, True), (0.1, 0.1, 0.09, False)],
)
def test_what_is_for_certain_no_more_than_what_is_steady_may_move_is_none(certain: float, usual: float, now: float, matters: bool) -> None:
    """``certain`` is the near end of the interval, as a share of the difference."""
    delta = 0.8 if now > usual else -0.8
    ends = sorted((certain * delta, 2 * delta))
    case = findings(own("a", delta), effect=replace(EFFECT, delta=delta, low=ends[0], high=ends[1]), carried=(usual, now))
    assert case.doubt == (None if matters else "wanders" if certain < 0 else "small")
    assert bool(rank(case).candidates) == matters


def test_a_clearer_symptom_makes_whoever_did_it_likelier() -> None:
    unsure, sure = (only(ranked(findings(own("a", 0.8), effect=replace(EFFECT, p=p))), "a") for p in (0.03, 1e-9))
    assert unsure.confidence <= sure.confidence


def test_a_change_that_stepped_is_held_responsible_and_makes_its_entity_likelier() -> None:
    with_it, without = (only(ranked(findings(own("a", 0.4), own("b", 0.4), judged=found)), "a") for found in ([judged("a", "responsible", 60)], []))
    assert with_it.change == "deploy-a"
    assert without.change is None
    assert with_it.confidence > without.confidence


@pytest.mark.parametrize(("verdict", "words"), [("too-late", "after the onset"), ("innocent", "did not step"), ("earlier", "but later")])
def test_a_change_that_is_not_it_is_told_and_holds_nobody_responsible(verdict: str, words: str) -> None:
    candidate = only(ranked(findings(own("a", 0.8), judged=[judged("a", verdict, -300)])), "a")
    [against] = [e for e in candidate.evidence if not e.supports]
    assert words in sentence(against)
    assert candidate.change is None
    assert candidate.confidence == only(ranked(findings(own("a", 0.8))), "a").confidence


def test_what_was_not_changed_is_the_control() -> None:
    control = Control("other instances or versions", 0.05, 0.06)
    candidate = only(ranked(findings(own("a", 0.8), judged=[judged("a", "responsible", 60, control=control)])), "a")
    [evidence] = told(candidate, "control")
    assert evidence.supports
    assert "50 ms before and 60 ms after" in sentence(evidence)


def test_no_order_is_claimed_where_intervals_overlap() -> None:
    late, little_later = (Onset(NOW + s * SECOND, NOW + (s - 25) * SECOND, NOW + (s + 30) * SECOND, 3.0) for s in (600, 40))
    for other, words in ((late, ["before all other parts", "after the symptom"]), (little_later, [])):
        moved = [Moved("service", "a", BEGAN), Moved("service", "b", other)]
        found = [sentence(e) for c in ranked(findings(own("a", 0.4), own("b", 0.4), order=moved)) for e in told(c, "onset")]
        assert len(found) == len(words)
        assert all(any(word in one for one in found) for word in words)


def test_more_traffic_is_a_candidate() -> None:
    little, much = (ranked(findings(own("a", 0.2), load=Load(ratio, 0.9))) for ratio in (1.3, 6.5))
    load = next(c for c in much if c.kind == "load")
    assert (load.name, load.mechanism) == ("front", "traffic")
    assert load.confidence > next((c.confidence for c in little if c.kind == "load"), 0.0)
    assert "6.5 times what it was" in sentence(told(load, "load")[0])


def test_what_comes_from_outside_is_not_brought_by_a_deploy_of_whom_it_asks() -> None:
    found = ranked(findings(own("front", 0.8), load=Load(3.0, 0.5), judged=[judged("front", "responsible", 30)]))
    assert {c.kind: c.change for c in found if c.name == "front"} == {"service": "deploy-front", "load": None}


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


def test_an_instance_and_a_host_that_mark_the_same_requests_are_both_named() -> None:
    found = {o.entity: o for o in observe(findings(own("back", 0.8), standouts=[standout(("back", "host.name", "islet-4"))])) if o.kind == "same-requests"}
    assert set(found) == {("instance", "back-2"), ("host", "islet-4")}
    evidence = Evidence("same-requests", False, 0.0, found["instance", "back-2"].facts)
    assert "cannot tell back-2 from it" in sentence(evidence)


def test_a_value_that_stands_out_is_a_candidate_by_its_key() -> None:
    given = findings(own("back", 0.2), standouts=[standout(key="app.version", value="7.3", service="front")])
    [found] = [o for o in observe(given) if o.feature == "stands out"]
    assert (found.entity, found.attributes, found.service) == (("attribute", "app.version"), {"app.version": "7.3"}, "front")


def test_an_improvement_has_nobody_who_became_slower() -> None:
    better = replace(EFFECT, reference=1.0, focus=0.2, delta=-0.8, low=-0.9, high=-0.7)
    found = ranked(findings(own("a", -0.7), own("b", 0.1), effect=better))
    assert (found[0].name, found[0].mechanism) == ("a", "unknown")
    words = " ".join(sentence(e) for c in found for e in c.evidence)
    assert "−700 ms a request" in words
    assert "slower" not in words


def test_the_net_is_told_first_with_both_of_its_halves() -> None:
    """17 calls instead of one, each 2.6 times faster: no share is above 100 %."""
    part = Part(DEPENDENCY, "planner", "SELECT place", "berth", "database")
    change = replace(contribution(part, 0.07, -0.049, calls=17.0), reference=0.006, focus=0.0392)
    effect = replace(EFFECT, delta=0.023, low=0.02, high=0.026)
    found = ranked(findings((Share(Doer("service", "planner", "more-calls"), 0.021, [part]), change), effect=effect))
    words = sentence(told(found[0], "where-time-went")[0])
    assert (
        words == "+21 ms a request, 91.3 % of the change: planner calls berth (SELECT place) 1 → 17 times a request, 17 times the calls, each 2.6 times faster."
    )


def test_the_main_sentence_leads_to_an_example_beside_a_normal_request() -> None:
    about = told(only(ranked(findings(own("a", 0.8))), "a"), "where-time-went")[0].about
    assert (about["trace"], about["span"], about["against"]) == ("ab", "cd", "ef:01")


def test_at_most_ten_candidates_surest_first() -> None:
    found = ranked(findings(own("most", 0.3), *[own(f"s{n:02}", 0.04) for n in range(16)]))
    assert 0 < len(found) <= 10
    assert [c.confidence for c in found] == sorted((c.confidence for c in found), reverse=True)


def test_every_kind_of_evidence_has_its_sentence() -> None:
    """Kinds that sources name are in the files of the sources."""
    folder = Path(evidence.__file__).parent
    named = {word for file in folder.glob("*.py") for word in re.findall(r'"([a-z]+(?:-[a-z]+)+)"', file.read_text())} & set(KINDS)
    assert named >= {"where-time-went", "where-errors-began", "stands-out", "log-pattern", "serves-less", "change-near"}
    for source in evidence.SOURCES:
        assert all(feature in evidence.FEATURES for feature in source.features)


CALLS = {
    "part": Part("dependency", "planner", "SELECT", "pg", "database"),
    "calls": (3.0, 51.0),
    "amount": (0.003, 0.051),
    "unit": "s",
    "adds": 0.05,
    "share": 0.9,
}
OWN_WORK = {**CALLS, "part": Part("own", "planner", "GET /x"), "calls": (1.0, 1.0), "amount": (0.02, 0.05)}
OFF = {"name": "pg", "unit": "s", "before": 0.01, "after": 0.03, "off": 9.0, "serves": True, "calls": False, "seems": False}


@pytest.mark.parametrize(
    ("name", "mechanism", "kind", "facts", "told"),
    [
        ("planner", "more-calls", "where-time-went", CALLS | {"mechanism": "more-calls"}, "planner calls pg 17 times as often"),
        ("planner", "more-calls", "where-time-went", CALLS | {"mechanism": "more-calls", "calls": (0.0, 2.0)}, "planner calls pg, which it did not before"),
        ("planner", "slower-work", "where-time-went", OWN_WORK | {"mechanism": "slower-work"}, "planner takes 2.5 times as long for its own work"),
        ("pg", "external", "where-time-went", CALLS | {"mechanism": "slower-work", "amount": (0.003, 0.102)}, "pg takes 2 times as long to answer"),
        # What is said of another, or of another mechanism, is no figure of this candidate.
        ("planner", "slower-work", "where-time-went", CALLS | {"mechanism": "more-calls"}, "planner is slower itself"),
        ("pg", "more-calls", "where-time-went", CALLS | {"mechanism": "more-calls"}, "pg makes more calls"),
        ("load", "traffic", "load", {"ratio": 2.1, "explains": None}, "load is asked 2.1 times as often"),
        ("feed", "absence", "serves-less", {"name": "feed", "before": 40.0, "after": 2.0}, "feed serves 2 requests/s instead of 40"),
        (
            "planner",
            "errors",
            "where-errors-began",
            {**OWN_WORK, "unit": "share", "amount": (0.001, 0.12)},
            "planner makes 12 % of requests fail instead of 0.1 %",
        ),
        # Where nothing says how, what it did is told.
        ("pg", "unknown", "off-by-itself", OFF, "pg takes 30 ms a request instead of 10 ms"),
        ("pg", "unknown", "off-by-itself", OFF | {"unit": "share"}, "pg fails at 3 % of what it is asked instead of 1 %"),
        ("pg", "unknown", "off-by-itself", OFF | {"serves": False}, "pg last took 30 ms a request instead of 10 ms"),
        ("pg", "slower-work", "off-by-itself", OFF, "pg is slower itself"),
    ],
)
def test_a_title_is_the_cause_with_its_number(name: str, mechanism: str, kind: str, facts: dict[str, Any], told: str) -> None:
    candidate = Candidate("service", name, mechanism, 0.9, evidence=[Evidence(kind, True, 1.0, facts)])
    assert title(candidate, []) == told
    against = Candidate("service", name, mechanism, 0.9, evidence=[Evidence(kind, False, -1.0, facts)])
    assert title(against, []) == title(Candidate("service", name, mechanism, 0.9), [])


def test_a_load_that_fell_is_no_doing_of_who_is_asked() -> None:
    load, service = (Candidate(kind, "planner", "absence", 0.9) for kind in ("load", "service"))
    assert [title(one, []) for one in (load, service)] == ["planner is asked less", "planner does less"]
    assert next_step(load).startswith("See who asks less")
    assert next_step(service) != next_step(load)


def test_a_version_stands_with_the_service_that_it_is_of_not_with_the_database_that_it_calls() -> None:
    deployed = [judged("stock", "responsible", 0)]
    named = [
        title(Candidate(kind, name, "slower-work", 0.9, service=service, change="deploy-stock"), deployed)
        for kind, name, service in (("service", "stock", "stock"), ("instance", "stock-1", "stock"), ("database", "stock at pg", None))
    ]
    assert named == ["stock 2.0 is slower itself", "stock-1 2.0 is slower itself", "stock at pg is slower itself"]
    assert title(Candidate("attribute", "app.version", "more-calls", 0.5, attributes={"app.version": "7.3"}), []) == "app.version 7.3 makes more calls"
    assert next_step(Candidate("service", "a", "lock", 0.5)) != next_step(Candidate("service", "a", "unknown", 0.5))
