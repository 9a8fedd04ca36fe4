"""What happens every day and does no harm: deploys, scaling, a job, a restart, and small things that move by themselves."""

from __future__ import annotations

import numpy as np

from wirbel.demo.faults.model import MINUTE, Span, as_name, change, restart_by_hand, scaled_down
from wirbel.demo.world.conditions import Effect, Shape
from wirbel.demo.world.happenings import Happenings, Rollout
from wirbel.demo.world.topology import Topology

SCALED_DOWN_NS = 45 * MINUTE
DEPLOYS_A_DAY = 14
OTHERS_A_DAY = 9
NEW_YEAR = 20_454 * 24 * 3600 * 10**9  # 2026-01-01, ns


def everyday(topology: Topology, seed: int, span: Span, near: int | None = None, spared: tuple[str, ...] = ()) -> Happenings:
    """Innocent happenings of a stretch; with ``near`` (ns) also some that come just before or after that moment.

    Services in ``spared`` are left alone, so that what is said of them stays true.
    """
    rng = np.random.default_rng([seed, 77])
    found = Happenings()
    names = [name for name in topology.services if name not in spared]
    days = (span.end - span.onset) / (24 * 3600e9)
    moments = list(rng.uniform(span.onset, span.end, rng.poisson(DEPLOYS_A_DAY * days)))
    if near is not None:
        moments += [near - rng.uniform(3, 15) * MINUTE, near + rng.uniform(2, 8) * MINUTE]
    for moment in sorted(moments):
        service = str(rng.choice(names))
        version = _patch(topology.services[service].version, int(moment))
        found.rollouts.append(Rollout(service, version, int(moment)))
        found.changes.append(change("deploy", int(moment), service, f"{service} {version}", version=version))
    for moment in rng.uniform(span.onset, span.end, rng.poisson(OTHERS_A_DAY * days) + 1):
        _small_thing(topology, rng, int(moment), str(rng.choice(names)), found)
    return found


def _patch(version: str, at: int) -> str:
    """A version that comes after all that were deployed before ``at``: counted in stretches of three hours since 2026."""
    major, minor, _ = version.split(".")
    return f"{major}.{minor}.{(at - NEW_YEAR) // (3 * 3600 * 10**9)}"


def _small_thing(topology: Topology, rng: np.random.Generator, at: int, service: str, found: Happenings) -> None:
    which = int(rng.integers(4))
    if which == 0:
        scaled = scaled_down(topology, service, at, at + SCALED_DOWN_NS)
        found.changes += scaled.changes
        found.effects += scaled.effects
    elif which == 1:
        until = at + int(rng.uniform(12, 30)) * MINUTE
        host = list(topology.hosts)[-2]
        found.changes.append(change("job", at, None, "archive of past days", until=until, entity={"host.name": host}, actor="scheduler"))
        found.effects.append(Effect(as_name(("cpu", host)), Shape(at, until), plus=0.7))
        found.effects.append(Effect(as_name(("io", host)), Shape(at, until), plus=0.15))
    elif which == 2:
        restart = restart_by_hand(topology, service, at)
        found.changes += restart.changes
        found.effects += restart.effects
    else:
        found.changes.append(change("config", at, service, "retry back-off", before={"retry.first_s": 1}, after={"retry.first_s": 2}, actor="m.holm"))
