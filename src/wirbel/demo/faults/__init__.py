"""What can go wrong in a world, each with its true cause and what people do about it."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from wirbel.core.errors import WirbelError
from wirbel.demo.faults import databases, innocent, machines, outside, releases, services, sites
from wirbel.demo.faults.model import Build, Case, Fault, Site, Sites, Span, Truth
from wirbel.demo.faults.strength import BEHIND, FELT, LASTS, Aim
from wirbel.demo.world.topology import Topology

__all__ = ["FAULTS", "Fault", "Kind", "NoSuchPlace", "Remedy", "Span", "Truth", "innocent", "make"]
MOST_SITES = 6  # that are tried


class NoSuchPlace(WirbelError):
    """A world has no place at which a kind of fault would be felt."""


@dataclass(frozen=True)
class Remedy:
    """What is done about a fault, as which kind of change of the service at fault."""

    what: str
    kind: str


@dataclass(frozen=True)
class Kind:
    """A kind of fault; ``seed`` tells its random numbers from the others', and stays what it is wherever it stands.

    Without an ``aim`` it is as strong as it can be.
    """

    build: Build
    sites: Sites
    seed: int
    remedy: Remedy | None = None
    aim: Aim | None = FELT

    @property
    def about(self) -> str:
        return (self.build.__doc__ or "").strip()


FAULTS: dict[str, Kind] = {
    "bad-deploy": Kind(releases.bad_deploy, sites.reads, 0, Remedy("roll back", "rollback")),
    "bad-canary": Kind(releases.bad_canary, sites.several_instances, 1, Remedy("end the trial", "rollback")),
    "index-dropped": Kind(databases.index_dropped, sites.reads, 2, Remedy("make the index again", "migration")),
    "lock-contention": Kind(databases.lock_contention, sites.writes, 3, Remedy("stop the clean-up job", "manual")),
    "noisy-neighbour": Kind(machines.noisy_neighbour, sites.hosts, 4, Remedy("move the other tenant", "manual")),
    "disk-full": Kind(machines.disk_full, sites.written_disks, 5, Remedy("free the disk", "manual"), aim=None),
    "memory-leak": Kind(releases.memory_leak, sites.managed, 6, Remedy("roll back", "rollback")),
    "pool-too-small": Kind(services.pool_too_small, sites.pools, 7, Remedy("raise the pool", "config")),
    "leaked-connections": Kind(services.leaked_connections, sites.pools, 8, Remedy("roll back", "rollback")),
    "cache-lifetime": Kind(services.cache_lifetime, sites.cached, 9, Remedy("keep entries as long as before", "config")),
    "provider-slow": Kind(outside.provider_slow, sites.providers, 10, Remedy("answer from what was last known", "config")),
    "provider-failing": Kind(outside.provider_failing, sites.providers, 11, Remedy("answer from what was last known", "config")),
    "zone-loss": Kind(machines.zone_loss, sites.zones, 12, Remedy("route around the zone", "manual")),
    "flag": Kind(releases.flag, sites.app_calls, 13, Remedy("turn the flag off", "flag")),
    "load-surge": Kind(outside.load_surge, sites.apps, 14),
    "expired-key": Kind(services.expired_key, sites.inner_services, 15, Remedy("put a new key in place", "config")),
    "consumer-behind": Kind(services.consumer_behind, sites.consumers, 16, Remedy("restart the consumer", "restart"), aim=BEHIND),
    "silent-service": Kind(services.silent_service, sites.consumers, 17, Remedy("restart it", "restart"), aim=None),
    "bot-flood": Kind(outside.bot_flood, sites.app_entries, 18, Remedy("refuse the visitor at the door", "config")),
    "slow-release": Kind(releases.slow_release, sites.services, 20, Remedy("roll back", "rollback")),
    "failing-release": Kind(releases.failing_release, sites.services, 21, Remedy("roll back", "rollback")),
    "runaway-instance": Kind(services.runaway_instance, sites.several_instances, 22, Remedy("restart the instance", "restart")),
    "failing-instance": Kind(services.failing_instance, sites.several_instances, 23, Remedy("restart the instance", "restart")),
    "slow-disk": Kind(machines.slow_disk, sites.database_hosts, 24, Remedy("stop what reads", "manual")),
    "database-slow": Kind(databases.database_slow, sites.databases, 25, Remedy("restart the database", "restart")),
    "app-failing": Kind(outside.app_failing, sites.apps, 26, Remedy("accept the old form again", "config")),
    "nothing-wrong": Kind(outside.nothing_wrong, sites.anywhere, 19, aim=None),
}
"""Every kind of fault by its name."""


@lru_cache(maxsize=256)
def make(topology: Topology, kind: str, seed: int, span: Span) -> Fault:
    """A fault of a kind at a place and with parameters from a seed, strong enough to be felt; the same for the same arguments.

    Raises NoSuchPlace if it would not be felt anywhere.
    """
    rng = np.random.default_rng([seed, FAULTS[kind].seed])
    for number, site in enumerate(_sites(topology, kind, rng)):
        fault = _at(topology, kind, [seed, FAULTS[kind].seed, number], span, site)
        if fault:
            return fault
    raise NoSuchPlace(f"{kind} would be felt nowhere in the world {topology.name}.")


def _sites(topology: Topology, kind: str, rng: np.random.Generator) -> list[Site]:
    """Some places where a kind can strike, in no order."""
    found = FAULTS[kind].sites(topology)
    told = set(topology.story.get(kind, ()))
    found = [site for site in found if not told or site.names & told]
    return [found[n] for n in rng.permutation(len(found))[:MOST_SITES]]


def _at(topology: Topology, kind: str, seed: list[int], span: Span, site: Site) -> Fault | None:
    # As strong as one that lasts for an hour would be, so that it is the same fault however soon it is ended.
    whole = Span(span.onset, span.onset + LASTS, span.ahead)

    def build(strength: float, span: Span = whole) -> Fault:
        return FAULTS[kind].build(Case(topology, span, site, strength, np.random.default_rng(seed)))

    aim = FAULTS[kind].aim
    strength = aim.strength(build, np.random.default_rng([*seed, 1])) if aim else 1.0
    return None if strength is None else build(strength, span)
