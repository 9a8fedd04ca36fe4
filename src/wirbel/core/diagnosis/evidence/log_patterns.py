"""What services say: patterns that are new, that multiplied or that stopped, and what their words speak of."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from wirbel.core.diagnosis.case import Case, Entity
from wirbel.core.diagnosis.evidence.observation import Feature, Observation, Source
from wirbel.core.patterns import drain

FEATURES = {
    "new pattern": Feature("log2 of records", +1, 4.0),
    "new pattern of its own": Feature("log2 of records that tell of no failed request", +1, 4.0),
    "errors told": Feature("log2 of the rate of errors and warnings", +1, 2.0),
    "named in a new pattern": Feature("log2 of records", +1, 4.0),
    "says less": Feature("share of its records that is gone", +1, 0.5),
}
WARNING = 13  # severity number of OpenTelemetry's log data model
MOST_PATTERNS = 3  # of a service that are told
NEW = 0.1  # of its rate in the focus: a pattern said less often before is new
LEAST = 3  # records
MOST_TEMPLATES = 3_000  # of a service that are looked at, the commonest
UNINVOLVED, WITHOUT_EFFECT = 0.1, 0.3  # of what a new line counts for, where who says it has no part in it, or adds nothing to it
ENOUGH = 0.2  # of the change, from which on it counts whole
MOST_MEMBERS = 20  # of a pattern that are named
ABOUT = (
    ("lock", ("lock", "deadlock", "could not serialize")),
    ("disk", ("no space left", "disk", "quota", "read-only file", "input/output error", "too many open files")),
    ("memory", ("memory", "heap", "garbage", "gc overhead", "oom")),
    ("waiting", ("pool", "connection", "queue", "resource exhausted", "too many clients", "backlog")),
    ("network", ("unreachable", "no route to host", "reset by peer", "broken pipe", "packet", "name resolution")),
    ("config", ("certificate", "expired", "permission denied", "unauthenticated", "access denied", "configuration", "invalid argument")),
    ("external", ("bad gateway", "service unavailable", "gateway timeout", "upstream")),
    ("waiting", ("timed out", "timeout", "deadline exceeded")),
)
"""Words, and the mechanism of which they speak; the first that is said counts. From memory: messages of POSIX errors (strerror), names of PostgreSQL's error
conditions (its documentation, appendix A), status codes of gRPC and phrases of HTTP (RFC 9110), results of verifying a certificate (RFC 5280),
and single words of the trade (common practice)."""
POOL = "pool"  # of connections, or of workers: it is its owner's, and whom it leads to is waited for


@dataclass(frozen=True)
class Pattern:
    service: str
    template: str
    members: tuple[str, ...]  # as they are without what only words tell apart
    severity: int
    before: float  # records a second
    after: float
    count: float  # in the focus
    of_requests: float  # share that belongs to a trace


def patterns(case: Case) -> list[Pattern]:
    """Each pattern of each service in both windows; templates in which only a word varies are one."""
    question = case.question
    rows: dict[str, list[dict[str, Any]]] = {}
    for row in case.records.patterns.to_pylist():
        rows.setdefault(row["service"] or "", []).append(row)
    found = []
    for service, mine in rows.items():
        mine.sort(key=lambda row: (-row["before"] - row["after"], row["template"] or ""))
        numbers, templates = drain.group([row["template"] or "" for row in mine[:MOST_TEMPLATES]])
        members: list[list[dict[str, Any]]] = [[] for _ in templates]
        for row, number in zip(mine, numbers, strict=False):
            members[number].append(row)
        for template, of in zip(templates, members, strict=True):
            before, after, traced = (sum(row[name] for row in of) for name in ("before", "after", "traced"))
            found.append(
                Pattern(
                    service,
                    template,
                    tuple(row["template"] or "" for row in of[:MOST_MEMBERS]),
                    max(row["severity"] or 0 for row in of),
                    before / question.reference.seconds,
                    after / question.focus.seconds,
                    after,
                    traced / after if after else 0.0,
                )
            )
    return found


def _observe(case: Case) -> Iterator[Observation]:
    by_service: dict[str, list[Pattern]] = {}
    for pattern in patterns(case):
        by_service.setdefault(pattern.service, []).append(pattern)
    named = case.services.by_address | {name: (kind, name) for kind, name in case.services.entities if kind == "service"}
    for service, mine in by_service.items():
        entity = ("service", service)
        fresh = [p for p in mine if p.count >= LEAST and p.before <= NEW * p.after]
        fresh.sort(key=lambda p: (-p.severity, -p.count))
        part = _part_in_it(case, entity)
        for p in fresh[:MOST_PATTERNS]:
            facts = {"service": service, "template": p.template, "members": p.members, "before": p.before, "after": p.after, "count": p.count}
            about = {"service": service, "text": p.template}
            size = float(np.log2(p.count + 1)) * (1.0 if p.severity >= WARNING else 0.5)
            feature = "new pattern" if p.of_requests > 0.5 else "new pattern of its own"
            yield Observation(entity, feature, part * size, _mechanism(p.template), "log-pattern", facts, about, service=service)
            for address, other in named.items():
                if other != entity and address in p.template and POOL not in p.template.lower():
                    yield Observation(other, "named in a new pattern", _part_in_it(case, other) * size, _mechanism(p.template), "log-pattern", facts, about)
        loud = [p for p in mine if p.severity >= WARNING]
        before, after = sum(p.before for p in loud), sum(p.after for p in loud)
        grown = float(np.log2((after * case.question.focus.seconds + 2) / (before * case.question.focus.seconds + 2)))
        if grown > 0.5:
            facts = {"service": service, "before": before, "after": after}
            yield Observation(entity, "errors told", grown, None, "log-errors", facts, {"service": service}, service=service)
        was, now = sum(p.before for p in mine), sum(p.after for p in mine)
        if was * case.question.focus.seconds > 20 and now < 0.5 * was:
            facts = {"service": service, "before": was, "after": now}
            yield Observation(entity, "says less", 1 - now / was, "absence", "says-less", facts, {"service": service}, service=service)


def _part_in_it(case: Case, entity: Entity) -> float:
    """How much what is said of something counts, between 0 and 1: new lines come with every release, and are no cause where they have no effect."""
    if entity not in case.involved:
        return UNINVOLVED
    if case.question.signal == "throughput":
        return 1.0
    return WITHOUT_EFFECT + (1 - WITHOUT_EFFECT) * min(case.effect_of(entity) / ENOUGH, 1.0)


def _mechanism(template: str) -> str | None:
    said = template.lower()
    return next((name for name, words in ABOUT if any(word in said for word in words)), None)


SOURCE = Source("log patterns", FEATURES, _observe)
