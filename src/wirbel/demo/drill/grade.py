"""Marks for an answer, by the truth."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import asdict, dataclass
from statistics import median
from typing import Any

from wirbel.core.deviation.symptoms import SYMPTOMS
from wirbel.core.signals.changes import Change, parse_time

SURE = 0.5  # a first candidate held with more than this who is innocent is a false accusation
NOTHING = "nothing-wrong"


@dataclass(frozen=True)
class Grade:
    kind: str
    seed: int
    detected: bool  # something was noticed after it began (or before anyone was hurt), and before somebody asked
    delay_s: float | None  # from the onset to the first that was noticed, wherever
    disturbances: int  # that hurt people, and that what was noticed of it makes
    seen_before: bool  # telemetry showed it before users were hurt
    lead_s: float | None  # before plain thresholds on the same series would have told; None: one of them did not
    exact: int | None  # rank of the first candidate that is the very entity at fault
    lenient: int | None  # or of the service where one would find it
    mechanism: bool
    change: bool | None  # None: no change is at fault
    onset_error_s: float | None
    accused: bool  # an innocent is named first, and held to be likely
    accused_change: bool  # with what is named first a change is held responsible that is not
    innocents: list[dict[str, Any]]  # changes told of that are not at fault (innocents()), and whether each is held responsible with what is named first
    plain: dict[str, int | None]  # lenient ranks of the plain methods
    took_s: float
    error: str | None

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


def grade(truth: dict[str, Any], answer: dict[str, Any], seed: int) -> Grade:
    candidates = answer["diagnosis"]["candidates"]
    entities = {tuple(pair) for pair in truth["entities"]}
    exact = _rank(_is_exact(candidate, entities) for candidate in candidates)
    lenient = _rank(_is_exact(candidate, entities) or _leads_there(candidate, truth) for candidate in candidates)
    blamed = candidates[lenient - 1] if lenient else None
    seen = answer["seen"]
    detected = seen is not None and seen["detected"] >= truth["begins"]
    onset = answer["diagnosis"].get("onset")
    places = {name for _, name in entities} | set(truth["services"])
    mine = list(_came_of_it(answer["noticed"], places, truth["begins"])) if detected else []
    noticed, threshold = (min((one[when] for one in mine if one[when]), default=None) for when in ("at", "threshold"))
    accused = bool(candidates) and lenient != 1 and candidates[0]["confidence"] > SURE
    return Grade(
        kind=truth["kind"],
        seed=seed,
        detected=detected,
        delay_s=(noticed - truth["onset"]) / 1e9 if noticed else None,
        lead_s=(threshold - noticed) / 1e9 if noticed and threshold else None,
        disturbances=len({one["disturbance"] for one in mine if one["metric"] in SYMPTOMS}),
        seen_before=truth["seen_before"],
        exact=exact,
        lenient=lenient,
        mechanism=blamed is not None and blamed["mechanism"] in truth["mechanisms"],
        change=None if truth["change"] is None else blamed is not None and blamed["change"] == truth["change"],
        onset_error_s=abs(parse_time(onset["at"], "onset") - truth["onset"]) / 1e9 if onset else None,
        accused=accused,
        accused_change=bool(candidates) and candidates[0]["change"] not in (None, truth["change"]),
        innocents=[one | {"blamed": bool(candidates) and candidates[0]["change"] == one["id"]} for one in truth.get("innocents", [])],
        plain={name: _rank(service in places for service in ranked) for name, ranked in answer["plain"].items()},
        took_s=answer["took_s"],
        error=answer["diagnosis"].get("error"),
    )


def innocents(truth: dict[str, Any], changes: Sequence[Change]) -> list[dict[str, Any]]:
    """The changes that are not at fault: kind, how long before the onset (s), and whether they are of what is at fault."""
    named = {name for _, name in truth["entities"]} | set(truth["services"])
    return [
        {
            "id": change.id,
            "kind": change.kind,
            "lead_s": (truth["onset"] - change.at) / 1e9,
            "on_culprit": change.service in named or bool(named & {str(value) for value in change.entity.values()}),
        }
        for change in changes
        if change.id != truth["change"]
    ]


def _came_of_it(noticed: Iterable[dict[str, Any]], places: set[str], begins: int) -> Iterator[dict[str, Any]]:
    """What may have come of the fault: requests of anybody, and what runs short where it is."""
    for one in noticed:
        if one["at"] >= begins and (one["metric"] in SYMPTOMS or {one["entity"][1], one["service"]} & places):
            yield one


def _rank(hits: Iterable[bool]) -> int | None:
    return next((place for place, hit in enumerate(hits, 1) if hit), None)


def _is_exact(candidate: dict[str, Any], entities: set[tuple[Any, ...]]) -> bool:
    entity = candidate["entity"]
    return is_at_fault(entity["kind"], entity["name"], entity["attributes"], entities)


def is_at_fault(kind: str, name: str, attributes: dict[str, str], entities: set[tuple[Any, ...]]) -> bool:
    """Whether a candidate is the very entity at fault: by its kind and name, or by an attribute of it."""
    named = {(kind, name), *(("attribute", value) for value in attributes.values())}
    named |= {(kind, value) for value in attributes.values()}  # a database by its namespace or its address
    named |= {("attribute", key) for key in attributes} if kind == "attribute" else set()
    named |= {("load", "load")} if kind == "load" else set()
    kinds = {kind for kind, _ in entities}
    return bool({pair for pair in named if pair[0] in kinds} & entities)


def _leads_there(candidate: dict[str, Any], truth: dict[str, Any]) -> bool:
    """A service, one of its instances or operations: a person would go there and find it."""
    entity = candidate["entity"]
    return entity["kind"] in ("service", "instance", "operation") and (entity["service"] or entity["name"]) in truth["services"]


def share(grades: Sequence[Grade], hit: Any) -> float:
    return sum(bool(hit(one)) for one in grades) / max(len(grades), 1)


def summary(grades: Sequence[Grade]) -> dict[str, Any]:
    """Of drills with something to find; shares of them, medians of those that have a value."""
    real = [one for one in grades if one.kind != NOTHING]
    quiet = [one for one in grades if one.kind == NOTHING]
    changed = [one for one in real if one.change is not None]

    def middle(values: Iterable[float | None]) -> float | None:
        known = [value for value in values if value is not None]
        return round(median(known), 1) if known else None

    return {
        "drills": len(grades),
        "detected": share(real, lambda g: g.detected),
        "delay_s": middle(g.delay_s for g in real),
        "seen_before": share(real, lambda g: g.seen_before),
        "lead_s": middle(g.lead_s for g in real),
        "one_disturbance": share([one for one in real if one.disturbances], lambda g: g.disturbances == 1),
        **{f"exact_{k}": share(real, lambda g, k=k: g.exact and g.exact <= k) for k in (1, 3, 5)},
        **{f"lenient_{k}": share(real, lambda g, k=k: g.lenient and g.lenient <= k) for k in (1, 3, 5)},
        "mechanism": share(real, lambda g: g.mechanism),
        "change": share(changed, lambda g: g.change) if changed else None,
        "onset_error_s": middle(g.onset_error_s for g in real),
        "false_accusations": share(quiet, lambda g: g.accused),
        "false_alarms": share(quiet, lambda g: g.detected),
        "accused_innocents": share(real, lambda g: g.accused),
        "accused_changes": share(real, lambda g: g.accused_change),
        "took_s": middle(g.took_s for g in grades),
        "plain": {name: share(real, lambda g, name=name: g.plain[name] == 1) for name in (grades[0].plain if grades else ())},
    }
