"""Which change is held responsible for a candidate: what each did, how near it came, and what it touches."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from wirbel.core.diagnosis.case import Case, Entity
from wirbel.core.diagnosis.changes import Judged
from wirbel.core.diagnosis.evidence.tenants import ZONE
from wirbel.core.signals.entities import address_of

Floats = npt.NDArray[np.float64]
NEAR_S, SOON_S = 120.0, 1800.0
LONG_BEFORE_S = 600.0  # what came so long before may have begun something that is felt later
COLUMNS = (
    "stepped",
    "share stepped",
    "gradual",
    "calls stepped",
    "innocent",
    "earlier",
    "at the onset",
    "shortly before",
    "too late",
    "is about it",
    "is about what runs there",
    "is about what it uses",
    "is about everything",
    "lasts",
    "deploy",
    "config",
    "nearest",
)
SIGNS = {
    "innocent": -1,
    "earlier": -1,
    "too late": -1,
    "stepped": 1,
    "share stepped": 1,
    "gradual": 1,
    "calls stepped": 1,
    "at the onset": 1,
    "shortly before": 1,
    "is about it": 1,
}


def touching(case: Case, entity: Entity, service: str | None) -> Iterator[tuple[Judged, Floats]]:
    """Changes that may have to do with a candidate, each with its features, shape (COLUMNS,)."""
    found = [(judged, how) for judged in case.judged if not _is_acquitted(judged, entity) and (how := relation(case, judged, entity, service))]
    nearest = min((judged for judged, _ in found), key=lambda j: (j.lead_s < 0, abs(j.lead_s)), default=None)
    for judged, how in found:
        yield judged, _row(judged, how, judged is nearest)


def spoken_against(case: Case, entity: Entity) -> list[Judged]:
    """Changes of an entity at which it did not step, or that came too late or long before: a change is responsible only for what began with it.

    What came before may have begun something that is felt later, as a leak is; what came after has not.
    """
    return [judged for judged in case.judged if _is_acquitted(judged, entity) or (judged.entity == entity and judged.verdict in ("earlier", "innocent"))]


def _is_acquitted(judged: Judged, entity: Entity) -> bool:
    """It came too late, or after the symptom with nothing that stepped at it; or shortly before with nothing that stepped at any time."""
    after = judged.verdict == "earlier" and judged.lead_s < 0
    return judged.entity == entity and (judged.verdict == "too-late" or after or (judged.verdict == "innocent" and judged.lead_s < LONG_BEFORE_S))


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


def _row(judged: Judged, how: str, nearest: bool) -> Floats:
    change, lead = judged.change, judged.lead_s
    given = {
        "stepped": judged.verdict == "responsible",
        "share stepped": min(max(judged.share, 0.0), 1.0) if judged.verdict in ("responsible", "calls") else 0.0,
        "gradual": judged.verdict == "gradual",
        "calls stepped": judged.verdict == "calls",
        "innocent": judged.verdict == "innocent",
        "earlier": judged.verdict == "earlier",
        "at the onset": np.exp(-abs(lead) / NEAR_S),
        "shortly before": np.exp(-lead / SOON_S) if lead >= 0 else 0.0,
        "too late": judged.verdict == "too-late" or lead < -NEAR_S,
        how: 1.0,
        "lasts": change.until is not None,
        "deploy": change.kind in ("deploy", "rollback"),
        "config": change.kind in ("config", "flag", "migration"),
        "nearest": nearest,
    }
    return np.array([float(given.get(name, 0.0)) for name in COLUMNS])
