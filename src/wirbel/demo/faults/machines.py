"""Faults of hosts and of what connects them."""

from __future__ import annotations

from wirbel.demo.faults.model import MINUTE, SECOND, Case, Fault, Span, Truth, change
from wirbel.demo.world.state import USUAL_DISK
from wirbel.demo.world.topology import CORES, DISK_GB


def noisy_neighbour(case: Case) -> Fault:
    """Something else on a host takes its processors."""
    host, span = case.site.host, case.span
    fault = Fault(case, Truth("noisy-neighbour", (("host", host),), ("saturation", "slower-work"), (), None, span.onset, span.end))
    return fault.effect("cpu", host, plus=CORES * case.between(0.25, 1.6))


def disk_full(case: Case) -> Fault:
    """Logging set to write everything fills the disk of a database's host: at last nothing can be written."""
    topology, site, span = case.topology, case.site, case.span
    fills_s = float(case.rng.uniform(1800, 3000))
    changed = span.onset - round(fills_s) * SECOND
    config = change("config", changed, site.service, "log level", before={"log.level": "info"}, after={"log.level": "trace"}, actor="m.holm")
    here = [backend.name for backend in topology.backends.values() if backend.host == site.host and backend.kind == "database"]
    writers = sorted({o.service for o in topology.operations.values() for call in o.calls if call.to in here and not call.statement.startswith("SELECT")})
    entities = (("host", site.host), *(("database", name) for name in here))
    mechanisms = ("disk", "errors", "config")
    fault = Fault(case, Truth("disk-full", entities, mechanisms, (site.service, *writers), config["id"], span.onset, span.end))
    fault.effect("disk", site.host, span=Span(changed, span.end), plus=DISK_GB * (1 - USUAL_DISK) + 0.5, form="ramp", rise_s=fills_s)
    fault.happenings.changes.append(config)
    fault.says(site.service, "DEBUG", "entry {id} read {count} of {count} values from cache", 3.0, changed)
    for writer in writers[:1]:
        fault.says(writer, "ERROR", "could not extend file base/16401/{id}: No space left on device", 0.5)
    return fault


def slow_disk(case: Case) -> Fault:
    """Something reads a database's disk to and fro: what is not in memory waits."""
    host, span = case.site.host, case.span
    here = [backend.name for backend in case.topology.backends.values() if backend.host == host and backend.kind == "database"]
    entities = (("host", host), *(("database", name) for name in here))
    fault = Fault(case, Truth("slow-disk", entities, ("disk", "saturation", "slower-work"), (), None, span.onset, span.end))
    return fault.effect("io", host, plus=case.between(0.1, 0.9))


def zone_loss(case: Case) -> Fault:
    """Packets to and from one zone are lost."""
    zone, span, rng = case.site.zone, case.span, case.rng
    # Of two zones between which packets are lost, nobody can tell which loses them.
    zones = case.topology.zones if len(case.topology.zones) == 2 else [zone]
    fault = Fault(case, Truth("zone-loss", tuple(("zone", name) for name in zones), ("network",), (), None, span.onset, span.end))
    fault.effect("loss", zone, plus=case.between(0.004, 0.12), form="intermittent" if rng.random() < 0.3 else "step")
    told = change("maintenance", span.onset - 12 * MINUTE, None, f"fibre work near zone {zone} announced", until=span.end, actor="network team")
    fault.happenings.changes.append(told)
    return fault
