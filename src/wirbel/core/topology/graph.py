"""Who calls, runs on, is part of and uses whom, and when: one graph for all signals.

Entities are named as everywhere: a service by its name, an instance, pod, container, host and zone by theirs, a
database, cache or broker by ``NAMESPACE at ADDRESS``, an external by its address (signals/entities.py).
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Literal

import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core.signals.entities import AT, Entity

Verb = Literal["calls", "runs on", "part of", "uses"]
VERBS: tuple[Verb, ...] = ("calls", "runs on", "part of", "uses")
SERVER_KINDS = ("database", "cache", "broker")  # what is used, where a service is called


@dataclass(frozen=True, order=True)
class EntityId:
    """Kind (service, instance, process, container, pod, host, zone, database, cache, broker, external) and name."""

    kind: str
    name: str


@dataclass(frozen=True)
class Relation:
    """``subject`` calls, runs on, is part of or uses ``object``; seen from ``first`` to ``last``, ns since 1970."""

    environment: str
    subject: EntityId
    verb: Verb
    object: EntityId
    first: int
    last: int


def relations_of(table: pa.Table, entities: Iterable[Entity], first: int, last: int) -> set[Relation]:
    """The relations that the records of a table of spans, logs or points tell (as for entities_of, one of many alike will do), whose entities are given.

    All are seen from ``first`` to ``last`` (ns).
    """
    found = set(_layers(entities, first, last))
    if "peer" in table.column_names:
        found |= set(_calls(table, first, last))
    return found


def _layers(entities: Iterable[Entity], first: int, last: int) -> Iterator[Relation]:
    for entity in entities:
        own = EntityId(entity.kind, entity.name)
        if entity.runs_on:
            yield Relation(entity.environment, own, "runs on", EntityId(*entity.runs_on), first, last)
        if entity.service and entity.kind in ("instance", "process"):
            yield Relation(entity.environment, own, "part of", EntityId("service", entity.service), first, last)
        if entity.kind in SERVER_KINDS and AT in entity.name:  # a namespace of a server that may hold others
            yield Relation(entity.environment, own, "part of", EntityId("server", entity.name.rpartition(AT)[2]), first, last)


def _calls(table: pa.Table, first: int, last: int) -> Iterator[Relation]:
    called = table.filter(pc.and_(pc.is_valid(table["peer"]), pc.is_valid(table["peer_kind"])))
    for row in called.group_by(["environment", "service", "peer_kind", "peer"]).aggregate([]).to_pylist():
        verb: Verb = "uses" if row["peer_kind"] in SERVER_KINDS else "calls"
        yield Relation(row["environment"], EntityId("service", row["service"]), verb, EntityId(row["peer_kind"], row["peer"]), first, last)


class EntityGraph:
    """Relations that held at some time in a window. Walks are bounded by the graph itself: each entity is met once."""

    def __init__(self, relations: Iterable[Relation]) -> None:
        self._forward: dict[tuple[EntityId, Verb], set[EntityId]] = defaultdict(set)
        self._backward: dict[tuple[EntityId, Verb], set[EntityId]] = defaultdict(set)
        self.entities: set[EntityId] = set()
        for one in relations:
            self._forward[one.subject, one.verb].add(one.object)
            self._backward[one.object, one.verb].add(one.subject)
            self.entities |= {one.subject, one.object}

    def objects(self, subject: EntityId, *verbs: Verb) -> set[EntityId]:
        """Whom an entity calls, runs on, is part of or uses directly."""
        return {found for verb in verbs for found in self._forward.get((subject, verb), ())}

    def subjects(self, entity: EntityId, *verbs: Verb) -> set[EntityId]:
        """Who calls, runs on, is part of or uses an entity directly."""
        return {found for verb in verbs for found in self._backward.get((entity, verb), ())}

    def beneath(self, entity: EntityId, *verbs: Verb) -> set[EntityId]:
        """All that is reached from an entity by relations of these kinds, itself left out."""
        return self._reached(entity, self._forward, verbs)

    def above(self, entity: EntityId, *verbs: Verb) -> set[EntityId]:
        """All from which an entity is reached, itself left out: its callers' callers, or the tenants of a host."""
        return self._reached(entity, self._backward, verbs)

    @staticmethod
    def _reached(entity: EntityId, edges: dict[tuple[EntityId, Verb], set[EntityId]], verbs: tuple[Verb, ...]) -> set[EntityId]:
        found: set[EntityId] = set()
        fresh = {entity}
        while fresh:
            fresh = {further for one in fresh for verb in verbs for further in edges.get((one, verb), ())} - found - {entity}
            found |= fresh
        return found

    def tenants(self, place: EntityId) -> set[EntityId]:
        """The services with an instance or process that runs, directly or not, on a host, pod, container or zone."""
        running = self.above(place, "runs on")
        return {service for one in running for service in self.objects(one, "part of") if service.kind == "service"}

    def near(self, one: EntityId) -> set[EntityId]:
        """Whom relations of any kind link an entity with, directly or by one other: what it calls, what calls the same, what runs on the same host."""
        beside = self._beside(one)
        return set().union(beside, *(self._beside(other) for other in beside)) - {one}

    def _beside(self, one: EntityId) -> set[EntityId]:
        # Half a system runs in one zone: that says nothing.
        return {other for other in self.objects(one, *VERBS) | self.subjects(one, *VERBS) if other.kind != "zone"}
