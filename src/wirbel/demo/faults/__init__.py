"""What can go wrong in the demo world, each with its true cause."""

from __future__ import annotations

from wirbel.demo.faults import databases, innocent, machines, outside, releases, services
from wirbel.demo.faults.model import Fault, Make, Span, Truth

__all__ = ["FAULTS", "Fault", "Span", "Truth", "innocent", "make"]

FAULTS: dict[str, Make] = {
    "bad-deploy": releases.bad_deploy,
    "bad-canary": releases.bad_canary,
    "index-dropped": databases.index_dropped,
    "lock-contention": databases.lock_contention,
    "noisy-neighbour": machines.noisy_neighbour,
    "disk-full": machines.disk_full,
    "memory-leak": releases.memory_leak,
    "pool-too-small": services.pool_too_small,
    "leaked-connections": services.leaked_connections,
    "cache-lifetime": services.cache_lifetime,
    "provider-slow": outside.provider_slow,
    "provider-failing": outside.provider_failing,
    "zone-loss": machines.zone_loss,
    "flag": releases.flag,
    "load-surge": outside.load_surge,
    "expired-key": services.expired_key,
    "consumer-behind": services.consumer_behind,
    "silent-service": services.silent_service,
    "bot-flood": outside.bot_flood,
    "nothing-wrong": outside.nothing_wrong,
}
"""Every kind of fault by its name."""


def make(kind: str, seed: int, span: Span) -> Fault:
    """A fault of a kind with its parameters from a seed; the same for the same kind, seed and span."""
    import numpy as np

    return FAULTS[kind](np.random.default_rng([seed, list(FAULTS).index(kind)]), span)
