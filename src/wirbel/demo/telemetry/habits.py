"""Telemetry as it is out there: sampled, partly missing, under other names, with few changes recorded or many."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow
from wirbel.core.hashing import mix
from wirbel.core.signals import logs, points, spans
from wirbel.core.thinning import random_numbers
from wirbel.core.topology.parents import trace_keys
from wirbel.demo.making import Telemetry
from wirbel.demo.telemetry import attributes, counters
from wirbel.demo.world.topology import Topology

AGENTS = ("host-agent", "database-agent", "cache-agent", "broker-agent")
STANDARD = ("http.", "system.", "process.cpu", "process.memory", "jvm.", "db.client.", "messaging.", "container.memory")
"""What semantic conventions name; everybody calls the rest as they like."""


@dataclass(frozen=True)
class Habits:
    """What a team sends of all that happens."""

    sampled: float = 1.0  # share of the traces
    sampling_told: bool = True  # by the sampling threshold; else each span stands for itself
    traces: bool = True
    metrics: bool = True
    logs: bool = True
    changes: float = 1.0  # share of them that is recorded
    versions: bool = True
    agents: frozenset[str] = frozenset(AGENTS)
    without_metrics: frozenset[str] = frozenset()  # services
    without_logs: frozenset[str] = frozenset()
    new_ids: bool = False  # an instance has another id with each version
    attributes: int | None = None  # seed of those that spans carry besides; None: no others
    counts_seconds: bool = False  # agents on hosts count seconds, and tell no shares
    own_names: int | None = None  # seed of what metrics are called that no convention names; None: as in Skerry Line

    def of(self, told: Telemetry) -> Telemetry:
        """What is left of all records."""
        return Telemetry(self._spans(told.spans), self._logs(told.logs), self._points(told.points))

    def changes_of(self, changes: list[dict[str, Any]]) -> list[dict[str, Any]]:
        """The changes that are recorded; the same for the same ids."""
        return [one for one in changes if _number(str(one["id"])) < self.changes]

    def _spans(self, table: pa.Table) -> pa.Table:
        if not self.traces:
            return table.slice(0, 0)
        if self.sampled < 1:
            table = table.filter(pa.array(random_numbers(trace_keys(arrow.ids(table["trace_id"], 16))) < self.sampled))
        weight = arrow.numbers(table["weight"]) / self.sampled if self.sampling_told else np.ones(table.num_rows)
        table = table.set_column(table.schema.get_field_index("weight"), "weight", pa.array(weight))
        if self.attributes is not None:
            table = attributes.added(table, self.attributes)
        return spans.conform(self._without_versions(table))

    def _logs(self, table: pa.Table) -> pa.Table:
        kept = pc.invert(pc.is_in(table["service"], value_set=pa.array(sorted(self.without_logs), pa.string())))
        return arrow.conform(self._without_versions(table.filter(kept) if self.logs else table.slice(0, 0)), logs.LOG_SCHEMA)

    def _points(self, table: pa.Table) -> pa.Table:
        dropped = pa.array(sorted(self.without_metrics | (set(AGENTS) - self.agents)), pa.string())
        table = table.filter(pc.invert(pc.is_in(table["service"], value_set=dropped))) if self.metrics else table.slice(0, 0)
        if self.counts_seconds:
            table = counters.as_seconds(table)
        if self.own_names is not None:
            code, names = arrow.codes(table["metric"])
            called = pa.array([self._called(name) for name in names], pa.string())
            table = table.set_column(table.schema.get_field_index("metric"), "metric", called.take(pa.array(code)))
        return arrow.conform(self._without_versions(table), points.POINT_SCHEMA)

    def _called(self, metric: str) -> str:
        """Another name of the same meaning; those of one family stay together."""
        if metric.startswith(STANDARD):
            return metric
        family, _, last = metric.rpartition(".")
        rng = np.random.default_rng([self.own_names or 0, *family.encode()])
        return f"{''.join(str(part) for part in rng.choice(['ax', 'bo', 'ce', 'du', 'fi', 'gr'], 3))}.{last}"

    def _without_versions(self, table: pa.Table) -> pa.Table:
        if self.new_ids:
            table = _with_new_ids(table)
        place = table.schema.get_field_index("version")
        return table if self.versions else table.set_column(place, "version", pa.nulls(table.num_rows, pa.string()))


def id_of(instance: str, version: str) -> str:
    """The id of an instance while it runs a version."""
    return f"{instance}-{hash_of(version) % 46_656:x}"


def hash_of(text: str) -> int:
    return int(mix(np.frombuffer(text.encode().ljust(64, b"\0")[:64], np.uint64)).sum() >> np.uint64(12))


def _with_new_ids(table: pa.Table) -> pa.Table:
    both = pc.and_(pc.is_valid(table["instance"]), pc.is_valid(table["version"]))
    pair = pc.if_else(both, pc.binary_join_element_wise(table["instance"].cast(pa.string()), table["version"].cast(pa.string()), "\n"), None)
    code, names = arrow.codes(pair)
    ids = pa.array([*(id_of(*name.split("\n")) for name in names), None], pa.string()).take(pa.array(np.where(code >= 0, code, len(names))))
    place = table.schema.get_field_index("instance")
    return table.set_column(place, "instance", pc.coalesce(ids, pa.chunked_array([table["instance"].cast(pa.string()).combine_chunks()])))


EVERYTHING = Habits()


def draw(topology: Topology, seed: int) -> Habits:
    """The habits of a made-up team."""
    rng = np.random.default_rng([seed, 13])
    services = list(topology.services)

    def some(share: float) -> frozenset[str]:
        return frozenset(str(name) for name in services if rng.random() < share)

    return Habits(
        sampled=float(rng.choice([1.0, 1.0, 0.5, 0.25])),
        sampling_told=bool(rng.random() < 0.7),
        metrics=bool(rng.random() < 0.9),
        logs=bool(rng.random() < 0.85),
        changes=float(rng.choice([1.0, 1.0, 0.8, 0.4, 0.0])),
        versions=bool(rng.random() < 0.8),
        agents=frozenset(name for name in AGENTS if rng.random() < 0.75),
        without_metrics=some(float(rng.choice([0, 0.2, 0.5]))),
        without_logs=some(float(rng.choice([0, 0.2, 0.5]))),
        own_names=None if rng.random() < 0.4 else seed,
        new_ids=bool(rng.random() < 0.4),
        attributes=seed if rng.random() < 0.7 else None,
        counts_seconds=bool(rng.random() < 0.5),
    )


LESS: dict[str, dict[str, Any]] = {
    "everything": {},
    "sampled": {"sampled": 0.3},
    "no-traces": {"traces": False, "metrics": True, "without_metrics": frozenset()},
    "traces-only": {"metrics": False, "logs": False},
    "no-changes": {"changes": 0.0},
}
"""What is sent less, by the name that a drill can ask for it."""

NAMED = {name: replace(EVERYTHING, **less) for name, less in LESS.items()}


def _number(text: str) -> float:
    return float(np.random.default_rng(list(text.encode())).random())
