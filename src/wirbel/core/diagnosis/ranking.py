"""Candidates from the evidence: who adds to the change, and what speaks for and against each.

A service that only waits for another has no part of its own in the change, so victims drop
out before any weighing; see weights.py for what the rest is worth.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from wirbel.core.diagnosis import weights
from wirbel.core.diagnosis.attribution import Contribution, Effect
from wirbel.core.diagnosis.changes import Judged
from wirbel.core.diagnosis.contrast import Standout
from wirbel.core.diagnosis.model import Candidate, Evidence, Load, Moved
from wirbel.core.diagnosis.onset import Onset
from wirbel.core.diagnosis.parts import Part
from wirbel.core.diagnosis.responsibility import Doer
from wirbel.core.signals.entities import place_of

LEAST_EXPLAINED = 0.03  # parts below it are noise
MOST_CANDIDATES = 10
OUTSIDE = "from outside"  # who calls where no instrumented caller is seen
MATTERS = 0.5  # of the change: from this share on, what speaks for a change of the candidate counts in full
WANDERS = 0.005  # p of the effect; above it the reference wanders nearly as far
LOAD_ROSE = 2.0  # times the traffic, to be a candidate although it is not known what it does
LOAD_TOLD = 1.5  # times the traffic, to be mentioned
_PLACES = {"service.instance.id": "instance", "host.name": "host", "cloud.availability_zone": "zone"}


@dataclass(frozen=True)
class Share:
    """What a doer adds to the change, in the symptom's unit, and the parts of requests that it is read from."""

    doer: Doer
    amount: float
    parts: Sequence[Part]


@dataclass(frozen=True, kw_only=True)
class Findings:
    effect: Effect
    signal: str
    service: str
    onset: Onset | None
    contributions: list[Contribution]
    shares: list[Share]
    standouts: list[Standout]
    changes: list[Judged]
    moved: list[Moved]
    load: Load

    @property
    def is_better(self) -> bool:
        """The focus is faster, or fails less."""
        return self.effect.delta < 0


def rank(found: Findings) -> tuple[list[Candidate], float]:
    """Candidates, surest first, and the share of the change that none of them explains."""
    if not found.effect.is_clear:
        return [], 1.0
    from_shares = _from_shares(found)
    # The shares add up to the change; the other candidates look at the same change another way.
    covered = sum(candidate.explains for candidate in from_shares)
    candidates = from_shares if found.is_better else from_shares + _localised(found) + _load(found)
    for candidate in candidates:
        _weigh_changes(found, candidate)
        _weigh_onset(found, candidate)
        _weigh_load(found, candidate)
        if found.effect.p > WANDERS:
            candidate.evidence.append(Evidence("drift", False, weights.DRIFT, {"p": found.effect.p}))
        candidate.confidence = _confidence(candidate.evidence)
    candidates.sort(key=lambda c: (-c.confidence, -c.explains, c.name))
    return candidates[:MOST_CANDIDATES], max(0.0, min(1.0, 1.0 - covered)) if candidates else 1.0


def _weigh_share(share: float) -> float:
    return weights.EXPLAINS * max(min(share, 1.0), 0.0)


def _from_shares(found: Findings) -> list[Candidate]:
    """One candidate for each entity that adds to the change, by all that it does."""
    by_entity: dict[tuple[str, str], list[Share]] = {}
    for share in found.shares:
        by_entity.setdefault(share.doer.entity, []).append(share)
    delta = found.effect.delta
    candidates = []
    for (kind, name), shares in by_entity.items():
        explains = sum(share.amount for share in shares) / delta
        if explains < LEAST_EXPLAINED:
            continue
        main = max(shares, key=lambda share: share.amount / delta)
        candidate = Candidate(
            kind,
            name,
            _mechanism(found, kind, main),
            min(explains, 1.0),
            service=name if kind == "service" else None,
            attributes={} if kind == "service" else place_of(name),
        )
        candidate.evidence.append(_main_evidence(found, candidate, main))
        candidates.append(candidate)
    return candidates


def _mechanism(found: Findings, kind: str, main: Share) -> str:
    if found.is_better:
        return "unknown"  # what made it better is told by its changes
    return "external" if kind == "external" and main.doer.mechanism == "slower-work" else main.doer.mechanism


def _main_evidence(found: Findings, candidate: Candidate, main: Share) -> Evidence:
    """The part of the requests in which most of it is seen."""
    mine = set(main.parts)
    inside = [c for c in found.contributions if c.part in mine]
    c = max(inside, key=lambda c: (c.more_calls if main.doer.mechanism == "more-calls" else c.delta) / found.effect.delta)
    about = {"service": c.part.service, "operation": c.part.operation}
    if c.example:
        about |= {"trace": c.example[0], "span": c.example[1]}
        about |= {"against": ":".join(c.beside)} if c.beside else {}
    facts = {
        "mechanism": main.doer.mechanism,
        "part": c.part,
        "calls": (c.calls_reference, c.calls_focus),
        "amount": (c.reference, c.focus),
        "adds": main.amount,
        "share": main.amount / found.effect.delta,
        "unit": found.effect.unit,
    }
    return Evidence("where-errors-began" if found.signal == "errors" else "where-time-went", True, _weigh_share(candidate.explains), facts, about)


def _localised(found: Findings) -> list[Candidate]:
    """One instance, host or zone that is bad while others in the same window are not."""
    candidates: dict[tuple[str, str], Candidate] = {}
    services: dict[tuple[str, str], set[str]] = {}
    for s in found.standouts:
        values = [(s.service, s.key, s.value), *s.same_as]
        for service, key, value in values:
            if key in _PLACES:
                services.setdefault((_PLACES[key], value), set()).add(service)
    for s in found.standouts:
        values = [(s.service, s.key, s.value), *s.same_as]
        apart = s.excess_with > 0 and s.excess_others < 0.35 * s.excess_with
        places = [(_PLACES[key], value, service) for service, key, value in values if key in _PLACES]
        if s.others != "focus" or s.explains < 0.3 or not apart:
            continue
        for kind, value, service in places:
            if (kind, value) in candidates:
                continue
            facts = {"value": value, "with": s.excess_with, "others": s.excess_others, "unit": found.effect.unit}
            about = {"service": service, "key": s.key, "value": value}
            candidate = Candidate(kind, value, "unknown", s.explains, service=service if kind == "instance" else None, attributes={k: v for _, k, v in values})
            candidate.evidence.append(Evidence("stands-out", True, _weigh_share(s.explains) * 0.7 + weights.LOCALISED, facts, about))
            if kind != "instance" and len(services[kind, value]) > 1:
                candidate.evidence.append(
                    Evidence("tenants", True, weights.SHARED_HOST, {"kind": kind, "value": value, "services": sorted(services[kind, value])})
                )
            others = sorted({(k, v) for k, v, _ in places} - {(kind, value)})
            if others:
                candidate.evidence.append(Evidence("same-requests", False, weights.SAME_REQUESTS, {"value": value, "others": others}))
            candidates[kind, value] = candidate
    return list(candidates.values())


def _load(found: Findings) -> list[Candidate]:
    ratio, explains = found.load.ratio, found.load.explains
    if explains is None and ratio >= LOAD_ROSE:
        weight = weights.LOAD_ROSE * math.log2(ratio)
    elif explains is not None and explains >= 0.15 and ratio >= 1.15:
        weight = _weigh_share(explains) + (weights.LOAD_SEEN * math.log2(ratio) if ratio >= LOAD_TOLD else 0.0)
    else:
        return []
    facts = {"ratio": ratio, "explains": explains}
    return [Candidate("load", found.service, "traffic", explains or 0.0, evidence=[Evidence("load", True, weight, facts)])]


def _weigh_load(found: Findings, candidate: Candidate) -> None:
    load = found.load
    if candidate.kind != "load" and ((load.explains or 0.0) >= LEAST_EXPLAINED or load.ratio >= LOAD_TOLD):
        weight = weights.LOAD_EXPLAINS * (load.explains or 0.0)
        candidate.evidence.append(Evidence("load", False, weight, {"ratio": load.ratio, "explains": load.explains}))


def _weigh_changes(found: Findings, candidate: Candidate) -> None:
    mine = [j for j in found.changes if _is_about(j, candidate)]
    responsible = sorted((j for j in mine if j.verdict == "responsible"), key=lambda j: (-j.share, abs(j.lead_s)))
    gradual = [j for j in mine if j.verdict == "gradual"]
    of_caller = sorted((j for j in mine if j.verdict == "calls"), key=lambda j: (-j.share, abs(j.lead_s)))
    # A change that really stepped may still have little to do with the symptom.
    matters = min(1.0, candidate.explains / MATTERS)
    if responsible:
        judged = responsible[0]
        candidate.change = judged.change.id
        candidate.evidence.append(_of_change(found, judged, True, matters * weights.CHANGE_RESPONSIBLE))
        if judged.control is not None:
            facts = {"control": judged.control, "unit": found.effect.unit}
            candidate.evidence.append(Evidence("control", True, matters * weights.CONTROL_STAYED, facts, {"change": judged.change.id}))
        _weigh_version(found, candidate, judged.change.version, matters)
    elif of_caller:
        candidate.change = of_caller[0].change.id
        candidate.evidence.append(_of_change(found, of_caller[0], True, matters * weights.CHANGE_OF_CALLER))
    elif len(gradual) == 1:
        candidate.change = gradual[0].change.id
        candidate.evidence.append(_of_change(found, gradual[0], True, matters * weights.CHANGE_GRADUAL))
    for judged in mine:
        if judged.verdict in ("too-late", "innocent", "earlier"):
            candidate.evidence.append(_of_change(found, judged, False, 0.0))


def _of_change(found: Findings, judged: Judged, supports: bool, weight: float) -> Evidence:
    return Evidence("change", supports, weight, {"judged": judged, "unit": found.effect.unit}, {"change": judged.change.id})


def _is_about(judged: Judged, candidate: Candidate) -> bool:
    if judged.entity == candidate.entity:
        return True
    if candidate.kind == "instance" and judged.entity == ("service", candidate.service):
        instance, version = judged.change.entity.get("service.instance.id"), judged.change.version
        running = candidate.attributes.get("service.version")
        return instance == candidate.name if instance else version is None or running is None or running == version
    return False


def _weigh_version(found: Findings, candidate: Candidate, version: str | None, matters: float) -> None:
    for s in found.standouts:
        for service, key, value in [(s.service, s.key, s.value), *s.same_as]:
            if version and (service, key, value) == (candidate.service, "service.version", version):
                facts = {"service": service, "version": value, "bad": s.share_bad, "normal": s.share_normal}
                candidate.evidence.append(
                    Evidence("version", True, matters * weights.VERSION_STANDS_OUT, facts, {"service": service, "key": key, "value": value})
                )
                return


def _weigh_onset(found: Findings, candidate: Candidate) -> None:
    """Order is claimed only where the intervals of two onsets do not overlap."""
    onsets = {m.entity: m.onset for m in found.moved if not m.is_symptom}
    entity = ("service", candidate.service) if candidate.kind == "instance" and candidate.service else candidate.entity
    onset = onsets.get(entity)
    if onset is None:
        return
    candidate.onset = onset
    others = [other for name, other in onsets.items() if name != entity]
    if found.onset is not None and onset.low > found.onset.high:
        candidate.evidence.append(Evidence("onset", False, weights.MOVED_AFTER_SYMPTOM, {"onset": onset, "order": "after"}))
    elif others and all(onset.high < other.low for other in others):
        candidate.evidence.append(Evidence("onset", True, weights.FIRST_TO_MOVE, {"onset": onset, "order": "first"}))


def rank_traffic(change: Effect, parts: list[Contribution], service: str) -> tuple[list[Candidate], float]:
    """Who calls more, or less, than before; one candidate for each caller and operation with a share of the change."""
    if not change.is_clear:
        return [], 1.0
    candidates: list[Candidate] = []
    for c in parts[:MOST_CANDIDATES]:
        explains = c.delta / change.delta
        if explains < LEAST_EXPLAINED:
            continue
        outside = c.part.service == OUTSIDE
        facts = {"operation": c.part.operation, "caller": None if outside else c.part.service, "rate": (c.reference, c.focus), "share": explains}
        evidence = Evidence("traffic", True, _weigh_share(explains), facts)
        candidates.append(
            Candidate(
                "load" if outside else "service",
                service if outside else c.part.service,
                "traffic" if change.delta > 0 else "absence",
                min(explains, 1.0),
                service=None if outside else c.part.service,
                evidence=[evidence],
                confidence=_confidence([evidence]),
            )
        )
    return candidates, max(0.0, 1.0 - sum(c.explains for c in candidates)) if candidates else 1.0


def _confidence(evidence: list[Evidence]) -> float:
    return 1 / (1 + math.exp(-weights.PRIOR - sum(e.log_odds for e in evidence)))
