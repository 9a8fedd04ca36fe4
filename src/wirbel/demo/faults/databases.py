"""Faults inside databases."""

from __future__ import annotations

import numpy as np

from wirbel.demo.faults.model import MINUTE, Fault, Span, Truth, change
from wirbel.demo.world.happenings import LogLines

BOOKING = "SELECT passenger, vehicle FROM booking WHERE sailing = $1"
TAKE_PLACE = "UPDATE deck_place SET taken_by = $1 WHERE place = $2"


def index_dropped(rng: np.random.Generator, span: Span) -> Fault:
    """A migration of the passenger list drops an index that a query needs."""
    migration = change(
        "migration",
        span.onset,
        "manifest",
        "0047_booking_cleanup",
        entity={"db.name": "manifest-db"},
        before={"index": "booking_sailing"},
        after={"index": None},
    )
    entities = (("database", "manifest-db"),)
    fault = Fault(Truth("index-dropped", entities, ("slower-work", "config", "saturation"), ("manifest",), migration["id"], span.onset, span.end))
    fault.effect("time", "manifest-db", BOOKING, span=span, times=float(rng.uniform(4, 4.8)))
    fault.effect("misses", "manifest-db", span=span, plus=float(rng.uniform(0.04, 0.08)), form="ramp", rise_s=240)
    fault.happenings.changes.append(migration)
    fault.restarted("berth-planner", span.onset + 18 * MINUTE)
    fault.happenings.lines.append(LogLines("manifest", "WARN", "slow query: {ms} ms: SELECT passenger, vehicle FROM booking", 0.6, span.onset, span.end))
    return fault


def lock_contention(rng: np.random.Generator, span: Span) -> Fault:
    """A clean-up job keeps rows locked that reservations want to write."""
    job = change("job", span.onset, None, "clean-up of old holds", until=span.end, entity={"db.name": "berth-db"}, actor="scheduler")
    fault = Fault(
        Truth("lock-contention", (("database", "berth-db"),), ("lock", "waiting", "slower-work"), ("berth-planner",), job["id"], span.onset, span.end)
    )
    fault.effect("lock", "berth-db", TAKE_PLACE, span=span, plus=float(rng.uniform(0.12, 0.2)), form="intermittent" if rng.random() < 0.4 else "step")
    fault.happenings.changes.append(job)
    fault.happenings.lines.append(LogLines("berth-planner", "WARN", "waited {ms} ms for a row lock on deck_place", 0.8, span.onset, span.end))
    return fault
