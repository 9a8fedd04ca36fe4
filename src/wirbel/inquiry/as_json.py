"""An answer as JSON: the contract's form, and with what the screen shows beside it."""

from __future__ import annotations

from typing import Any
from urllib.parse import urlencode

from wirbel.core.diagnosis.attribution import Contribution
from wirbel.core.diagnosis.changes import Judged
from wirbel.core.diagnosis.model import Answer, Evidence, Suspect
from wirbel.core.diagnosis.onset import Onset
from wirbel.core.signals.changes import Change
from wirbel.core.text import rfc3339


def _onset(onset: Onset | None) -> dict[str, str] | None:
    return onset and {"at": rfc3339(onset.at), "low": rfc3339(onset.low), "high": rfc3339(onset.high)}


def _evidence(evidence: Evidence) -> dict[str, Any]:
    about = evidence.about
    if "trace" in about:
        link = f"/traces/{about['trace']}?" + urlencode({name: about[name] for name in ("span", "against") if name in about})
    elif "change" in about:
        link = "/changes?" + urlencode({"change": about["change"]})
    elif about.get("service"):
        link = f"/services/{about['service']}"
    else:
        link = ""
    return {"kind": evidence.kind, "for": evidence.supports, "text": evidence.text, "weight": round(evidence.weight, 2), "link": link}


def _suspect(rank: int, suspect: Suspect) -> dict[str, Any]:
    return {
        "rank": rank,
        "entity": {"kind": suspect.kind, "service": suspect.service, "name": suspect.name, "attributes": suspect.attributes},
        "mechanism": suspect.mechanism,
        "confidence": round(float(suspect.confidence), 3),
        "explains": round(float(suspect.explains), 4),
        "onset": rfc3339(suspect.onset.at) if suspect.onset else None,
        "change": suspect.change,
        "evidence": [_evidence(e) for e in suspect.evidence],
    }


def contract(answer: Answer, took_ms: int) -> dict[str, Any]:
    question, effect = answer.question, answer.effect
    return {
        "symptom": {"service": question.service, "operation": question.operation, "signal": question.signal},
        "focus": {"from": rfc3339(question.focus.start), "to": rfc3339(question.focus.end)},
        "reference": {"from": rfc3339(question.reference.start), "to": rfc3339(question.reference.end), "chosen": question.chosen},
        "effect": {"reference": effect.reference, "focus": effect.focus, "delta": effect.delta, "unit": effect.unit, "low": effect.low, "high": effect.high},
        "onset": _onset(answer.onset),
        "suspects": [_suspect(rank, suspect) for rank, suspect in enumerate(answer.suspects, 1)],
        "unexplained": round(float(answer.unexplained), 4),
        "took_ms": took_ms,
    }


def change(given: Change) -> dict[str, Any]:
    return {
        "id": given.id,
        "kind": given.kind,
        "at": rfc3339(given.at),
        "until": rfc3339(given.until) if given.until else None,
        "service": given.service,
        "version": given.version,
        "environment": given.environment,
        "actor": given.actor,
        "summary": given.summary,
        "before": given.before,
        "after": given.after,
        "link": given.link,
    }


def _judged(judged: Judged) -> dict[str, Any]:
    return {
        "change": change(judged.change),
        "on_path": judged.on_path,
        "lead_s": judged.lead_s,
        "before": judged.before,
        "after": judged.after,
        "share": judged.share,
        "p": judged.p,
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


CASCADE_STEPS = 7  # parts drawn one by one; the rest are one step


def _counts(c: Contribution) -> str:
    """How often, where the number tells something: a shift of a few per cent does not."""
    return f" {c.calls_reference:.3g} → {c.calls_focus:.3g}" if c.calls_focus > 1.2 * c.calls_reference else ""


def _cascade(answer: Answer) -> list[dict[str, Any]]:
    """Steps from the reference to the focus, more calls and slower calls apart; they add up exactly."""
    unit = answer.effect
    moves = []
    for c in answer.contributions:
        name = (
            c.part.peer if c.part.kind == "dependency" else f"{c.part.service} → {c.part.peer}" if c.part.kind == "transfer" else f"{c.part.service} own work"
        )
        if answer.question.signal == "latency":
            moves.append((f"{name} more calls{_counts(c)}" if c.more_calls > 0 else f"{name} fewer calls", c.more_calls))
            moves.append((f"{name} {'slower' if c.slower_calls > 0 else 'faster'}{'' if c.part.kind == 'own' else ' calls'}", c.slower_calls))
        else:
            moves.append((f"{name}, {c.part.operation}", c.delta))
    moves.sort(key=lambda move: -abs(move[1]))
    drawn = moves[:CASCADE_STEPS]
    steps, at = [], unit.reference
    for index, (label, amount) in enumerate(drawn):
        steps.append({"label": label, "amount": amount, "start": at, "end": at + amount, "main": index == 0})
        at += amount
    steps.append(
        {
            "label": f"{len(moves) - len(drawn)} smaller parts" if len(moves) > len(drawn) else "rounding",
            "amount": unit.focus - at,
            "start": at,
            "end": unit.focus,
            "main": False,
        }
    )
    return steps


def everything(answer: Answer, took_ms: int) -> dict[str, Any]:
    effect = answer.effect
    return contract(answer, took_ms) | {
        "statistic": effect.statistic,
        "requests": {"reference": effect.requests_reference, "focus": effect.requests_focus},
        "percentiles": [{"name": name, "reference": before, "focus": after} for name, (before, after) in answer.percentiles.items()],
        "contributions": [_contribution(c) for c in answer.contributions],
        "cascade": _cascade(answer),
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
                "name": m.name,
                "service": m.service,
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
