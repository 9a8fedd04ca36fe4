"""What is practised on: a stretch of the demo world with one fault in it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from wirbel.demo import faults
from wirbel.demo.faults import Fault, Span, innocent
from wirbel.demo.making import World
from wirbel.demo.world.happenings import Happenings
from wirbel.demo.world.topology import Topology

MINUTE_NS = 60 * 10**9
HOUR_NS = 60 * MINUTE_NS
DAY_NS = 24 * HOUR_NS
MONDAY = 20_507 * DAY_NS  # 2026-02-23, 00:00 UTC: drills are the same on any day
HISTORY_NS = 3 * HOUR_NS
LASTS_NS = 60 * MINUTE_NS
AFTER_NS = 35 * MINUTE_NS  # after the onset, somebody asks
CHUNK_NS = HOUR_NS // 2


@dataclass(frozen=True)
class Scene:
    topology: Topology
    kind: str
    seed: int
    start: int  # ns
    asked: int  # when somebody asks: the telemetry ends here
    fault: Fault
    world: World
    everyday: Happenings

    def without(self) -> World:
        """The same world, had the fault not come."""
        return World.make(self.topology, self.seed, self.everyday, self.start, self.asked, 1.0)


def make(topology: Topology, kind: str, seed: int, history_ns: int = HISTORY_NS, kept: float | None = None, says: bool = True) -> Scene:
    """The same for the same world, kind and seed; ``kept`` is the share of the requests that is recorded, if other than the world's own; without ``says`` nothing is logged of the fault itself. Faults begin at any hour of a week: traffic rises and falls while things go wrong."""
    rng = np.random.default_rng([seed, 41, *kind.encode()])
    onset = MONDAY + int(rng.integers(7)) * DAY_NS + int(rng.uniform(0, 24) * HOUR_NS)
    onset -= onset % (10 * 10**9)
    fault = faults.make(topology, kind, seed, Span(onset, onset + LASTS_NS))
    if not says:
        fault.happenings.lines.clear()
    start = onset - history_ns
    start -= start % MINUTE_NS  # what is counted by the minute begins with one
    asked = onset + AFTER_NS
    everyday = innocent.everyday(topology, seed, Span(start, asked), near=onset, spared=fault.truth.services)
    everyday = everyday.add([innocent.upon(fault, seed, asked)])
    happenings = Happenings().add([everyday, fault.happenings])
    return Scene(
        topology,
        kind,
        seed,
        start,
        asked,
        fault,
        World.make(topology, seed, happenings, start, asked, topology.recorded / topology.rate if kept is None else kept),
        everyday,
    )
