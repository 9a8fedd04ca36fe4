"""Telemetry as it is out there: sampled, partly missing, under other names, with few changes recorded or many."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow
from wirbel.core.signals import logs, points, spans
from wirbel.core.thinning import random_numbers
from wirbel.core.topology.parents import trace_keys
from wirbel.demo.making import Telemetry
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
        return spans.conform(self._without_versions(table))

    def _logs(self, table: pa.Table) -> pa.Table:
        kept = pc.invert(pc.is_in(table["service"], value_set=pa.array(sorted(self.without_logs), pa.string())))
        return arrow.conform(self._without_versions(table.filter(kept) if self.logs else table.slice(0, 0)), logs.LOG_SCHEMA)

    def _points(self, table: pa.Table) -> pa.Table:
        dropped = pa.array(sorted(self.without_metrics | (set(AGENTS) - self.agents)), pa.string())
        table = table.filter(pc.invert(pc.is_in(table["service"], value_set=dropped))) if self.metrics else table.slice(0, 0)
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
        place = table.schema.get_field_index("version")
        return table if self.versions else table.set_column(place, "version", pa.nulls(table.num_rows, pa.string()))


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
    )


NAMED = {
    "everything": EVERYTHING,
    "sampled": replace(EVERYTHING, sampled=0.3),
    "no-traces": replace(EVERYTHING, traces=False),
    "traces-only": replace(EVERYTHING, metrics=False, logs=False),
    "no-changes": replace(EVERYTHING, changes=0.0),
}
"""Habits that a drill can be asked to have."""


def _number(text: str) -> float:
    return float(np.random.default_rng(list(text.encode())).random())
