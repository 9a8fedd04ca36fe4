"""An answer as JSON: the contract's form, and with what the screen shows beside it."""

from __future__ import annotations

from typing import Any
from urllib.parse import urlencode

from wirbel.core.diagnosis.attribution import Contribution
from wirbel.core.diagnosis.cascade import cascade
from wirbel.core.diagnosis.changes import Judged
from wirbel.core.diagnosis.model import Answer, Candidate, Evidence
from wirbel.core.diagnosis.onset import Onset
from wirbel.core.diagnosis.sentences import sentence
from wirbel.core.text import rfc3339
from wirbel.explore.schemas import change_out


def _onset(onset: Onset | None) -> dict[str, str] | None:
    return None if onset is None else {"at": rfc3339(onset.at), "low": rfc3339(onset.low), "high": rfc3339(onset.high)}


def _evidence(evidence: Evidence) -> dict[str, Any]:
    about = evidence.about
    if "trace" in about:
        link = f"/traces/{about['trace']}?" + urlencode([(name, about[name]) for name in ("span", "against") if name in about])
    elif "change" in about:
        link = "/changes?" + urlencode({"change": about["change"]})
    elif about.get("service"):
        link = f"/services/{about['service']}"
    else:
        link = ""
    return {"kind": evidence.kind, "for": evidence.supports, "text": sentence(evidence), "weight": round(evidence.weight, 2), "link": link}


def _candidate(rank: int, candidate: Candidate) -> dict[str, Any]:
    return {
        "rank": rank,
        "entity": {"kind": candidate.kind, "service": candidate.service, "name": candidate.name, "attributes": candidate.attributes},
        "mechanism": candidate.mechanism,
        "confidence": round(float(candidate.confidence), 3),
        "explains": round(float(candidate.explains), 4),
        "onset": rfc3339(candidate.onset.at) if candidate.onset else None,
        "change": candidate.change,
        "evidence": [_evidence(e) for e in candidate.evidence],
    }


def contract(answer: Answer, took_ms: int) -> dict[str, Any]:
    question, effect = answer.question, answer.effect
    return {
        "symptom": {"service": question.service, "operation": question.operation, "signal": question.signal},
        "focus": {"from": rfc3339(question.focus.start), "to": rfc3339(question.focus.end)},
        "reference": {"from": rfc3339(question.reference.start), "to": rfc3339(question.reference.end), "chosen": question.chosen},
        "effect": {"reference": effect.reference, "focus": effect.focus, "delta": effect.delta, "unit": effect.unit, "low": effect.low, "high": effect.high},
        "onset": _onset(answer.onset),
        "candidates": [_candidate(rank, candidate) for rank, candidate in enumerate(answer.candidates, 1)],
        "unexplained": round(float(answer.unexplained), 4),
        "took_ms": took_ms,
    }


def _judged(judged: Judged) -> dict[str, Any]:
    return {
        "change": change_out(judged.change).model_dump(),
        "entity": judged.entity and {"kind": judged.entity[0], "name": judged.entity[1]},
        "lead_s": judged.lead_s,
        "before": judged.before,
        "after": judged.after,
        "share": judged.share,
        "p": judged.p,
        "control": judged.control and vars(judged.control),
        "verdict": judged.verdict,
    }


def _example(ids: tuple[str, str] | None) -> dict[str, str] | None:
    return ids and {"trace": ids[0], "span": ids[1]}


def _contribution(c: Contribution) -> dict[str, Any]:
    return {
        "kind": c.part.kind,
        "service": c.part.service,
        "operation": c.part.operation,
        "peer": c.part.peer,
        "peer_kind": c.part.peer_kind,
        "calls_reference": c.calls_reference,
        "calls_focus": c.calls_focus,
        "reference": c.reference,
        "focus": c.focus,
        "delta": c.delta,
        "more_calls": c.more_calls,
        "slower_calls": c.slower_calls,
        "low": c.low,
        "high": c.high,
        "example": _example(c.example),
        "beside": _example(c.beside),
    }


def everything(answer: Answer, took_ms: int) -> dict[str, Any]:
    effect = answer.effect
    return contract(answer, took_ms) | {
        "statistic": effect.statistic,
        "requests": {"reference": effect.requests_reference, "focus": effect.requests_focus},
        "percentiles": [{"name": name, "reference": before, "focus": after} for name, (before, after) in answer.percentiles.items()],
        "contributions": [_contribution(c) for c in answer.contributions],
        "cascade": [vars(step) for step in cascade(effect, answer.contributions, answer.question.signal == "latency")],
        "standouts": [
            {
                "service": s.service,
                "key": s.key,
                "value": s.value,
                "share_bad": s.share_bad,
                "share_normal": s.share_normal,
                "requests": s.requests,
                "excess_with": s.excess_with,
                "excess_others": s.excess_others,
                "others": s.others,
                "explains": s.explains,
                "p": s.p,
                "example": _example(s.example),
                "beside": _example(s.beside),
                "same_as": [{"service": a, "key": b, "value": c} for a, b, c in s.same_as],
            }
            for s in answer.standouts
        ],
        "changes": [_judged(j) for j in answer.changes],
        "moved": [
            {
                "kind": m.kind,
                "name": m.name,
                "symptom": m.is_symptom,
                "at": rfc3339(m.onset.at),
                "low": rfc3339(m.onset.low),
                "high": rfc3339(m.onset.high),
            }
            for m in answer.moved
        ],
        "examples": {name: _example(ids) for name, ids in answer.examples.items()},
        "notes": answer.notes,
    }
