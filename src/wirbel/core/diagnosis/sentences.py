"""The one place where a diagnosis becomes English: a sentence for each kind of evidence, from its facts."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from wirbel.core import text
from wirbel.core.diagnosis.changes import OTHER_CALLERS, Control, Judged
from wirbel.core.diagnosis.model import Evidence
from wirbel.core.diagnosis.parts import OWN, TRANSFER, Part

Facts = Mapping[str, Any]
_ALIKE = 1.05  # a ratio nearer to one than this is not told


def sentence(evidence: Evidence) -> str:
    """The sentence of a piece of evidence, with its numbers."""
    return _OF[evidence.kind](evidence.facts)


def _times(ratio: float) -> str:
    return f"{text.number(ratio)} times"


def _change_of(facts: Facts) -> str:
    """``+21 ms a request, 92 % of the change``."""
    sign = "+" if facts["adds"] > 0 else "−"
    return f"{sign}{text.quantity(abs(facts['adds']), facts['unit'])} a request, {text.share(facts['share'])} of the change"


def _subject(part: Part) -> str:
    return f"{part.peer} ({part.operation})" if part.peer else f"{part.service} {part.operation}"


def _where_time_went(facts: Facts) -> str:
    part: Part = facts["part"]
    (n0, n1), (t0, t1) = facts["calls"], facts["amount"]
    each = (t0 / n0 if n0 else 0.0, t1 / n1 if n1 else 0.0)
    return f"{_change_of(facts)}: {_how(facts['mechanism'], part, (n0, n1), each, facts['unit'])}."


def _how(mechanism: str, part: Part, calls: tuple[float, float], each: tuple[float, float], unit: str) -> str:
    count = f"{text.number(calls[0])} → {text.number(calls[1])}"
    took = f"{text.quantity(each[0], unit)} → {text.quantity(each[1], unit)}"
    if mechanism == "more-calls":
        who = f"{part.service} calls {_subject(part)}" if part.kind != OWN else f"{_subject(part)} runs"
        often = f"{_times(calls[1] / calls[0])} the calls" if calls[0] else "calls that were not made before"
        return f"{who} {count} times a request, {often}{_each(each)}"
    what = {"waiting": f"network and queue {part.service} → {part.peer}", "slower-work": f"self time of {_subject(part)}"}[mechanism]
    moved = calls[0] and calls[1] and not 1 / 1.2 < calls[1] / calls[0] < 1.2
    return f"{what} {took} a call" + (f", with {count} calls a request" if moved else "")


def _each(each: tuple[float, float]) -> str:
    """What each call takes beside that there are more of them: left out where it is as before."""
    if not each[0] or not each[1] or 1 / _ALIKE < each[1] / each[0] < _ALIKE:
        return ""
    faster = each[1] < each[0]
    return f", each {_times(each[0] / each[1] if faster else each[1] / each[0])} {'faster' if faster else 'slower'}"


def _where_errors_began(facts: Facts) -> str:
    part: Part = facts["part"]
    where = f"the call of {part.service} to {_subject(part)}" if part.kind == TRANSFER else _subject(part)
    before, after = (text.quantity(value, facts["unit"]) for value in facts["amount"])
    return f"Requests that fail because of {where}: {before} → {after}, {text.share(facts['share'])} of the change."


def _stands_out(facts: Facts) -> str:
    over = [text.quantity(facts[side], facts["unit"]) for side in ("with", "others")]
    return f"Requests that touch {facts['value']} are {over[0]} over what is usual for them, those that touch others {over[1]}."


def _tenants(facts: Facts) -> str:
    return f"Several services stand out in {facts['kind']} {facts['value']}: {', '.join(facts['services'])}."


def _same_requests(facts: Facts) -> str:
    others = " and ".join(f"{kind} {name}" for kind, name in facts["others"])
    return f"The same requests touch {others}: these numbers cannot tell {facts['value']} from it."


def _load(facts: Facts) -> str:
    ratio = f"Traffic went to {_times(facts['ratio'])} what it was"
    if facts["explains"] is None:
        return f"{ratio}; the reference's own traffic was too even to tell what that does."
    return f"{ratio}; at the slope seen in the reference that explains {text.share(facts['explains'])} of the change."


def when(lead_s: float) -> str:
    """How a change lies to the onset of the symptom."""
    if lead_s == 0:
        return "at the onset, within its interval"
    return f"{text.span_of_time(lead_s)} {'before' if lead_s > 0 else 'after'} the onset"


def _change(facts: Facts) -> str:
    judged: Judged = facts["judged"]
    change = judged.change
    of = f" of {change.service}" if change.service else ""
    what = f"The {change.kind}{of}{' ' + change.version if change.version else ''} at {text.time(change.at)}"
    lead = when(judged.lead_s)
    if judged.verdict == "too-late":
        return f"{what} is not it: it came {lead}."
    if judged.verdict == "responsible":
        return f"{what} came {lead}: what {_name(judged)} adds to a request{_went(facts)} just there."
    if judged.verdict == "calls":
        return (
            f"{what} came {lead}: what {change.service}'s calls of {_name(judged)} add to a request{_went(facts)} just there; {_others_called(judged, facts)}."
        )
    if judged.verdict == "gradual":
        return f"{what} came {lead}, and what {_name(judged)} adds rose gradually from some time after it."
    if judged.verdict == "earlier":
        return f"{what} is not it: what {_name(judged)} adds moved at once, but later."
    return f"{what} is not it: what {_name(judged)} adds to a request did not step there."


def _went(facts: Facts) -> str:
    before, after = _both_sides(facts["judged"], facts["unit"])
    return f", over the usual, went from {before} to {after}"


def _both_sides(found: Judged | Control, unit: str) -> list[str]:
    """What was before and what was after."""
    return [text.quantity(value or 0.0, unit) for value in (found.before, found.after)]


def _others_called(judged: Judged, facts: Facts) -> str:
    control = judged.control
    if control is None or control.what != OTHER_CALLERS:
        return "nobody else calls it in these requests, so that it may as well be its own"
    before, after = _both_sides(control, facts["unit"])
    return f"what other callers of it add was {before} before and {after} after"


def _name(judged: Judged) -> str:
    return judged.entity[1] if judged.entity else "it"


def _control(facts: Facts) -> str:
    control: Control = facts["control"]
    before, after = _both_sides(control, facts["unit"])
    return f"Not touched by it: {control.what}, {before} before and {after} after, over the usual."


def _version(facts: Facts) -> str:
    return (
        f"{text.share(facts['bad'])} of the slow or failed requests that touch {facts['service']} touch version {facts['version']}, "
        f"{text.share(facts['normal'])} of the normal ones."
    )


def _onset(facts: Facts) -> str:
    onset = facts["onset"]
    where = f"Its own part moved at {text.time(onset.at)} ({text.time(onset.low)} to {text.time(onset.high)})"
    return f"{where}, after the symptom." if facts["order"] == "after" else f"{where}, before all other parts."


def _traffic(facts: Facts) -> str:
    who = f"called by {facts['caller']}" if facts["caller"] else "from outside"
    before, after = facts["rate"]
    return f"{facts['operation']} {who}: {text.number(before)} → {text.number(after)} requests/s, {text.share(facts['share'])} of the change."


def _drift(facts: Facts) -> str:
    return f"The reference wanders by itself: without any cause, a change this large would be seen in {text.share(facts['p'])} of comparisons."


_OF: dict[str, Callable[[Facts], str]] = {
    "where-time-went": _where_time_went,
    "where-errors-began": _where_errors_began,
    "stands-out": _stands_out,
    "tenants": _tenants,
    "same-requests": _same_requests,
    "load": _load,
    "change": _change,
    "control": _control,
    "version": _version,
    "onset": _onset,
    "traffic": _traffic,
    "drift": _drift,
}
KINDS = tuple(_OF)
"""Kinds of evidence; each has its sentence."""
