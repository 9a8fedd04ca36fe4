"""What can go wrong in the demo world, each with its true cause and what people do about it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from wirbel.demo.faults import databases, innocent, machines, outside, releases, services
from wirbel.demo.faults.model import Fault, Make, Span, Truth

__all__ = ["FAULTS", "Fault", "Kind", "Remedy", "Span", "Truth", "innocent", "make"]


@dataclass(frozen=True)
class Remedy:
    """What is done about a fault, as which kind of change, of which service (None: the one at fault)."""

    what: str
    kind: str
    service: str | None = None


@dataclass(frozen=True)
class Kind:
    """A kind of fault; ``seed`` tells its random numbers from the others', and stays what it is wherever it stands."""

    make: Make
    seed: int
    remedy: Remedy | None = None

    @property
    def about(self) -> str:
        return (self.make.__doc__ or "").strip()


YESTERDAY = Remedy("answer from yesterday's tides", "config", "tide-feed")
FAULTS: dict[str, Kind] = {
    "bad-deploy": Kind(releases.bad_deploy, 0, Remedy("roll back", "rollback", "berth-planner")),
    "bad-canary": Kind(releases.bad_canary, 1, Remedy("end the trial", "rollback")),
    "index-dropped": Kind(databases.index_dropped, 2, Remedy("make the index again", "migration", "manifest")),
    "lock-contention": Kind(databases.lock_contention, 3, Remedy("stop the clean-up job", "manual")),
    "noisy-neighbour": Kind(machines.noisy_neighbour, 4, Remedy("move the other tenant", "manual")),
    "disk-full": Kind(machines.disk_full, 5, Remedy("free the disk", "manual")),
    "memory-leak": Kind(releases.memory_leak, 6, Remedy("roll back", "rollback")),
    "pool-too-small": Kind(services.pool_too_small, 7, Remedy("raise the pool", "config", "berth-planner")),
    "leaked-connections": Kind(services.leaked_connections, 8, Remedy("roll back", "rollback")),
    "cache-lifetime": Kind(services.cache_lifetime, 9, Remedy("keep fares as long as before", "config", "fare-engine")),
    "provider-slow": Kind(outside.provider_slow, 10, YESTERDAY),
    "provider-failing": Kind(outside.provider_failing, 11, YESTERDAY),
    "zone-loss": Kind(machines.zone_loss, 12, Remedy("route around the zone", "manual")),
    "flag": Kind(releases.flag, 13, Remedy("turn the flag off", "flag", "quay-web")),
    "load-surge": Kind(outside.load_surge, 14),
    "expired-key": Kind(services.expired_key, 15, Remedy("put a new key in place", "config", "pass-issuer")),
    "consumer-behind": Kind(services.consumer_behind, 16, Remedy("restart the consumer", "restart")),
    "silent-service": Kind(services.silent_service, 17, Remedy("restart it", "restart")),
    "bot-flood": Kind(outside.bot_flood, 18, Remedy("refuse the visitor at the door", "config", "quay-web")),
    "nothing-wrong": Kind(outside.nothing_wrong, 19),
}
"""Every kind of fault by its name."""


def make(kind: str, seed: int, span: Span) -> Fault:
    """A fault of a kind with its parameters from a seed; the same for the same kind, seed and span."""
    return FAULTS[kind].make(np.random.default_rng([seed, FAULTS[kind].seed]), span)
