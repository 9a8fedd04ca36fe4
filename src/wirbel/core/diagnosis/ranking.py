"""Suspects from the evidence: whose own part of the requests grew, and what speaks for and against each.

A service that only waits for another has no part of its own in the change, so victims drop
out before any weighing; see weights.py for what the rest is worth.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from wirbel.core import text
from wirbel.core.diagnosis import weights
from wirbel.core.diagnosis.attribution import Contribution, Effect
from wirbel.core.diagnosis.changes import Judged
from wirbel.core.diagnosis.contrast import Standout
from wirbel.core.diagnosis.model import Evidence, Moved, Suspect
from wirbel.core.diagnosis.onset import Onset
from wirbel.core.diagnosis.requests import OWN, TRANSFER

LEAST_EXPLAINED = 0.03  # parts below it are noise
MOST_SUSPECTS = 10
OUTSIDE = "from outside"  # who asks where no instrumented caller is seen
_PEER_ENTITY = {"database": "database", "cache": "database", "broker": "database", "external": "external", "service": "service"}


@dataclass(frozen=True)
class Findings:
    effect: Effect
    signal: str
    onset: Onset | None
    contributions: list[Contribution]
    standouts: list[Standout]
    changes: list[Judged]
    moved: list[Moved]
    load_ratio: float  # requests a second, focus over reference
    load_explains: float  # share of the change that more traffic alone predicts


def rank(found: Findings) -> tuple[list[Suspect], float]:
    """Suspects, surest first, and the share of the change that none of them explains."""
    delta = found.effect.delta
    if not delta or (found.effect.low <= 0 <= found.effect.high):
        return [], 1.0
    from_parts = _from_parts(found, delta)
    # The parts add up to the change; the other suspects look at the same change another way.
    covered = sum(suspect.explains for suspect in from_parts)
    suspects = from_parts + _localised(found) + _load(found)
    _blame_changes(found, suspects)
    _order_in_time(found, suspects)
    for suspect in suspects:
        suspect.confidence = _confidence(suspect.evidence)
    suspects.sort(key=lambda s: (-s.confidence, -s.explains, s.name))
    return suspects[:MOST_SUSPECTS], max(0.0, min(1.0, 1.0 - covered)) if suspects else 1.0


def _weigh_share(share: float) -> float:
    return weights.EXPLAINS * max(min(share, 1.0), 0.0)


def _from_parts(found: Findings, delta: float) -> list[Suspect]:
    """A caller answers for asking more often, whoever is asked answers for being slower."""
    blame: dict[tuple[str, str], list[tuple[float, str, Contribution]]] = {}

    def add(kind: str, name: str, amount: float, mechanism: str, part: Contribution) -> None:
        blame.setdefault((kind, name), []).append((amount, mechanism, part))

    for c in found.contributions:
        part = c.part
        if found.signal == "errors":
            called = part.kind != OWN and part.peer is not None
            kind = _PEER_ENTITY.get(part.peer_kind or "external", "external") if called else "service"
            add(kind, part.peer if called and part.peer else part.service, c.delta, "errors", c)
        elif part.kind == OWN:
            add("service", part.service, c.slower_calls, "slower-work", c)
            add("service", part.service, c.more_calls, "more-calls", c)
        elif part.kind == TRANSFER:
            add("service", part.service, c.more_calls, "more-calls", c)
            add("service", part.peer or part.service, c.slower_calls, "waiting", c)
        else:
            add("service", part.service, c.more_calls, "more-calls", c)
            add(_PEER_ENTITY.get(part.peer_kind or "external", "external"), part.peer or part.operation, c.slower_calls, "slower-work", c)

    suspects = []
    for (kind, name), amounts in blame.items():
        total = sum(amount for amount, _, _ in amounts)
        if total / delta < LEAST_EXPLAINED:
            continue
        by_mechanism: dict[str, float] = {}
        for amount, mechanism, _ in amounts:
            by_mechanism[mechanism] = by_mechanism.get(mechanism, 0.0) + amount / delta
        mechanism = max(by_mechanism, key=lambda m: by_mechanism[m])
        suspect = Suspect(
            kind,
            name,
            "external" if kind == "external" and mechanism == "slower-work" else mechanism,
            min(total / delta, 1.0),
            service=name if kind == "service" else None,
        )
        suspect.evidence.append(_main_sentence(found, suspect, amounts, delta))
        suspects.append(suspect)
    return suspects


def _main_sentence(found: Findings, suspect: Suspect, amounts: list[tuple[float, str, Contribution]], delta: float) -> Evidence:
    largest, mechanism, c = max(amounts, key=lambda item: item[0] / delta)
    of_all = f"{text.share(largest / delta)} of the change"
    about = {"service": c.part.service, "operation": c.part.operation}
    if c.example:
        about |= {"trace": c.example[0], "span": c.example[1]}
        about |= {"against": ":".join(c.beside)} if c.beside else {}
    subject = f"{c.part.peer} ({c.part.operation})" if c.part.peer else f"{c.part.service} {c.part.operation}"
    unit = found.effect.unit
    if mechanism == "more-calls":
        words = f"{c.part.service} calls {subject} {text.number(c.calls_reference)} → {text.number(c.calls_focus)} times a request: {text.quantity(largest, unit)} more, {of_all}."
        if c.part.kind == OWN:
            words = f"{subject} is called {text.number(c.calls_reference)} → {text.number(c.calls_focus)} times a request: {text.quantity(largest, unit)} more, {of_all}."
    elif mechanism == "errors":
        words = f"Failures that began in {subject} went from {text.quantity(c.reference, unit)} to {text.quantity(c.focus, unit)} of requests: {of_all}."
    else:
        each = (c.reference / c.calls_reference if c.calls_reference else 0.0, c.focus / c.calls_focus if c.calls_focus else 0.0)
        what = {"waiting": f"Time on the way from {c.part.service} to {c.part.peer}", "slower-work": f"{subject}: each call's own time"}[mechanism]
        words = f"{what} went from {text.quantity(each[0], unit)} to {text.quantity(each[1], unit)}: {text.quantity(largest, unit)} more a request, {of_all}."
    return Evidence("where-time-went", True, words, _weigh_share(suspect.explains), about)


def _localised(found: Findings) -> list[Suspect]:
    """One instance, host or other value that is bad while its siblings in the same window are not."""
    kinds = {"service.instance.id": "instance", "host.name": "host", "cloud.availability_zone": "zone"}
    suspects: list[Suspect] = []
    for s in found.standouts:
        values = [(s.service, s.key, s.value), *s.same_as]
        keyed = next((v for v in values if v[1] in kinds), None)
        apart = s.excess_with > 0 and s.excess_others < 0.35 * s.excess_with
        if s.others != "focus" or s.explains < 0.3 or keyed is None or not apart:
            continue
        service, key, value = keyed
        if any(x.name == value for x in suspects):
            continue
        words = f"Requests that touch {value} are {text.quantity(s.excess_with, found.effect.unit)} over what is usual for them, those at its siblings {text.quantity(s.excess_others, found.effect.unit)}."
        suspects.append(
            Suspect(
                kinds[key],
                value,
                "unknown",
                s.explains,
                service=service,
                attributes={k: v for _, k, v in values},
                evidence=[
                    Evidence("stands-out", True, words, _weigh_share(s.explains) * 0.7 + weights.LOCALISED, {"service": service, "key": key, "value": value}),
                ],
            )
        )
    return suspects


def _load(found: Findings) -> list[Suspect]:
    if found.load_explains < 0.15 or found.load_ratio < 1.15:
        return []
    words = f"Traffic rose {text.number(found.load_ratio)}×; at the slope seen in the reference that explains {text.share(found.load_explains)} of the change."
    return [Suspect("load", "more traffic", "traffic", found.load_explains, evidence=[Evidence("load", True, words, _weigh_share(found.load_explains))])]


def _blame_changes(found: Findings, suspects: list[Suspect]) -> None:
    for suspect in suspects:
        own = [j for j in found.changes if j.change.service == suspect.service and suspect.service]
        responsible = sorted((j for j in own if j.verdict == "responsible"), key=lambda j: abs(j.lead_s))
        if responsible:
            judged = responsible[0]
            change = judged.change
            suspect.change = change.id
            what = f"{change.kind} of {change.service}{' ' + change.version if change.version else ''} at {text.clock(change.at)}"
            lead = _when(judged.lead_s)
            unit = found.effect.unit
            words = f"The {what} came {lead}: its own part of a request went from {text.quantity(judged.before or 0, unit)} to {text.quantity(judged.after or 0, unit)}."
            suspect.evidence.append(Evidence("change", True, words, weights.CHANGE_BEFORE_ONSET, {"change": change.id}))
            if judged.old_version_after is not None and judged.before is not None and judged.after is not None:
                stayed = abs(judged.old_version_after - judged.before) < 0.5 * abs(judged.after - judged.before)
                words = f"Requests served by other versions of {change.service} after it: {text.quantity(judged.old_version_after, unit)}."
                suspect.evidence.append(
                    Evidence("control", stayed, words, weights.CONTROL_STAYED if stayed else weights.CONTROL_MOVED, {"service": change.service or ""})
                )
            _version_stands_out(found, suspect, change.version)
        for judged in own:
            if judged.verdict in ("too-late", "innocent"):
                late = judged.verdict == "too-late"
                words = f"The {judged.change.kind} at {text.clock(judged.change.at)} is not it: " + (
                    f"it came {_when(judged.lead_s)}." if late else "the service's own part did not change with it."
                )
                suspect.evidence.append(Evidence("change", False, words, 0.0, {"change": judged.change.id}))
        if suspect.kind != "load" and found.load_explains >= LEAST_EXPLAINED:
            words = f"Traffic went {text.number(found.load_ratio)}×; more of it alone explains {text.share(found.load_explains)} of the change."
            suspect.evidence.append(Evidence("load", False, words, weights.LOAD_EXPLAINS * found.load_explains))


def _when(lead_s: float) -> str:
    if lead_s == 0:
        return "at the onset, within its interval"
    return f"{text.span_of_time(lead_s)} {'before' if lead_s > 0 else 'after'} the onset"


def _version_stands_out(found: Findings, suspect: Suspect, version: str | None) -> None:
    for s in found.standouts:
        for service, key, value in [(s.service, s.key, s.value), *s.same_as]:
            if version and (service, key, value) == (suspect.service, "service.version", version):
                words = f"{text.share(s.share_bad)} of the slow or failed requests that touch {service} touch version {value}, {text.share(s.share_normal)} of the normal ones."
                suspect.evidence.append(Evidence("stands-out", True, words, weights.VERSION_STANDS_OUT, {"service": service, "key": key, "value": value}))
                return


def _order_in_time(found: Findings, suspects: list[Suspect]) -> None:
    onsets = {m.service: m.onset for m in found.moved if not m.is_symptom}
    for suspect in suspects:
        onset = onsets.get(suspect.service or suspect.name)
        if onset is None:
            continue
        suspect.onset = onset
        others = [o for name, o in onsets.items() if name != (suspect.service or suspect.name)]
        where = f"Its own part moved at {text.clock(onset.at)} ({text.clock(onset.low)} to {text.clock(onset.high)})"
        if found.onset is not None and onset.low > found.onset.high:
            suspect.evidence.append(Evidence("onset", False, f"{where}, after the symptom.", weights.MOVED_AFTER_SYMPTOM))
        elif all(onset.at <= o.at for o in others):
            suspect.evidence.append(Evidence("onset", True, f"{where}: no other part moved earlier.", weights.FIRST_TO_MOVE))


def rank_traffic(change: Effect, parts: list[Contribution]) -> tuple[list[Suspect], float]:
    """Who asks more, or less, than before; one suspect for each asker and operation with a share of the change."""
    if change.low <= 0 <= change.high:
        return [], 1.0
    suspects = []
    for c in parts[:MOST_SUSPECTS]:
        explains = c.delta / change.delta
        if explains < LEAST_EXPLAINED:
            continue
        outside = c.part.service == OUTSIDE
        who = OUTSIDE if outside else f"asked by {c.part.service}"
        words = f"{c.part.operation} {who}: {text.number(c.reference)} → {text.number(c.focus)} a second, {text.share(explains)} of the change."
        evidence = Evidence("traffic", True, words, _weigh_share(explains))
        suspects.append(
            Suspect(
                "load" if outside else "service",
                c.part.service,
                "traffic" if change.delta > 0 else "absence",
                min(explains, 1.0),
                service=None if outside else c.part.service,
                evidence=[evidence],
                confidence=_confidence([evidence]),
            )
        )
    return suspects, max(0.0, 1.0 - sum(s.explains for s in suspects)) if suspects else 1.0


def _confidence(evidence: list[Evidence]) -> float:
    return 1 / (1 + math.exp(-weights.PRIOR - sum(e.weight for e in evidence)))
