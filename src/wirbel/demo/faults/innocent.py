"""What happens every day and does no harm: deploys, scaling, a job, a restart, and small things that move by themselves.

It happens to what is at fault too, as often as elsewhere: a change there is not guilty by being there.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from wirbel.demo.faults.model import MINUTE, Fault, Span, as_name, change, restart_by_hand, scaled_down
from wirbel.demo.world.conditions import Effect, Shape
from wirbel.demo.world.happenings import Happenings, LogLines, Rollout
from wirbel.demo.world.topology import Topology

SCALED_DOWN_NS = 45 * MINUTE
DEPLOYS_A_DAY = 14
OTHERS_A_DAY = 9
NEW_YEAR = 20_454 * 24 * 3600 * 10**9  # 2026-01-01, ns
OF_A_CULPRIT = 1.5  # innocent changes of each culprit in the hours around an onset, in the mean
NEAREST, FARTHEST = 5 * MINUTE, 160 * MINUTE  # before the onset
LATER = 0.25  # of them come after it
LATEST = 20 * MINUTE
NEW_LINES = (  # what a new version may say that the one before did not
    ("INFO", "option {id} is read from the environment now"),
    ("INFO", "loaded {count} settings in {ms} ms"),
    ("WARN", "option {id} is no longer used"),
    ("WARN", "entry {id} has an old form"),
)
OF_SERVICES = ("deploy", "deploy", "config", "flag", "restart", "migration", "manual")
OF_PLACES = ("job", "config", "manual")
SETTINGS = (("request.size_max", 4096, 8192), ("log.sample", 0.1, 0.2), ("greeting", "short", "long"), ("retry.first_s", 1, 2))


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
        _deploy(topology, rng, int(moment), str(rng.choice(names)), span.end, found)
    for moment in rng.uniform(span.onset, span.end, rng.poisson(OTHERS_A_DAY * days) + 1):
        _small_thing(topology, rng, int(moment), str(rng.choice(names)), found)
    return found


def upon(fault: Fault, seed: int, until: int) -> Happenings:
    """Innocent changes of what is at fault, before and after it began; they are told of, and nothing comes of them.

    Where the fault came with a roll-out, no later version takes its place: it would end the fault.
    """
    topology, onset = fault.case.topology, fault.truth.onset
    rng = np.random.default_rng([seed, 78, *fault.truth.kind.encode()])
    found = Happenings()
    released = {rollout.service: rollout.begins for rollout in fault.happenings.rollouts}
    for kind, name in _culprits(fault):
        for _ in range(rng.poisson(OF_A_CULPRIT)):
            at = onset - round(float(np.exp(rng.uniform(np.log(NEAREST), np.log(FARTHEST)))))
            if rng.random() < LATER:
                at = onset + round(float(rng.uniform(MINUTE, LATEST)))
            what = str(rng.choice(OF_SERVICES if kind == "service" else OF_PLACES))
            if what == "deploy" and at < released.get(name, until):
                _deploy(topology, rng, at, name, until, found)
            elif what == "restart":
                restarted = restart_by_hand(topology, name, at)
                found = found.add([restarted])
            else:
                found.changes.append(_harmless("config" if what == "deploy" else what, rng, at, kind, name))
    return found


def _culprits(fault: Fault) -> Sequence[tuple[str, str]]:
    """Services, databases and hosts at fault, each once; of what has none of these, who people would look at."""
    known = fault.case.topology
    named = [("service", name) for name in fault.truth.services if name in known.services]
    named += [(kind, name) for kind, name in fault.truth.entities if kind in ("database", "host")]
    return list(dict.fromkeys(named))


def _harmless(what: str, rng: np.random.Generator, at: int, kind: str, name: str) -> dict[str, object]:
    key = {"host": "host.name", "database": "server.address"}.get(kind)
    setting, before, after = SETTINGS[int(rng.integers(len(SETTINGS)))]
    more: dict[str, object] = {"entity": {key: name}} if key else {}
    if what in ("config", "flag"):
        more |= {"before": {setting: before}, "after": {setting: after}}
    if what == "job":
        more["until"] = at + round(float(rng.uniform(5, 25))) * MINUTE
    return change(what, at, name if kind == "service" else None, f"{what} of {name}: {setting}", **more)


def _deploy(topology: Topology, rng: np.random.Generator, at: int, service: str, until: int, found: Happenings) -> None:
    """A version that works as the one before; half of them say something new."""
    version = _patch(topology.services[service].version, at)
    found.rollouts.append(Rollout(service, version, at))
    found.changes.append(change("deploy", at, service, f"{service} {version}", version=version))
    if rng.random() < 0.5:
        severity, template = NEW_LINES[int(rng.integers(len(NEW_LINES)))]
        found.lines.append(LogLines(service, severity, template, float(np.exp(rng.uniform(np.log(0.02), np.log(2)))), at, until))


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
