"""Faults of hosts and of what connects them."""

from __future__ import annotations

import numpy as np

from wirbel.demo.faults.model import MINUTE, Fault, Span, Truth, change
from wirbel.demo.world.happenings import LogLines
from wirbel.demo.world.state import USUAL_DISK
from wirbel.demo.world.topology import BACKENDS, CORES, DISK_GB, HOSTS


def noisy_neighbour(rng: np.random.Generator, span: Span) -> Fault:
    """Something else on a host takes its processors."""
    host = str(rng.choice(["islet-1", "islet-3"]))
    entities = (("host", host),)
    fault = Fault(Truth("noisy-neighbour", entities, ("saturation", "slower-work"), (), None, span.onset, span.end))
    fault.effect("cpu", host, span=span, plus=CORES * float(rng.uniform(0.5, 0.58)))
    return fault


def disk_full(rng: np.random.Generator, span: Span) -> Fault:
    """Logging set to write everything fills the disk of a database's host: at last nothing can be written."""
    host = "islet-5"
    fills_s = float(rng.uniform(1800, 3000))
    changed = span.onset - round(fills_s) * 10**9
    config = change("config", changed, "tide-feed", "log level", before={"log.level": "info"}, after={"log.level": "trace"}, actor="m.holm")
    databases = tuple(("database", b.name) for b in BACKENDS.values() if b.host == host)
    entities = (("host", host), *databases)
    fault = Fault(Truth("disk-full", entities, ("disk", "errors", "config"), ("tide-feed", "manifest", "pass-issuer"), config["id"], span.onset, span.end))
    fault.effect("disk", host, span=Span(changed, span.end), plus=DISK_GB * (1 - USUAL_DISK) + 0.5, form="ramp", rise_s=fills_s)
    fault.happenings.changes.append(config)
    fault.happenings.lines += [
        LogLines("tide-feed", "DEBUG", "harbour {id} read {count} of {count} levels from cache", 3.0, changed, span.end),
        LogLines("manifest", "ERROR", "could not extend file base/16401/{id}: No space left on device", 0.5, span.onset, span.end),
    ]
    return fault


def zone_loss(rng: np.random.Generator, span: Span) -> Fault:
    """Packets to and from one zone are lost."""
    zone = str(rng.choice(sorted(set(HOSTS.values()))))
    fault = Fault(Truth("zone-loss", (("zone", zone),), ("network",), (), None, span.onset, span.end))
    fault.effect("loss", zone, span=span, plus=float(rng.uniform(0.03, 0.06)), form="intermittent" if rng.random() < 0.3 else "step")
    fault.happenings.changes.append(
        change("maintenance", span.onset - 12 * MINUTE, None, f"fibre work near zone {zone} announced", until=span.end, actor="network team")
    )
    return fault
