"""A world with its happenings, and all the telemetry of any stretch of it."""

from __future__ import annotations

from dataclasses import dataclass

import pyarrow as pa

from wirbel.core.signals import logs as log_model
from wirbel.core.signals import points, spans
from wirbel.demo.telemetry import durations, logs, metrics
from wirbel.demo.world.conditions import Conditions
from wirbel.demo.world.happenings import Happenings
from wirbel.demo.world.requests import Traffic
from wirbel.demo.world.state import State, solve
from wirbel.demo.world.topology import Topology

STEP_S = 10
WARM_UP_NS = 10 * 60 * 10**9  # before the first moment that is told of, so that lines have their length


@dataclass(frozen=True)
class Telemetry:
    """All records of a stretch, in the order of blocks."""

    spans: pa.Table
    logs: pa.Table
    points: pa.Table


@dataclass(frozen=True)
class World:
    seed: int
    state: State
    happenings: Happenings
    traffic: Traffic

    @classmethod
    def make(cls, topology: Topology, seed: int, happenings: Happenings, start: int, end: int, kept: float, step_s: int = STEP_S, ahead: int = 0) -> World:
        """The world from ``start`` to ``end`` (ns), of whose requests the share ``kept`` is recorded;
        its clock is ``ahead`` of UTC (ns).

        Its moments lie on whole steps of time, so that two worlds that overlap agree where they do.
        """
        begin = start - WARM_UP_NS
        begin -= begin % (step_s * 10**9)
        state = solve(topology, Conditions(happenings.effects, begin, int((end - begin) // (step_s * 10**9)) + 1, step_s, ahead))
        return cls(seed, state, happenings, Traffic(seed, state, happenings, kept))

    def telemetry(self, start: int, end: int) -> Telemetry:
        """Everything of [start, end) ns."""
        made = self.traffic.spans(start, end)
        return Telemetry(
            spans.combine([made]),
            log_model.combine([logs.of_requests(self.state.topology, made), logs.lines(self.state, self.happenings, self.seed, start, end)]),
            points.combine([metrics.gauges(self.state, self.happenings, self.seed, start, end), durations.request_durations(made)]),
        )


def recorded(topology: Topology, seed: int, start: int, end: int, per_second: float, happenings: Happenings | None = None) -> World:
    """A world of which about so many requests a second are recorded."""
    return World.make(topology, seed, happenings or Happenings(), start, end, per_second / topology.rate)
