"""What has been seen: services, entities, metrics, attribute names. Small tables, bounded, for lists and search.

Called by the packer under its lock, so that reading, adding up and writing back cannot race.
"""

from __future__ import annotations

import time
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from django.db.models import Model

from wirbel.core import arrow
from wirbel.core.signals.entities import Entity as EntityOf
from wirbel.core.signals.entities import entities_of, naming_columns
from wirbel.core.topology import graph
from wirbel.core.topology.graph import relations_of
from wirbel.store.models import Arrival, AttributeName, Entity, LateHour, Metric, Relation, Service, Stream
from wirbel.store.streams import DAY_NS, HOUR_NS, LAYOUTS

ARRIVAL_S = 600
LATE_NS = 3 * 60 * 10**9  # after it was made, from which on a record comes late
LATEST_NS = 16 * DAY_NS  # and after which nobody judges by it any more
MOST_SERVICES = 20_000
MOST_ENTITIES = 50_000  # of all kinds; an id that changes with every request is no entity
MOST_RELATIONS = 200_000
_RELATION_KEY = ("environment", "subject_kind", "subject", "verb", "object_kind", "object")
MOST_METRICS = 20_000
MOST_NAMES = 5_000  # attribute names: more are made up by careless senders
MOST_SERVICES_OF_ENTITY = 50


def remember(stream: str, table: pa.Table) -> None:
    """Takes note of what a packed table holds."""
    if not table.num_rows:
        return
    named = _seen(stream, table, naming_columns(table))
    services = (
        named.group_by(["environment", "service"]).aggregate([("first", "min"), ("last", "max")]).rename_columns(["environment", "service", "first", "last"])
    )
    _remember_services(stream, services.to_pylist())
    first, last = pc.min(named["first"]).as_py(), pc.max(named["last"]).as_py()
    entities = entities_of(named)
    _remember_entities(entities, first, last)
    _remember_relations(relations_of(named, entities, first, last))
    _remember_names(stream, table)
    if stream == Stream.POINTS:
        _remember_metrics(table)


def _write(model: type[Model], rows: Sequence[Model], key: Sequence[str], changed: Sequence[str]) -> None:
    ordered = sorted(rows, key=lambda row: tuple(str(getattr(row, name)) for name in key))
    for row in ordered:
        row.pk = None
    model._default_manager.bulk_create(ordered, update_conflicts=True, unique_fields=list(key), update_fields=list(changed), batch_size=1000)


def _short(name: str | None) -> str:
    return (name or "")[: arrow.LONGEST_NAME].replace("\x00", "\ufffd")


def _remember_services(stream: str, seen: list[dict[str, Any]]) -> None:
    known = {(s.environment, s.name): s for s in Service.objects.filter(name__any_of=[_short(row["service"]) for row in seen])}
    room = MOST_SERVICES - Service.objects.count()
    changed = []
    for row in seen:
        key = (row["environment"], _short(row["service"]))
        service = known.get(key)
        if service is None:
            if room <= 0:
                continue
            room -= 1
            service = known[key] = Service(environment=key[0], name=key[1], first_seen=row["first"], last_seen=row["last"])
        elif service.first_seen <= row["first"] and service.last_seen >= row["last"] and stream in service.streams:
            continue
        service.streams = sorted({*service.streams, stream})
        service.first_seen, service.last_seen = min(service.first_seen, row["first"]), max(service.last_seen, row["last"])
        changed.append(service)
    _write(Service, changed, ["environment", "name"], ["first_seen", "last_seen", "streams"])


def _seen(stream: str, table: pa.Table, keys: list[str]) -> pa.Table:
    """Each distinct set of values of some columns, with the times of its first and its last record (ns) and how many there are."""
    seen = table.select(keys).append_column("at", pa.array(LAYOUTS[stream].begins(table)))
    return seen.group_by(keys).aggregate([("at", "min"), ("at", "max"), ("at", "count")]).rename_columns([*keys, "first", "last", "count"])


def note_arrivals(stream: str, table: pa.Table) -> None:
    """Counts what each service has just sent."""
    now_s = time.time()
    at = datetime.fromtimestamp(now_s - now_s % ARRIVAL_S, UTC)
    known = {(a.environment, a.service): a for a in Arrival.objects.filter(at=at, stream=stream)}
    changed: dict[tuple[str, str], Arrival] = {}
    for row in _seen(stream, table, ["environment", "service"]).to_pylist()[:MOST_SERVICES] if table.num_rows else []:
        key = (row["environment"], _short(row["service"]))
        arrival = changed.get(key) or known.get(key) or Arrival(environment=key[0], service=key[1], stream=stream, at=at, rows=0, newest=0)
        arrival.rows += row["count"]
        arrival.newest = max(arrival.newest, row["last"])
        changed[key] = arrival
    _write(Arrival, list(changed.values()), ["at", "environment", "service", "stream"], ["rows", "newest"])


def note_late(stream: str, table: pa.Table, now: int) -> None:
    """Marks the hours of records that come when their minutes have long been read."""
    begins = LAYOUTS[stream].begins(table)
    late = begins[(begins < now - LATE_NS) & (begins > now - LATEST_NS)]
    at = datetime.fromtimestamp(now / 1e9, UTC)
    rows = [LateHour(hour=hour, first=at, last=at) for hour in np.unique(late - late % HOUR_NS).tolist()]
    LateHour.objects.bulk_create(rows, update_conflicts=True, unique_fields=["hour"], update_fields=["last"])


def _remember_entities(found: set[EntityOf], first: int, last: int) -> None:
    known = {(e.environment, e.kind, e.name): e for e in Entity.objects.filter(name__any_of={_short(entity.name) for entity in found})}
    room = MOST_ENTITIES - Entity.objects.count()
    changed: dict[tuple[str, str, str], Entity] = {}
    for entity in found:
        key = (entity.environment, entity.kind, _short(entity.name))
        row = known.get(key)
        if row is None:
            if room <= 0:
                continue
            room -= 1
            row = known[key] = Entity(environment=key[0], kind=key[1], name=key[2], first_seen=first, last_seen=last, services=[])
            changed[key] = row
        beneath = entity.runs_on or (row.runs_on_kind, row.runs_on)
        services = row.services
        if entity.service and entity.service not in services and len(services) < MOST_SERVICES_OF_ENTITY:
            services = sorted([*services, entity.service])
        before = (row.runs_on_kind, row.runs_on, row.services, row.first_seen, row.last_seen)
        row.runs_on_kind, row.runs_on, row.services = beneath[0], _short(beneath[1]), services
        row.first_seen, row.last_seen = min(row.first_seen, first), max(row.last_seen, last)
        if before != (row.runs_on_kind, row.runs_on, row.services, row.first_seen, row.last_seen):
            changed[key] = row
    _write(Entity, list(changed.values()), ["environment", "kind", "name"], ["runs_on_kind", "runs_on", "services", "first_seen", "last_seen"])


def _remember_relations(found: set[graph.Relation]) -> None:
    seen = {_relation_key(one): one for one in found}
    rows = Relation.objects.filter(environment__in={key[0] for key in seen}, subject__in={key[2] for key in seen})
    known = {(r.environment, r.subject_kind, r.subject, r.verb, r.object_kind, r.object): r for r in rows}
    room = MOST_RELATIONS - (Relation.objects.count() if seen.keys() - known.keys() else 0)
    changed = []
    for key, one in seen.items():
        row = known.get(key)
        if row is None:
            if room <= 0:
                continue
            room -= 1
            row = Relation(**dict(zip(_RELATION_KEY, key, strict=True)), first_seen=one.first, last_seen=one.last)
        elif row.first_seen <= one.first and row.last_seen >= one.last:
            continue
        row.first_seen, row.last_seen = min(row.first_seen, one.first), max(row.last_seen, one.last)
        changed.append(row)
    _write(Relation, changed, _RELATION_KEY, ["first_seen", "last_seen"])


def _relation_key(one: graph.Relation) -> tuple[str, str, str, str, str, str]:
    return (one.environment, one.subject.kind, _short(one.subject.name), one.verb, one.object.kind, _short(one.object.name))


def _remember_metrics(table: pa.Table) -> None:
    keys = ["environment", "service", "metric", "kind"]
    seen = table.group_by(keys).aggregate([("unit", "max"), ("temporality", "max"), ("monotonic", "max"), ("time", "min"), ("time", "max")]).to_pylist()
    known = {(m.environment, m.service, m.name, m.kind): m for m in Metric.objects.filter(name__any_of={_short(row["metric"]) for row in seen})}
    room = MOST_METRICS - Metric.objects.count()
    changed = {}
    for row in seen:
        key = (row["environment"], _short(row["service"]), _short(row["metric"]), row["kind"])
        metric = known.get(key)
        if metric is None:
            if room <= 0:
                continue
            room -= 1
            metric = known[key] = Metric(environment=key[0], service=key[1], name=key[2], kind=key[3], first_seen=row["time_min"], last_seen=row["time_max"])
        metric.unit, metric.temporality, metric.monotonic = _short(row["unit_max"]), row["temporality_max"], row["monotonic_max"]
        metric.first_seen, metric.last_seen = min(metric.first_seen, row["time_min"]), max(metric.last_seen, row["time_max"])
        changed[key] = metric
    _write(Metric, list(changed.values()), ["environment", "service", "name", "kind"], ["unit", "temporality", "monotonic", "first_seen", "last_seen"])


def _names_in(stream: str, table: pa.Table) -> Iterable[tuple[str, str, int]]:
    """(level, attribute, records that carry it); the records themselves as ("", "", count)."""
    yield "", "", table.num_rows
    counts: dict[tuple[str, str], int] = {}
    for name in table.column_names:
        if arrow.is_attribute_column(name):
            level, _, key = arrow.split_attribute_column(name)
            counts[level, key] = counts.get((level, key), 0) + table.num_rows - table[name].null_count
    for key, column in arrow.PROMOTED_RESOURCE.items():
        counts["resource", key] = table.num_rows - table[column].null_count
    yield from ((level, key, count) for (level, key), count in counts.items() if count)


def _remember_names(stream: str, table: pa.Table) -> None:
    if stream == Stream.POINTS:
        return  # labels of series are read where the series are
    for environment in table["environment"].unique().to_pylist():
        part = table.filter(pc.equal(table["environment"], environment)) if len(table["environment"].unique()) > 1 else table
        known = {(n.level, n.name): n for n in AttributeName.objects.filter(environment=environment, stream=stream)}
        changed = []
        for level, key, count in _names_in(stream, part):
            place = (level, _short(key))
            name = known.get(place)
            if name is None:
                if len(known) >= MOST_NAMES:
                    continue
                name = known[place] = AttributeName(environment=environment, stream=stream, level=level, name=place[1], rows=0)
            name.rows += count
            changed.append(name)
        _write(AttributeName, changed, ["environment", "stream", "level", "name"], ["rows"])
