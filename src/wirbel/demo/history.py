"""What has happened in the demo world, relative to now: one fault that goes on, and innocent things beside it."""

from __future__ import annotations

from wirbel.demo import faults
from wirbel.demo.faults import Fault, Span, innocent
from wirbel.demo.world.happenings import Happenings

MINUTE_NS = 60 * 10**9
HOUR_NS = 60 * MINUTE_NS
DAY_NS = 24 * HOUR_NS
FAULT_MINUTES_AGO = 25
HOURS = 6  # of full detail
KEPT = 1 / 64  # of all requests are recorded
AHEAD_NS = 12 * HOUR_NS  # that the live feed can go on without being made anew
GOING_ON = "bad-deploy"


def going_on(seed: int, now: int, kind: str) -> Fault:
    return faults.make(kind, seed, Span(now - FAULT_MINUTES_AGO * MINUTE_NS, now + AHEAD_NS))


def make_history(seed: int, now: int, kind: str = GOING_ON) -> Happenings:
    """What the demo begins with; the same for the same seed, moment and fault."""
    fault = going_on(seed, now, kind)
    stretch = Span(now - HOURS * HOUR_NS, now + AHEAD_NS)
    return innocent.everyday(seed, stretch, near=fault.truth.onset, spared=fault.truth.services).add([fault.happenings])
