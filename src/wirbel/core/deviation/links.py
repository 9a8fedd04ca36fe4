"""Which entities that deviate may have to do with each other: those that a relation links, or one other entity between them."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import cache

from wirbel.core.deviation.grouping import Linked
from wirbel.core.signals.entities import address_of
from wirbel.core.topology.graph import EntityGraph, EntityId


def linked(read: Callable[[], EntityGraph]) -> Linked:
    """Whether two entities are linked closely, by the relations of a graph, which is read when the first pair is asked about.

    What tells of a database by its address tells of all that is known at that address.
    """

    @cache
    def relations() -> tuple[EntityGraph, Mapping[str, Sequence[EntityId]]]:
        graph = read()
        by_address: dict[str, list[EntityId]] = {}
        for entity in graph.entities:
            if entity.kind not in ("service", "host", "instance"):
                by_address.setdefault(address_of(entity.name), []).append(entity)
        return graph, by_address

    @cache
    def same(one: EntityId) -> frozenset[EntityId]:
        return frozenset({one, *relations()[1].get(one.name, ())})

    @cache
    def near(one: EntityId) -> frozenset[EntityId]:
        return same(one).union(*(relations()[0].near(entity) for entity in same(one)))

    return lambda a, b: not near(a).isdisjoint(same(b))
