"""What the store has seen: attributes and how many records carry them, metrics, and what services run on."""

from __future__ import annotations

import pyarrow.compute as pc
from django.db.models import QuerySet

from wirbel.core.errors import InvalidQuestion
from wirbel.core.signals import points
from wirbel.core.text import rfc3339
from wirbel.explore.breakdown import split
from wirbel.explore.schemas import AttributeRow, EntityRow, KnownMetric
from wirbel.explore.traces import Filter
from wirbel.store import fresh
from wirbel.store.models import AttributeName, Entity, Metric, Service
from wirbel.store.packer import SENT

MOST = 500
MOST_VALUES = 100


def has_sent(service: str) -> bool:
    """Whether a service has sent anything, be it so fresh that it is in no list yet."""
    return Service.objects.filter(name=service).exists() or any(
        held.table is not None and pc.any(pc.equal(held.table["service"], service)).as_py() for held in map(fresh.read, SENT)
    )


def attributes(stream: str, environment: str | None) -> list[AttributeRow]:
    """The commonest first."""
    found = AttributeName.objects.filter(stream=stream)
    found = found if environment is None else found.filter(environment=environment)
    counts: dict[tuple[str, str], int] = {}
    for level, name, rows in found.values_list("level", "name", "rows"):
        counts[level, name] = counts.get((level, name), 0) + rows
    total = counts.pop(("", ""), 0)
    rows = [AttributeRow(level=level, name=name, share=min(count / total, 1.0) if total else 0.0) for (level, name), count in counts.items()]
    return sorted(rows, key=lambda row: (-row.share, row.name))[:MOST]


def values(attribute: str, window: tuple[int, int], wanted: Filter, environment: str | None) -> list[str]:
    """The commonest values of an attribute of requests, the commonest first; none of one that has too many to choose from."""
    try:
        counted = split(window, wanted, attribute, environment)
    except InvalidQuestion:
        return []
    known = counted.filter(pc.is_valid(counted["value"])).group_by("value").aggregate([("count", "sum")]).sort_by([("count_sum", "descending")])
    return [str(value) for value in known["value"].to_pylist()[:MOST_VALUES]]


def metrics(service: str | None, environment: str | None) -> list[KnownMetric]:
    found = Metric.objects.order_by("name", "service")
    found = found if service is None else found.filter(service=service)
    found = found if environment is None else found.filter(environment=environment)
    return [
        KnownMetric(
            service=row.service,
            name=row.name,
            unit=row.unit or None,
            kind=points.KIND_NAMES[row.kind],
            newest=rfc3339(row.last_seen),
            environment=row.environment,
        )
        for row in found[:MOST]
    ]


def entities(kind: str | None, service: str | None, environment: str | None) -> list[EntityRow]:
    """The kinds in the order of what runs on what."""
    found: QuerySet[Entity] = Entity.objects.order_by("kind", "name")
    found = found if kind is None else found.filter(kind=kind)
    found = found if service is None else found.filter(services__contains=[service])
    found = found if environment is None else found.filter(environment=environment)
    return [
        EntityRow(
            kind=row.kind,
            name=row.name,
            environment=row.environment,
            runs_on_kind=row.runs_on_kind or None,
            runs_on=row.runs_on or None,
            services=row.services,
            newest=rfc3339(row.last_seen),
        )
        for row in found[:MOST]
    ]
