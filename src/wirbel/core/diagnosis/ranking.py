"""Candidates from the evidence: weighed by one model, each with its mechanism, the change held responsible, and why."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from wirbel.core.diagnosis import change_choice
from wirbel.core.diagnosis.case import Case
from wirbel.core.diagnosis.evidence import FEATURES, SOURCES
from wirbel.core.diagnosis.evidence.observation import ALL_SIGNALS, Observation
from wirbel.core.diagnosis.model import Candidate, Evidence
from wirbel.core.diagnosis.weighing import CLEAR, WITH_TRACES, WITHOUT_TRACES, Seen, Weights, gather, load
from wirbel.core.signals.changes import Change
from wirbel.core.stats.conditional_logit import probabilities

MOST_CANDIDATES = 10
LEAST_CONFIDENCE = 0.02  # of a candidate that is shown
LEAST_WORTH = 0.05  # log-odds of an observation that is told
ALWAYS_TOLD = (
    "where-time-went",
    "where-errors-began",
    "traffic",
    "change",
    "control",
    "version",
    "onset",
    "stands-out",
    "instance-apart",
    "load",
    "metric",
    "held",
)
NOTHING = 0.1  # where none is surer than this, nothing stands out
MOST_DOUBT = 16.0  # -log10 p of the symptom that is told apart
OF_CHANGE = "share of the change"  # how the units of features begin that say how much of the symptom an entity accounts for


def observe(case: Case) -> list[Observation]:
    """All observations of all sources that know something of the signal.

    Where more fails or less is served, and what is served is slower too, whoever made it slow may be why: requests that wait for too long
    fail, and are not made again. So the same is asked about time, and what is found is weighed with the rest.
    """
    found = [observation for source in SOURCES if case.question.signal in source.signals for observation in source.observe(case)]
    slower = case.as_latency if _may_be_slowness(case) else None
    if slower is not None:
        beside = [source for source in SOURCES if "latency" in source.signals and source.signals != ALL_SIGNALS]
        found += [replace(o, facts={**o.facts, "of": "the added time"}) for source in beside for o in source.observe(slower)]
    return found


def _may_be_slowness(case: Case) -> bool:
    signal, delta = case.question.signal, case.effect.delta
    return (signal == "errors" and delta > 0) or (signal == "throughput" and delta < 0)


def of_case(case: Case) -> dict[str, float]:
    """What is to be known of a case as a whole: how clear it is that there is a symptom, −log10 p of there being none."""
    return {CLEAR: min(-float(np.log10(max(case.effect.p, 1e-300))), MOST_DOUBT)}


def what_is_known(case: Case) -> str:
    """By which calibration a case's confidences are told."""
    return WITHOUT_TRACES if case.records.by_metrics else WITH_TRACES


@dataclass(frozen=True)
class Ranking:
    """Candidates, surest first; the share of the change that none of them explains; and the confidence that it is none of all that are known."""

    candidates: list[Candidate]
    unexplained: float
    none: float


def rank(case: Case, weights: Weights | None = None) -> Ranking:
    """Candidates weighed by the model.

    Where the symptom may be none, or is too small to matter, nothing stands out: no candidates, and all of it unexplained.
    """
    if case.doubt:
        return Ranking([], 1.0, 1.0)
    weights = weights or load()
    seen = gather(observe(case), of_case(case))
    chances = weights.chances(seen, what_is_known(case))
    none = max(1.0 - float(chances.sum()), 0.0)
    order = np.argsort(-chances, kind="stable")[:MOST_CANDIDATES]
    candidates = [_candidate(case, seen[n], float(chances[n]), weights) for n in order]
    candidates = [candidate for candidate in candidates if candidate.confidence >= LEAST_CONFIDENCE]
    if all(candidate.confidence < NOTHING for candidate in candidates):
        return Ranking([], 1.0, none)
    return Ranking(candidates, _unexplained(case, candidates), none)


def _unexplained(case: Case, candidates: list[Candidate]) -> float:
    """The parts of those who are no candidates, where parts add up to the change; else what the best of them leaves."""
    most = max((candidate.explains for candidate in candidates), default=0.0)
    if case.question.signal == "throughput":
        return 1.0 - most
    named = {candidate.entity for candidate in candidates}
    together = sum(amount for entity, amount in case.sizes.items() if entity in named) / case.effect.delta
    return min(1.0, max(0.0, 1.0 - max(together, most)))


def _candidate(case: Case, seen: Seen, chance: float, weights: Weights) -> Candidate:
    shares = _shares(seen) + ([seen.part * share for share in _shares(seen.whole)] if seen.whole else [])
    candidate = Candidate(
        seen.entity[0],
        seen.entity[1],
        weights.mechanism(seen),
        min(max(shares, default=0.0), 1.0),
        service=seen.service,
        attributes=seen.attributes,
        onset=case.moved.get(seen.entity) if case.question.signal != "throughput" else None,
        evidence=_evidence(seen, weights),
        confidence=chance,
    )
    _hold_responsible(case, candidate, weights)
    return candidate


def _shares(seen: Seen) -> list[float]:
    """What it accounts for of the symptom itself, each way of looking at it."""
    return [o.value for o in seen.observations if FEATURES[o.feature].unit.startswith(OF_CHANGE) and FEATURES[o.feature].sign > 0 and "of" not in o.facts]


def _evidence(seen: Seen, weights: Weights) -> list[Evidence]:
    """What was observed, in the order of what it is worth; a sentence is told once, and worth what all that rests on it is."""
    found: dict[str, Evidence] = {}
    for name, counted in seen.strongest.items():
        observation, worth = counted.observation, weights.worth(counted)
        if observation.kind is None or (abs(worth) < LEAST_WORTH and observation.kind not in ALWAYS_TOLD):
            continue
        key = f"{observation.kind} {sorted(observation.about.items())} {observation.facts.get('metric')} {observation.facts.get('template')}"
        before = found[key].log_odds if key in found else 0.0
        found[key] = Evidence(observation.kind, FEATURES[name].sign > 0, before + worth, observation.facts, dict(observation.about))
    return sorted(found.values(), key=lambda evidence: -abs(evidence.log_odds))


def _hold_responsible(case: Case, candidate: Candidate, weights: Weights) -> None:
    """The change that is likelier than none to have done it; and what speaks against those that did not."""
    _choose_change(case, candidate, weights)
    for judged in change_choice.spoken_against(case, candidate.entity):
        if judged.change.id != candidate.change:
            candidate.evidence.append(Evidence("change", False, 0.0, {"judged": judged, "unit": case.effect.unit}, {"change": judged.change.id}))


def _may_bring(change: Change, candidate: Candidate) -> bool:
    """What comes from outside is not brought by a change of the service that it asks."""
    return candidate.kind != "load" or change.service is None


def _choose_change(case: Case, candidate: Candidate, weights: Weights) -> None:
    options = [(judged, row) for judged, row in change_choice.touching(case, candidate.entity, candidate.service) if _may_bring(judged.change, candidate)]
    if not options:
        return
    given = np.array([weights.changes.get(name, 0.0) for name in change_choice.COLUMNS])
    chances = probabilities(np.array([row @ given + weights.changes["any"] for _, row in options]))
    best = int(np.argmax(chances))
    if chances[best] > 1 - chances.sum():
        judged = options[best][0]
        candidate.change = judged.change.id
        if not any(evidence.about.get("change") == judged.change.id for evidence in candidate.evidence):
            facts = {"judged": judged, "unit": case.effect.unit}
            candidate.evidence.append(Evidence("change-near", True, 0.0, facts, {"change": judged.change.id}))
