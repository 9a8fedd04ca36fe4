"""The one place where a diagnosis becomes English: a sentence for each kind of evidence, from its facts."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from wirbel.core import text
from wirbel.core.diagnosis.case import STEADY
from wirbel.core.diagnosis.changes import OTHER_CALLERS, Control, Judged, Verdict
from wirbel.core.diagnosis.model import Candidate, Doubt, Evidence, Signal
from wirbel.core.diagnosis.pairs import Partner
from wirbel.core.diagnosis.parts import ASKED, DEPENDENCY, OUTSIDE, OWN, TRANSFER, Part
from wirbel.core.signals.changes import lines

Facts = Mapping[str, Any]
MOST_LINES_TOLD = 2  # of configuration
_ALIKE = 1.05  # a ratio nearer to one than this is not told


def sentence(evidence: Evidence) -> str:
    """The sentence of a piece of evidence, with its numbers."""
    return _OF[evidence.kind](evidence.facts)


_SAID = {
    "more-calls": "makes more calls",
    "slower-work": "is slower itself",
    "waiting": "keeps requests waiting",
    "errors": "fails",
    "external": "answers more slowly",
    "traffic": "is asked more",
    "absence": "does less",
    "saturation": "is short of what it runs on",
    "memory": "is short of memory",
    "disk": "is short of disk",
    "network": "loses time on the network",
    "lock": "waits for locks",
    "cache": "misses its cache",
    "config": "was set up otherwise",
    "deploy": "runs another version",
    "unknown": "is bad while others like it are not",
}
_SAID_OF_LOAD = {"absence": "is asked less"}  # where it is no doing of the service
_NEXT = {
    "more-calls": "Open a slow request beside a normal one and count the calls; compare with the version before.",
    "slower-work": "Open a slow request beside a normal one; look where its self time goes, and what else runs there.",
    "waiting": "Compare what is in use with its limit: connections, workers, queues; see who holds them, and for how long.",
    "errors": "Read the errors of the first failing request, and what was changed for it.",
    "external": "Ask the provider, or call it from elsewhere; see whether others that call it wait as long.",
    "traffic": "See who asks: which callers, clients and operations grew; compare with the same hour of other days.",
    "absence": "See whether it still runs and whether it is still asked; look at the last that it logged.",
    "saturation": "See what else takes its processors, and whether it recovers when that is moved away.",
    "memory": "Look at memory and pauses since the last restart; a restart that helps for a while proves a leak.",
    "disk": "See what fills or busies the disk; free some and see whether writes succeed again.",
    "network": "Look at retransmits between the two sides; route around it and see whether the time is gone.",
    "lock": "Look at which session holds the lock and what it waits for; ending it should end the waiting.",
    "cache": "Compare the share of hits with the one before, and what is asked behind it.",
    "config": "Compare the configuration line by line with the one before; put it back.",
    "deploy": "Run the version before on one instance and compare the two.",
    "unknown": "Compare it with its siblings: what runs there, what was changed there, what is full there.",
}
_NEXT_OF_LOAD = {"absence": "See who asks less: which callers, clients and operations shrank; compare with the same hour of other days."}


_VERDICTS = {
    "responsible": "consistent",
    "calls": "its calls moved with it",
    "innocent": "no effect seen",
    "gradual": "slow effect possible",
    "earlier": "no effect seen",
    "too-late": "came after the onset",
    "off-path": "not involved",
    "unclear": "too few requests to say",
}


_ASKED: dict[Signal, tuple[str, str, str]] = {
    "latency": ("slow", "faster", "slow"),
    "errors": ("failing", "failing less", "failing"),
    "throughput": ("getting more requests", "getting fewer requests", "getting more or fewer requests"),
}
"""What is asked about a service: where it is more, where it is less, and where it may be neither."""
_DOUBTS: dict[Doubt, str] = {
    "same": "There is no difference between focus and reference.",
    "wanders": "The difference may be none: the reference wanders as far by itself.",
    "small": f"It is not certain that the difference is more than {100 * STEADY:g} % of what is usual, by which anything steady may move.",
}


def asked(of: str, signal: Signal, delta: float, doubt: Doubt | None) -> str:
    """The question, of a service or one of its operations, as the answer finds it."""
    more, less, neither = _ASKED[signal]
    return f"Is {of} {neither}?" if doubt else f"Why is {of} {less if delta < 0 else more}?"


def doubt_told(doubt: Doubt) -> str:
    """Why there may be nothing to explain."""
    return _DOUBTS[doubt]


def verdict_told(verdict: Verdict) -> str:
    """What the test of a change said."""
    return _VERDICTS[verdict]


def part_name(part: Part, is_time: bool = True) -> str:
    """A part of the time of requests, or of what else is asked about, without its operation."""
    return f"{part.service} calls {part.peer}" if part.kind == DEPENDENCY else short_part_name(part, is_time)


def short_part_name(part: Part, is_time: bool = True) -> str:
    """The same where it is plain who calls, or room is short."""
    if part.kind == DEPENDENCY:
        return str(part.peer)
    if part.kind == TRANSFER:
        return f"network and queue {part.service} → {part.peer}"
    if part.kind == ASKED:
        return part.service if part.service == OUTSIDE else f"asked by {part.service}"
    return f"{part.service} self time" if is_time else f"{part.service} itself"


def title(candidate: Candidate, changes: Sequence[Judged]) -> str:
    """The cause as a sentence with the number that speaks for it most, if there is one.

    The version is named only where it is the candidate's own: a database has none of those who call it.
    """
    change = next((judged.change for judged in changes if judged.change.id == candidate.change), None)
    is_own = change is not None and change.service == (candidate.service or candidate.name)
    version = f" {change.version}" if change is not None and is_own and change.version else ""
    value = _values(candidate) if candidate.kind == "attribute" else ""
    found = (_figure(evidence, candidate) for evidence in candidate.evidence if evidence.supports)
    said = next((told for told in found if told), _of_mechanism(candidate, _SAID, _SAID_OF_LOAD))
    return f"{candidate.name}{value}{version} {said}"


def _of_mechanism(candidate: Candidate, texts: Mapping[str, str], of_load: Mapping[str, str]) -> str:
    found = texts.get(candidate.mechanism, texts["unknown"])
    return of_load.get(candidate.mechanism, found) if candidate.kind == "load" else found


def _figure(evidence: Evidence, candidate: Candidate) -> str | None:
    """What a piece of evidence says that the candidate does, with its number; None if it says nothing of this mechanism."""
    tell = _FIGURES.get(evidence.kind)
    return tell(evidence.facts, candidate) if tell else None


def _did_to_time(facts: Facts, candidate: Candidate) -> str | None:
    part: Part = facts["part"]
    (n0, n1), (t0, t1) = facts["calls"], facts["amount"]
    if facts["mechanism"] == candidate.mechanism == "more-calls" and n1 and candidate.name == part.service:
        what = part.operation if part.kind == OWN else part.peer
        verb = "runs" if part.kind == OWN else "calls"
        return f"{verb} {what} {_times(n1 / n0)} as often" if n0 else f"{verb} {what}, which it did not before"
    is_own = part.kind == OWN and candidate.name == part.service
    if not (n0 and n1 and t0 > 0) or candidate.mechanism not in ("slower-work", "external") or not (is_own or candidate.name == part.peer):
        return None
    return f"takes {_times(t1 / n1 / (t0 / n0))} as long {'for its own work' if is_own else 'to answer'}"


def _did_fail(facts: Facts, candidate: Candidate) -> str | None:
    before, after = (text.quantity(value, facts["unit"]) for value in facts["amount"])
    return f"makes {after} of requests fail instead of {before}" if candidate.mechanism in ("errors", "config", "deploy") else None


def _did_ask(facts: Facts, candidate: Candidate) -> str | None:
    return f"is asked {_times(facts['ratio'])} as often" if candidate.mechanism == "traffic" else None


def _did_serve_less(facts: Facts, candidate: Candidate) -> str | None:
    before, after = (text.number(facts[side]) for side in ("before", "after"))
    return f"serves {after} requests/s instead of {before}" if candidate.mechanism == "absence" else None


def _did_bring(facts: Facts, candidate: Candidate) -> str | None:
    return f"brings {text.share(facts['share'])} of the added requests" if candidate.mechanism == "traffic" else None


def _did_slow_tenants(facts: Facts, candidate: Candidate) -> str | None:
    return f"makes work there take {_times(facts['times'])} as long" if candidate.kind in ("host", "zone") else None


def _did_stand_out(facts: Facts, candidate: Candidate) -> str | None:
    if candidate.mechanism != "unknown":
        return None
    return f"{_does(facts)} instead of {text.quantity(facts['before'], facts['unit'])}"


def _did_measure(facts: Facts, candidate: Candidate) -> str | None:
    moved = _metric(facts).removesuffix(".")
    return f"{_SAID[candidate.mechanism]}: {moved}" if candidate.mechanism in _MEASURED else None


_MEASURED = ("saturation", "memory", "disk", "network", "lock", "cache", "waiting")
_FIGURES: dict[str, Callable[[Facts, Candidate], str | None]] = {
    "where-time-went": _did_to_time,
    "where-errors-began": _did_fail,
    "load": _did_ask,
    "load-elsewhere": _did_ask,
    "serves-less": _did_serve_less,
    "brings-traffic": _did_bring,
    "tenants": _did_slow_tenants,
    "metric": _did_measure,
    "off-by-itself": _did_stand_out,
}


def _values(candidate: Candidate) -> str:
    """The value of an attribute, and of the one that it needs to do harm."""
    needed = [f" with {key} {value}" for key, value in candidate.attributes.items() if key != candidate.name]
    return f" {candidate.attributes.get(candidate.name, '')}{''.join(needed)}"


def next_step(candidate: Candidate) -> str:
    """What to look at next: it would prove or disprove the candidate."""
    return _of_mechanism(candidate, _NEXT, _NEXT_OF_LOAD)


def _times(ratio: float) -> str:
    return f"{text.number(ratio)} times"


def _change_of(facts: Facts) -> str:
    """``+21 ms a request, 92 % of the change``."""
    sign = "+" if facts["adds"] > 0 else "−"
    return f"{sign}{text.quantity(abs(facts['adds']), facts['unit'])} a request, {text.share(facts['share'])} of {facts.get('of', 'the change')}"


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
    return f"Requests that touch {facts['value']} exceed what is usual for them by {over[0]}, those that touch others by {over[1]}.{_only_with(facts)}"


def _only_with(facts: Facts) -> str:
    needed: Partner | None = facts["only_with"]
    if needed is None:
        return ""
    together, without = (text.quantity(value, facts["unit"]) for value in (needed.excess_with, needed.excess_without))
    return f" It is only so together with {needed.key} {needed.value} of {needed.service}: {together} with it, {without} with others."


def _tenants(facts: Facts) -> str:
    there = f"in {facts['kind']} {facts['value']}" if facts["kind"] == "zone" else f"on {facts['value']}"
    return f"Work takes {_times(facts['times'])} as long {there} beside the same services elsewhere: {text.listed(facts['services'])}."


def _fills_host(facts: Facts) -> str:
    before, after = _before_and_after(facts, "share" if facts["unit"] == "1" else facts["unit"])
    beside = " (as its other instances do elsewhere)" if facts["as_all"] else ""
    return f"{facts['name']} takes more of the processors of {facts['host']}{beside}, {before} → {after}, where others are slower: {text.listed(facts['services'])}."


def _instance_apart(facts: Facts) -> str:
    if facts["signal"] == "errors":
        over = [text.share(max(facts[side], 0.0)) for side in ("with", "others")]
        return f"{facts['value']} fails at {over[0]} more of what it serves than is usual, the other instances of {facts['service']} at {over[1]}."
    times = [_times(1 + facts[side]) for side in ("with", "others")]
    return f"What {facts['value']} does by itself takes {times[0]} as long as is usual, the other instances of {facts['service']} {times[1]}."


def _fails_by_itself(facts: Facts) -> str:
    before, after = (text.share(facts[side]) for side in ("before", "after"))
    return f"{facts['name']} fails at {after} of what it is asked, {before} before, and what it calls does not fail as much."


def _off(facts: Facts) -> str:
    """``grist takes 48 ms a request, 12 ms before (9.1 standard deviations more)``."""
    before = text.quantity(facts["before"], facts["unit"])
    return f"{facts['name']} {_does(facts)}, {before} before ({text.number(facts['off'])} standard deviations more)"


def _does(facts: Facts) -> str:
    after = text.quantity(facts["after"], facts["unit"])
    if facts["unit"] == "s":
        return f"takes {after} a request" if facts["serves"] else f"last took {after} a request"
    return f"fails at {after} of what it is asked" if facts["serves"] else f"last failed at {after} of what it was asked"


def _off_by_itself(facts: Facts) -> str:
    if not facts["calls"]:
        return f"{_off(facts)}, and is not known to call anything."
    return f"{_off(facts)}; {'what it calls seems as far off, but only from there' if facts['seems'] else 'nothing that it calls is as far off'}."


def _passes_on(facts: Facts) -> str:
    return f"{facts['name']} calls what is off itself: {_off(facts['beneath'])}."


def _held_longer(facts: Facts) -> str:
    return f"{facts['name']} waits longer for what it calls, by {text.share(facts['longer'])} of all that its requests took before: who waits for it may wait for that."


def _walked_to(facts: Facts) -> str:
    return f"Calls lead from the symptom to {facts['name']}, which moved with it (correlation {text.number(facts['alike'])})."


def _not_involved(facts: Facts) -> str:
    return f"No request of the symptom reaches {facts['name']}, neither directly nor through other services."


def _no_effect(facts: Facts) -> str:
    return f"No effect seen: {facts['name']} adds nothing to the change of these requests."


def _failing_there(facts: Facts) -> str:
    there = f"in {facts['kind']} {facts['value']}" if facts["kind"] == "zone" else f"on {facts['value']}"
    return f"Requests fail {there} and not in the same services elsewhere: {text.listed(facts['services'])}."


def _keeps_waiting(facts: Facts) -> str:
    before, after = (text.quantity(facts[name], "s") for name in ("before", "after"))
    return f"{facts['name']} takes longer for each message ({before} → {after}), and {text.share(facts['share'])} of the change is waiting for messages to be taken."


def _consumer_behind(facts: Facts) -> str:
    return f"{facts['name']} takes longer for each message that it takes from there."


def _waits_first(facts: Facts) -> str:
    before, after = (text.quantity(value, "s") for value in facts["gap"])
    return f"Requests wait in {facts['service']} before it first asks a database, or anything: {before} → {after}, {text.share(facts['share'])} of {facts.get('of', 'the change')}."


def _held(facts: Facts) -> str:
    (u0, u1), (b0, b1) = ([text.number(value) for value in facts[side]] for side in ("used", "busy"))
    return f"{facts['service']} holds {u1} of {text.number(facts['limit'])} connections, {u0} before; its calls of databases keep {b1} busy, {b0} before."


def _slow_at_everything(facts: Facts) -> str:
    own, calls = (_times(facts[name]) for name in ("own", "calls"))
    return f"{facts['service']} is slow at all it does: its own work takes {own} as long, and all its calls at least {calls}."


def _crossings(facts: Facts) -> str:
    (c0, c1), (o0, o1) = ([text.quantity(value, "s") for value in facts[side]] for side in ("across", "others"))
    return f"The way to and from {facts['kind']} {facts['value']} went from {c0} to {c1}, other ways from {o0} to {o1}."


def _metric(facts: Facts) -> str:
    has_limit, unit = not math.isnan(facts["level"]), facts["unit"]
    of_limit = f", {text.share(facts['level'])} of its limit" if has_limit and unit != "1" else ""
    before, after = _before_and_after(facts, "share" if has_limit and unit == "1" else unit)
    return f"{facts['metric']} went from {before} to {after}{of_limit}."


def _before_and_after(facts: Facts, unit: str) -> list[str]:
    """Things that are counted need no unit: the name says what they are."""
    counted = unit in ("", "1") or unit.startswith("{")
    return [text.number(facts[side]) if counted else text.quantity(facts[side], unit) for side in ("before", "after")]


def _log_pattern(facts: Facts) -> str:
    before = "never before" if not facts["before"] else f"{text.number(facts['before'] * 60)} a minute before"
    return f"{facts['service']} logs “{facts['template']}” {text.number(facts['after'] * 60)} times a minute, {before}."


def _log_errors(facts: Facts) -> str:
    before, after = (text.number(facts[side] * 60) for side in ("before", "after"))
    return f"{facts['service']} logs {after} warnings and errors a minute, {before} before."


def _says_less(facts: Facts) -> str:
    before, after = (text.number(facts[side] * 60) for side in ("before", "after"))
    return f"{facts['service']} logs {after} records a minute, {before} before."


def _serves_less(facts: Facts) -> str:
    before, after = (text.number(facts[side]) for side in ("before", "after"))
    return f"{facts['name']} serves {after} requests/s, {before} before."


def _takes_less(facts: Facts) -> str:
    return f"Whoever sends messages still sends {text.share(facts['left'])} of what was sent; {facts['name']} takes {text.share(1 - facts['gone'])} of its part of that."


def _sends_nothing(facts: Facts) -> str:
    return f"{text.share(facts['share'])} of the metrics of {facts['name']} are not sent any more."


def _load_elsewhere(facts: Facts) -> str:
    return f"Traffic of {facts['service']} went to {_times(facts['ratio'])} what it was."


def _asked_more(facts: Facts) -> str:
    return f"{facts['name']} is asked {_times(facts['ratio'])} as often: it may be worse because of that."


def _brings_traffic(facts: Facts) -> str:
    share, usual = text.share(facts["share"]), text.share(facts["usual"])
    return f"{share} of the added requests have {facts['key']} {facts['value']}, which {usual} of all had before."


def _change_near(facts: Facts) -> str:
    judged: Judged = facts["judged"]
    return f"{_change_named(judged)}{_touched(judged)} came {when(judged.lead_s)}; what it did cannot be told apart from the rest."


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


def _change_named(judged: Judged) -> str:
    change = judged.change
    of = f" of {change.service}" if change.service else ""
    return f"The {change.kind}{of}{' ' + change.version if change.version else ''} at {text.time(change.at)}"


def _touched(judged: Judged) -> str:
    """The lines of configuration that a change touched, the first of many."""
    found = lines(judged.change)
    told = [f"{line.key} {line.before or 'nothing'} → {line.after or 'nothing'}" for line in found[:MOST_LINES_TOLD]]
    more = f" and {len(found) - MOST_LINES_TOLD} more" if len(found) > MOST_LINES_TOLD else ""
    return f" ({', '.join(told)}{more})" if told else ""


def _change(facts: Facts) -> str:
    judged: Judged = facts["judged"]
    change, what = judged.change, _change_named(judged) + _touched(judged)
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
    return f" in excess of the usual went from {before} to {after}"


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
    return f"What was not changed stayed as it was: {control.what}, {before} before and {after} after, in excess of the usual."


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


_OF: dict[str, Callable[[Facts], str]] = {
    "where-time-went": _where_time_went,
    "where-errors-began": _where_errors_began,
    "stands-out": _stands_out,
    "instance-apart": _instance_apart,
    "tenants": _tenants,
    "fills-host": _fills_host,
    "same-requests": _same_requests,
    "load": _load,
    "change": _change,
    "control": _control,
    "version": _version,
    "onset": _onset,
    "traffic": _traffic,
    "crossings": _crossings,
    "waits-first": _waits_first,
    "held": _held,
    "fails-by-itself": _fails_by_itself,
    "slow-at-everything": _slow_at_everything,
    "metric": _metric,
    "log-pattern": _log_pattern,
    "log-errors": _log_errors,
    "says-less": _says_less,
    "serves-less": _serves_less,
    "takes-less": _takes_less,
    "sends-nothing": _sends_nothing,
    "load-elsewhere": _load_elsewhere,
    "change-near": _change_near,
    "brings-traffic": _brings_traffic,
    "asked-more": _asked_more,
    "off-by-itself": _off_by_itself,
    "passes-on": _passes_on,
    "held-longer": _held_longer,
    "walked-to": _walked_to,
    "not-involved": _not_involved,
    "no-effect": _no_effect,
    "failing-there": _failing_there,
    "keeps-waiting": _keeps_waiting,
    "consumer-behind": _consumer_behind,
}
KINDS = tuple(_OF)
"""Kinds of evidence; each has its sentence."""
