"""Faults of how services are set up and run."""

from __future__ import annotations

import numpy as np

from wirbel.demo.faults.model import MINUTE, SECOND, Fault, Span, Truth, change
from wirbel.demo.world.happenings import LogLines, Rollout
from wirbel.demo.world.topology import INSTANCES, SERVICES


def pool_too_small(rng: np.random.Generator, span: Span) -> Fault:
    """A configuration change leaves each instance too few connections."""
    service, backend = "berth-planner", "berth-db"
    size = SERVICES[service].pool
    config = change("config", span.onset, service, "database connections", before={"pool.size": size}, after={"pool.size": 1}, actor="k.dahl")
    fault = Fault(Truth("pool-too-small", (("service", service),), ("config", "waiting", "saturation"), (service,), config["id"], span.onset, span.end))
    fault.effect("pool", service, backend, span=span, times=1 / size)
    # The same change took away the prepared statements that the large pool kept.
    fault.effect("time", backend, "SELECT count(*) FROM deck_place WHERE sailing = $1", span=span, times=float(rng.uniform(1.55, 1.7)) / span.load)
    fault.happenings.changes.append(config)
    fault.happenings.lines.append(LogLines(service, "WARN", "waited {ms} ms for a connection to berth-db (pool of 1 in use)", 1.2, span.onset, span.end))
    return fault


def leaked_connections(rng: np.random.Generator, span: Span) -> Fault:
    """A version forgets to give connections back when a request is refused: fewer and fewer are left."""
    service, backend = str(rng.choice(["berth-planner", "pass-issuer"])), ""
    backend = {"berth-planner": "berth-db", "pass-issuer": "manifest-db"}[service]
    version = SERVICES[service].version.rsplit(".", 1)[0] + ".9"
    leaks_s = float(rng.uniform(1200, 1800))
    deployed = span.onset - round(0.8 * leaks_s) * SECOND
    deploy = change("deploy", deployed, service, f"{service} {version}", version=version)
    fault = Fault(Truth("leaked-connections", (("service", service),), ("waiting", "saturation", "deploy"), (service,), deploy["id"], span.onset, span.end))
    for instance in range(len(INSTANCES[service])):
        rise = leaks_s * float(rng.uniform(0.9, 1.1))
        fault.effect("leaked", service, instance, backend, span=Span(deployed, span.end), plus=SERVICES[service].pool - 0.9, form="ramp", rise_s=rise)
    # With the last connections it holds transactions open that should have ended.
    for number in range(len(INSTANCES[service])):
        fault.effect("work", service, number, span=span, times=1.5)
    fault.happenings.rollouts.append(Rollout(service, version, deployed, ends=span.end))
    fault.happenings.changes.append(deploy)
    fault.restarted("quay-web", span.onset + 24 * MINUTE)
    return fault


def cache_lifetime(rng: np.random.Generator, span: Span) -> Fault:
    """Fares are kept for seconds instead of minutes: most look-ups go to the database."""
    config = change("config", span.onset, "fare-engine", "lifetime of cached fares", before={"fares.ttl_s": 900}, after={"fares.ttl_s": 5}, actor="k.dahl")
    entities = (("service", "fare-engine"), ("database", "timetable-cache"))
    fault = Fault(Truth("cache-lifetime", entities, ("cache", "config", "more-calls"), ("fare-engine",), config["id"], span.onset, span.end))
    fault.effect("hits", "timetable-cache", span=span, times=float(rng.uniform(0.02, 0.1)), form="ramp", rise_s=120)
    fault.happenings.changes.append(config)
    fault.restarted("berth-planner", span.onset + 26 * MINUTE)
    return fault


def expired_key(rng: np.random.Generator, span: Span) -> Fault:
    """A signing key expires: passes can be neither made nor checked. Nothing was changed."""
    fault = Fault(Truth("expired-key", (("service", "pass-issuer"),), ("errors", "config"), ("pass-issuer",), None, span.onset, span.end))
    share = float(rng.uniform(0.5, 0.9))
    fault.effect("failing", "pass-issuer POST /passes/check", span=span, plus=share)
    fault.effect("failing", "pass-issuer POST /passes", span=span, plus=share * 0.8)
    fault.happenings.lines.append(LogLines("pass-issuer", "ERROR", "cannot sign pass {id}: key harbour-3 expired", 2.0, span.onset, span.end))
    # People restart what shows the errors, and devices that gave up come back all at once.
    fault.restarted("gate-api", span.onset + 9 * MINUTE).restarted("gate-api", span.onset + 22 * MINUTE, "m.holm")
    fault.effect("load", "gate-api POST /scans", span=Span(span.end, span.end + 12 * MINUTE), times=1.8)
    return fault


def consumer_behind(rng: np.random.Generator, span: Span) -> Fault:
    """A consumer takes longer for a message than messages come: they wait for ever longer."""
    service = str(rng.choice(["notice-fanout", "vessel-track"]))
    factor = {"notice-fanout": 210.0, "vessel-track": 60.0}[service] * float(rng.uniform(1.0, 1.25))
    fault = Fault(
        Truth("consumer-behind", (("service", service),), ("saturation", "slower-work", "waiting"), (service,), None, span.onset, span.end, hurts=False)
    )
    fault.effect("speed", service, span=span, times=factor)
    fault.happenings.lines.append(LogLines(service, "WARN", "messages are {count} behind", 0.2, span.onset, span.end))
    return fault


def silent_service(rng: np.random.Generator, span: Span) -> Fault:
    """A consumer hangs: it does nothing and says nothing."""
    service = str(rng.choice(["notice-fanout", "vessel-track"]))
    fault = Fault(Truth("silent-service", (("service", service),), ("absence",), (service,), None, span.onset, span.end, hurts=False))
    fault.effect("silent", service, span=span, plus=1.0)
    entry = {"notice-fanout": "notice-fanout CONSUME notices", "vessel-track": "vessel-track CONSUME positions"}[service]
    # What was kept for it comes all at once when it runs again.
    fault.effect("load", entry, span=Span(span.end, span.end + 15 * MINUTE), times=float(rng.uniform(2.0, 3.0)))
    return fault
