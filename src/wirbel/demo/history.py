"""What has happened in the demo world, relative to now: faults of the past, one that goes on, and innocent things beside them."""

from __future__ import annotations

from wirbel.demo import faults
from wirbel.demo.faults import Fault, Span, innocent
from wirbel.demo.world.happenings import Happenings
from wirbel.demo.world.skerry import SKERRY

MINUTE_NS = 60 * 10**9
HOUR_NS = 60 * MINUTE_NS
DAY_NS = 24 * HOUR_NS
FAULT_MINUTES_AGO = 25
HOURS = 6  # of full detail
DAYS = 14  # of summaries, and of a sample of the requests
KEPT = 1 / 64  # of all requests are recorded
BEGINS_NS = 20 * HOUR_NS  # of the day, on the world's clock
AHEAD_NS = 30 * DAY_NS  # for which the live feed can go on
HALF_DAY_NS = DAY_NS // 2
GOING_ON = "bad-deploy"
PAST = (("index-dropped", 0.06, 55), ("provider-failing", 0.23, 70), ("noisy-neighbour", 0.62, 90))
"""Faults of the past: kind, how far back (share of the days), and how long it lasted, minutes."""


def ahead(now: int) -> int:
    """By how much the world's clock is ahead of UTC (ns), on the same day of the week.

    So the demo shows the same whenever it is begun: at night nothing would be under way, and just
    before the departures of the day the same fault, strong enough to be felt at another hour, brings all to a
    standstill. Of an evening it is felt at its first departure and from then on less are under way.
    """
    return BEGINS_NS - now % DAY_NS


def going_on(seed: int, now: int, kind: str) -> Fault:
    return faults.make(SKERRY, kind, seed, Span(now - FAULT_MINUTES_AGO * MINUTE_NS, now + AHEAD_NS, ahead(now)))


def past(seed: int, now: int, days: float = DAYS) -> list[Fault]:
    found = []
    for kind, back, minutes in PAST:
        onset = now - HOURS * HOUR_NS - round(back * (days * DAY_NS - HOURS * HOUR_NS))
        found.append(faults.make(SKERRY, kind, seed, Span(onset, onset + minutes * MINUTE_NS, ahead(now))))
    return found


def make_history(seed: int, now: int, kind: str = GOING_ON, days: float = DAYS) -> Happenings:
    """What the demo begins with; the same for the same seed, moment and fault."""
    return everyday(seed, now, kind, days).add([going_on(seed, now, kind).happenings])


def everyday(seed: int, now: int, kind: str, days: float) -> Happenings:
    """All of it but the fault that goes on."""
    fault = going_on(seed, now, kind)
    recent, before = Span(now - HOURS * HOUR_NS, now + HALF_DAY_NS), Span(now - round(days * DAY_NS), now - HOURS * HOUR_NS)
    near = innocent.everyday(SKERRY, seed, recent, near=fault.truth.onset, spared=fault.truth.services)
    earlier = [innocent.everyday(SKERRY, seed + 1, before)] if before.end > before.onset else []
    return near.add([*earlier, *(one.happenings for one in past(seed, now, days) if days * DAY_NS > HOURS * HOUR_NS)])


def later(seed: int, now: int, kind: str) -> list[Happenings]:
    """Innocent things of the days that the live feed has yet to tell of."""
    spared = going_on(seed, now, kind).truth.services
    starts = range(now + HALF_DAY_NS, now + AHEAD_NS, HALF_DAY_NS)
    return [innocent.everyday(SKERRY, seed + 2 + n, Span(start, start + HALF_DAY_NS), spared=spared) for n, start in enumerate(starts)]
