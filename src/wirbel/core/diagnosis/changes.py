"""What changed: each change judged by what the entities it touches did right before and right after it.

A change is held responsible only if something stepped *at* it: the entity's own part of the requests is compared
over the minutes before and after the change, beyond how far it wanders by itself, less what untouched
peers did meanwhile (difference in differences, Card and Krueger 1994); and when the entity's part moved must
agree with when the change was made. Time spent in what an entity calls is not its own.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
import numpy.typing as npt

from wirbel.core.diagnosis.onset import Onset
from wirbel.core.diagnosis.requests import Requests
from wirbel.core.signals.changes import Change
from wirbel.core.signals.conventions import CURRENT_NAME
from wirbel.core.signals.entities import AT, address_of, first_part
from wirbel.core.stats import drift

Floats = npt.NDArray[np.float64]
Bools = npt.NDArray[np.bool_]
Ints = npt.NDArray[np.int64]
Entity = tuple[str, str]
"""Kind and name."""
Verdict = Literal["responsible", "calls", "gradual", "earlier", "innocent", "too-late", "off-path", "unclear"]
"""See :class:`Judged`."""

HELD: tuple[Verdict, ...] = ("responsible", "calls", "gradual")
"""What a change's own test must say of it to be held responsible."""

MIN_REQUESTS = 20  # on each side, to compare them
LOCAL_NS = 12 * 60 * 10**9  # before and after a change that are compared
NEAR_S = 150.0  # of the onset: changes that are drawn beside it
LATE_NS = 90 * 10**9  # a change may be announced this long after it took effect
SHORTLY_NS = 5 * 10**9
ROLLOUT_NS = 4 * 60 * 10**9  # and take this long until it is everywhere
SETTING_NS = 2 * 60 * 10**9  # what is not rolled out takes effect within this time
ROLLED_OUT = ("deploy", "rollback")
GRADUAL_NS = 60 * 60 * 10**9  # what leaks or fills up is felt within this time
MOSTLY = 0.5  # of the symptom's change: when that began is when what makes up so much of it did
LEAST_SHARE = 0.1  # of the symptom's change, to be responsible for it
SIGNIFICANT = 0.01
CONTROL_MOVED = 0.5  # of what the changed ones moved: if the control did too, the change is not it
OTHER_CALLERS = "other callers of it"
_DATABASE_KEYS = ("db.namespace", "server.address", "db.collection.name")


@dataclass(frozen=True)
class Control:
    """What was not touched by the change, before and after it, in the symptom's unit."""

    what: str  # "other instances or versions", "other hosts", "other callers of it" or "other entities"
    before: float
    after: float

    @property
    def moved(self) -> float:
        return self.after - self.before


@dataclass(frozen=True, kw_only=True)
class Judged:
    """A change with its before/after test.

    ``before`` and ``after`` are means of what the touched entity adds to a request of the symptom, in the minutes
    around the change, over what is usual for the operation; ``share`` is their difference, less the control's, as a
    share of the symptom's change, and ``p`` is of there being no step, None where it is too small to matter. ``entity`` is the one that was judged. Verdicts: *responsible*; *innocent* (nothing
    stepped there); *calls* (what the changed service adds itself did not, but what its calls of ``entity`` cost did); *gradual* (what it touches rose slowly, from some time after it on, as a leak would); *earlier* (it moved
    at once, but later than the change); *too-late*; *off-path* (it touches
    nothing that the requests did); *unclear* (too few requests).
    """

    change: Change
    entity: Entity | None
    lead_s: float  # onset of the symptom − change, 0 inside the onset's interval; negative: the change came after
    before: float | None = None
    after: float | None = None
    share: float = 0.0
    p: float | None = None
    control: Control | None = None
    verdict: Verdict

    @property
    def is_near(self) -> bool:
        """The symptom's onset: what is drawn beside it."""
        return abs(self.lead_s) <= NEAR_S

    @property
    def on_path(self) -> bool:
        return self.entity is not None


@dataclass(frozen=True, kw_only=True)
class Judging:
    """All that changes are judged by: requests, what entities add to each of them, when that moved, and the symptom's change."""

    requests: Requests
    amounts: Mapping[Entity, Floats]
    onsets: Mapping[Entity, Onset | None]
    symptom: Floats
    symptom_onset: Onset
    delta: float
    calls: Mapping[tuple[str, Entity], Floats]  # what each service's calls of what sends no spans add to each request


def judge(given: Judging, changes: list[Change]) -> list[Judged]:
    """Judges each change by the entity it touches that stepped most; see :class:`Judged`."""
    return [_judge(given, change) for change in changes]


def _judge(given: Judging, change: Change) -> Judged:
    lead = lead_s(change.at, given.symptom_onset)
    touched = [*_touched(given, change)]
    if not touched:
        return Judged(change=change, entity=None, lead_s=lead, verdict="off-path")
    judged = [_test(given, change, lead, *one) for one in touched]
    found = max(judged, key=lambda j: (j.verdict == "responsible", j.verdict == "gradual", abs(j.share)))
    return _by_calls(given, change, lead) or found if found.verdict == "innocent" else found


def _by_calls(given: Judging, change: Change, lead: float) -> Judged | None:
    """The change judged by what the calls cost that its service makes: a new statement may be slow where it is carried out.

    They must have stepped right at it, and those of other services to the same entity must not have.
    """
    stepped = []
    for (service, entity), amount in given.calls.items():
        if service != change.service or entity not in given.amounts:
            continue
        others = [values for (other, called), values in given.calls.items() if called == entity and other != service]
        found = _test(given, change, lead, entity, amount, given.onsets.get(entity), None, np.sum(others, axis=0) if others else None)
        if found.verdict == "responsible" and abs(lead) * 1e9 <= LATE_NS:
            stepped.append(replace(found, verdict="calls"))
    return max(stepped, key=lambda j: j.share, default=None)


def lead_s(at: int, onset: Onset) -> float:
    """How long before the onset's interval a time lies, s; 0 inside it, negative after it."""
    if onset.low <= at <= onset.high:
        return 0.0
    return ((onset.low if at < onset.low else onset.high) - at) / 1e9


def _touched(given: Judging, change: Change) -> list[tuple[Entity, Floats, Onset | None, Bools | None]]:
    """Entities that a change touches: name, what they add to each request, when that moved, and which requests met the changed part (None: all)."""
    about = {CURRENT_NAME.get(key, key): value for key, value in change.entity.items()}
    found: list[tuple[Entity, Floats, Onset | None, Bools | None]] = []

    def add(entity: Entity, met: Bools | None = None) -> None:
        if entity in given.amounts:
            found.append((entity, given.amounts[entity], given.onsets.get(entity), met))

    databases = [value for key in _DATABASE_KEYS if (value := about.get(key))]
    host = about.get("host.name")
    for kind, name in given.amounts:
        is_its_host = host is not None and change.service is None and host in (address_of(name), first_part(address_of(name)))
        if kind == "database" and (is_its_host or any(value == name or value in name.split(AT) for value in [*databases, change.service] if value)):
            add((kind, name))
            for caller, called in sorted(given.calls):
                if called == (kind, name):  # who asks it does what it does differently: more, or again
                    add(("service", caller))
    if change.service and not (databases and found):
        met = _met(given.requests, service=change.service, instance=about["service.instance.id"]) if "service.instance.id" in about else None
        met = _met(given.requests, service=change.service, version=change.version) if met is None and change.version else met
        add(("service", change.service), met)
        if change.kind == "migration":
            for database in sorted(entity for service, entity in given.calls if service == change.service):
                add(database)
    elif change.service is None and "host.name" in about:
        met = _met(given.requests, host=about["host.name"])
        if met is not None:
            found.append((("host", about["host.name"]), given.symptom, given.symptom_onset, met))
    elif change.service is None and not databases and not about:  # it may be about anything: a flag, a configuration of all
        found.append((("everything", "all services"), given.symptom, given.symptom_onset, None))
    return found


def _met(requests: Requests, **values: str) -> Bools | None:
    """Requests in which a span has the values; None if none has."""
    met = requests.touched(**values)
    return met if met.any() else None


def _average(requests: Requests, values: Floats, rows: Ints) -> float:
    return float(np.average(values[rows], weights=requests.adjusted_count[rows]))


def _test(
    given: Judging, change: Change, lead: float, entity: Entity, amount: Floats, moved: Onset | None, met: Bools | None, beside: Floats | None = None
) -> Judged:
    """``amount`` is what is judged; ``beside``, where it is known, what the same entity does for others."""
    requests = given.requests
    near = np.abs(requests.start - change.at) <= LOCAL_NS
    later = requests.start >= change.at
    # Until a change is everywhere its requests are neither before nor after; where it is known which met it, those count at once.
    after = near & later & (met if met is not None and entity[0] != "host" and (met & near & later).sum() >= MIN_REQUESTS else np.ones(len(later), np.bool_))
    # What took effect before it was announced is no part of what was before it; where little is known, a few seconds have to do.
    before = near & (requests.start < change.at - LATE_NS)
    if before.sum() < MIN_REQUESTS:
        before = near & (requests.start < change.at - SHORTLY_NS)
    if entity[0] == "host" and met is not None:
        before, after = before & met, after & met
    is_late = lead * 1e9 < -LATE_NS
    if before.sum() < MIN_REQUESTS or after.sum() < MIN_REQUESTS:
        return Judged(change=change, entity=entity, lead_s=lead, verdict="too-late" if is_late else "unclear")
    first, last = (_average(requests, amount, np.flatnonzero(rows)) for rows in (before, after))
    control = _control(given, entity, amount, near, later, met) if beside is None else _control_of(OTHER_CALLERS, requests, beside, near & ~later, near & later)
    step = last - first - (control.moved if control and abs(control.moved) < abs(last - first) else 0.0)
    share = step / given.delta if given.delta else 0.0
    used = before | after
    # Whatever its p, too small a step is none that matters.
    p = _p_of_step(requests, amount, used, after) if share > LEAST_SHARE else None
    verdict = _verdict(given, change, is_late, share, p, last - first, moved, control, _change_in_all(given, amount))
    return Judged(change=change, entity=entity, lead_s=lead, before=first, after=last, share=share, p=p, control=control, verdict=verdict)


def _p_of_step(requests: Requests, amount: Floats, used: Bools, after: Bools) -> float:
    found = drift.difference(requests.start[used] / 1e9, amount[used, None], requests.adjusted_count[used], after[used])
    return float(found.p[0])


def _verdict(
    given: Judging,
    change: Change,
    is_late: bool,
    share: float,
    p: float | None,
    step: float,
    moved: Onset | None,
    control: Control | None,
    in_all: float,
) -> Verdict:
    if is_late:
        return "too-late"
    # Gradual effects, and those of a roll-out, may begin a little later than they are announced.
    at_once = _agrees(change, moved) or (share > MOSTLY and _agrees(change, given.symptom_onset))
    follows = control is not None and control.moved * step > 0 and abs(control.moved) > CONTROL_MOVED * abs(step)
    if at_once and p is not None and p < SIGNIFICANT and not follows:
        return "responsible"
    if moved is not None and moved.low > change.at + _takes_ns(change) and moved.size * given.delta > 0:
        return "gradual" if _is_slow(change, moved, in_all) else "earlier"
    # What waits in a queue, or builds up, rises from a change on and steps nowhere.
    return "gradual" if at_once and moved is not None and _is_slow(change, moved, in_all) and moved.size * given.delta > 0 and not follows else "innocent"


def _agrees(change: Change, moved: Onset | None) -> bool:
    return moved is not None and moved.low - _takes_ns(change) <= change.at <= moved.high + LATE_NS


def _is_slow(change: Change, moved: Onset, in_all: float) -> bool:
    return moved.takes_s > 0 and moved.low - change.at <= GRADUAL_NS and in_all > LEAST_SHARE


def _takes_ns(change: Change) -> int:
    """For how long after it is announced a change may take effect: a roll-out goes from instance to instance, a setting is read at once."""
    return ROLLOUT_NS if change.kind in ROLLED_OUT else SETTING_NS


def _change_in_all(given: Judging, amount: Floats) -> float:
    """The share of the symptom's change that is an entity's, from window to window."""
    before, after = given.requests.means(amount)
    return float(after - before) / given.delta if given.delta else 0.0


def _control_of(what: str, requests: Requests, values: Floats, before: Bools, after: Bools) -> Control:
    return Control(what, _average(requests, values, np.flatnonzero(before)), _average(requests, values, np.flatnonzero(after)))


def _control(given: Judging, entity: Entity, amount: Floats, near: Bools, later: Bools, met: Bools | None) -> Control | None:
    """Requests at the same time that did not meet what was changed; else what the other entities did, in the middle of them."""
    requests = given.requests
    if met is not None:
        apart = near & ~met & (requests.touched(service=entity[1]) if entity[0] == "service" else True)
        if (apart & later).sum() >= MIN_REQUESTS and (apart & ~later).sum() >= MIN_REQUESTS:
            what = "other hosts" if entity[0] == "host" else "other instances or versions"
            return _control_of(what, requests, amount, apart & ~later, apart & later)
    if entity[0] in ("host", "everything"):
        return None
    others = [values for other, values in given.amounts.items() if other != entity and values.any()]
    if len(others) < 3:
        return None
    before, after = np.flatnonzero(near & ~later), np.flatnonzero(near & later)
    steps = sorted((_average(requests, values, after) - _average(requests, values, before), n) for n, values in enumerate(others))
    middle = others[steps[len(steps) // 2][1]]
    return _control_of("other entities", requests, middle, near & ~later, near & later)
