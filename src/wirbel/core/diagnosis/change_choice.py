"""Which change is held responsible for a candidate: what each did, how near it came, and what it touches."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from wirbel.core.cells_of_metrics import COUNTED
from wirbel.core.diagnosis import ramps
from wirbel.core.diagnosis.case import Case, Entity
from wirbel.core.diagnosis.changes import HELD, Judged
from wirbel.core.diagnosis.evidence.saturation import entities_of
from wirbel.core.diagnosis.evidence.tenants import ZONE
from wirbel.core.signals.entities import address_of

Floats = npt.NDArray[np.float64]
NEAR_S, SOON_S = 120.0, 1800.0
LEAST_BUILD_UP_S = 300.0  # before it is felt, that something begins to build up
COLUMNS = (
    "stepped",
    "share stepped",
    "gradual",
    "builds up",
    "calls stepped",
    "at the onset",
    "shortly before",
    "is about it",
    "is about what runs there",
    "is about what it uses",
    "is about everything",
    "nearest",
)
SIGNS = {
    "builds up": 1,
    "stepped": 1,
    "share stepped": 1,
    "gradual": 1,
    "calls stepped": 1,
    "at the onset": 1,
    "shortly before": 1,
    "is about it": 1,
}


def touching(case: Case, entity: Entity, service: str | None) -> Iterator[tuple[Judged, Floats]]:
    """Changes that may be responsible for a candidate, each with its features, shape (COLUMNS,).

    Only what stepped at a change, or builds up from it on, can be its doing: a change that its own test calls innocent, unclear or earlier
    is not held responsible, however near it is and whatever it is about.
    """
    about = [(judged, how) for judged in case.judged if (how := relation(case, judged, entity, service))]
    measured = measured_of(case, entity) if about else []
    found = [(judged, how, rises) for judged, how in about for rises in [builds_up(case, judged, measured)] if _may_be_held(judged, rises, bool(measured))]
    nearest = min((judged for judged, _, _ in found), key=lambda j: (j.lead_s < 0, abs(j.lead_s)), default=None)
    for judged, how, rises in found:
        yield judged, _row(judged, how, judged is nearest, rises)


def _may_be_held(judged: Judged, rises: bool, is_measured: bool) -> bool:
    if judged.verdict == "gradual":
        # Where measures of it are known and none builds up, it only looks like that.
        return rises or not is_measured
    return judged.verdict in HELD or (rises and judged.verdict != "too-late")


def builds_up(case: Case, judged: Judged, measured: list[int]) -> bool:
    """Whether one of some measures (rows, those of a candidate or of the host that it runs on) rises from a change on: a disk, a heap, a pool that fills."""
    return case.since.high - judged.change.at >= LEAST_BUILD_UP_S * 1e9 and ramps.since(case.measures, measured, judged.change.at, case.since.high) is not None


def measured_of(case: Case, entity: Entity) -> list[int]:
    """Rows of measures of an entity."""
    serving = {name for kind, name in case.services.entities if kind == "service"}
    hosts = _hosts_of(case, entity[1]) if entity[0] == "database" else set()
    m = case.measures
    found = []
    for row in range(len(m)):
        if m.metric[row] in COUNTED:
            continue
        own, named = entities_of(m, row, serving, case.services.by_label)
        if entity in own | named or any(("host", host) in own for host in hosts):
            found.append(row)
    return found


def spoken_against(case: Case, entity: Entity) -> list[Judged]:
    """Changes of an entity at which it did not step, or that came too late or long before: a change is responsible only for what began with it.

    What came before may have begun something that is felt later, as a leak is; what came after has not.
    """
    return [judged for judged in case.judged if judged.entity == entity and judged.verdict in ("earlier", "innocent", "too-late")]


def relation(case: Case, judged: Judged, entity: Entity, service: str | None) -> str | None:
    """How a change lies to a candidate; None if it has nothing to do with it."""
    change, (kind, name) = judged.change, entity
    texts = {str(value) for value in change.entity.values()}
    of = name if kind in ("service", "load") else service
    if judged.entity == entity or name in texts or address_of(name) in texts:
        return "is about it"
    if change.service is not None and change.service == of:
        instance = change.entity.get("service.instance.id")
        return None if kind == "instance" and instance not in (None, name) else "is about it"
    if kind in ("host", "zone") and change.service is not None:
        return "is about what runs there" if change.service in _tenants(case, kind, name) else None
    if kind in ("database", "external") and change.service is not None:
        if name in _peers(case, change.service):
            return "is about what it uses"
        beside = any(change.service in _tenants(case, "host", host) for host in _hosts_of(case, name))
        return "is about what runs there" if beside else None
    if change.service is None and (not texts or judged.entity == ("everything", "all services")):
        return "is about everything"
    return None


def _tenants(case: Case, kind: str, name: str) -> set[str]:
    m = case.measures
    found = {m.service[row] or "" for row in range(len(m)) if m.host[row] == name} if kind == "host" else set()
    column = "host" if kind == "host" else ZONE
    if column in case.traces.table.column_names:
        rows = case.traces.equal(column, name)
        code, names = case.traces.codes("service")
        found |= {names[n] for n in np.unique(code[rows]) if n >= 0}
    return found


def _hosts_of(case: Case, name: str) -> set[str]:
    """Where something runs that is called at an address: what measures of it say that somebody else sends, such as an agent."""
    m, address = case.measures, address_of(name)
    serving = {of for kind, of in case.services.entities if kind == "service"}
    rows = (row for row in range(len(m)) if m.service[row] not in serving and address in (m.instance[row], *m.labels[row].values()))
    return {host for row in rows if (host := m.host[row])}


def _peers(case: Case, service: str) -> set[str]:
    s = case.services
    if ("service", service) not in s.entities:
        return set()
    return {s.entities[n][1] for n in np.flatnonzero(s.calls[s.entities.index(("service", service))])}


def _row(judged: Judged, how: str, nearest: bool, rises: bool) -> Floats:
    lead = judged.lead_s
    given = {
        "stepped": judged.verdict == "responsible",
        "share stepped": min(max(judged.share, 0.0), 1.0) if judged.verdict in ("responsible", "calls") else 0.0,
        "gradual": judged.verdict == "gradual",
        "builds up": rises,
        "calls stepped": judged.verdict == "calls",
        "at the onset": np.exp(-abs(lead) / NEAR_S),
        # A change may be announced a little after it took effect; what came clearly too late is not held.
        "shortly before": np.exp(-max(lead, 0.0) / SOON_S),
        how: 1.0,
        "nearest": nearest,
    }
    return np.array([float(given.get(name, 0.0)) for name in COLUMNS])
