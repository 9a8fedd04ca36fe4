"""Faults that come with a new version or a flag."""

from __future__ import annotations

import numpy as np

from wirbel.demo.faults.model import MINUTE, SECOND, Fault, Span, Truth, change
from wirbel.demo.world.happenings import LogLines, Rollout
from wirbel.demo.world.topology import INSTANCES, ONE_PLACE, SELECT_PLACES, SERVICES


def _next(version: str) -> str:
    major, minor, _ = version.split(".")
    return f"{major}.{int(minor) + 1}.0"


def bad_deploy(rng: np.random.Generator, span: Span) -> Fault:
    """A new version asks the database for each place by itself instead of for all at once."""
    service, version = "berth-planner", _next(SERVICES["berth-planner"].version)
    deploy = change("deploy", span.onset, service, f"{service} {version}", version=version)
    fault = Fault(
        Truth(
            "bad-deploy",
            (("service", service), ("operation", f"{service} POST /places/reserve")),
            ("deploy", "more-calls"),
            (service,),
            deploy["id"],
            span.onset,
            span.end,
        )
    )
    many = float(rng.uniform(31, 35)) / span.load  # as heavy for the database at any hour
    for instance in range(len(INSTANCES[service])):
        later = Span(span.onset + instance * 20 * SECOND, span.end)
        fault.effect("calls", service, instance, SELECT_PLACES, span=later, times=many)
    # One place is found faster than all of them.
    fault.effect("time", "berth-db", SELECT_PLACES, span=span, times=0.3)
    fault.happenings.rollouts.append(Rollout(service, version, span.onset, ends=span.end))
    fault.happenings.instead[service, SELECT_PLACES] = ONE_PLACE
    fault.happenings.changes.append(deploy)
    fault.restarted("quay-web", span.onset + 21 * MINUTE)
    return fault.told_late(rng)


def bad_canary(rng: np.random.Generator, span: Span) -> Fault:
    """A version on trial on one instance is slow."""
    service = str(rng.choice(["sailing-api", "berth-planner", "pass-issuer"]))
    number = int(rng.integers(len(INSTANCES[service])))
    name, version = INSTANCES[service][number].name, _next(SERVICES[service].version)
    deploy = change("deploy", span.onset, service, f"{service} {version} on trial", version=version, entity={"service.instance.id": name})
    fault = Fault(
        Truth("bad-canary", (("instance", name), ("service", service)), ("deploy", "slower-work", "waiting"), (service,), deploy["id"], span.onset, span.end)
    )
    fault.effect("work", service, number, span=span, times=float(rng.uniform(3.9, 4.8)) / span.load)
    fault.happenings.rollouts.append(Rollout(service, version, span.onset, only=(number,), ends=span.end))
    fault.happenings.changes.append(deploy)
    return fault


def memory_leak(rng: np.random.Generator, span: Span) -> Fault:
    """A version keeps what it should let go: memory fills, collecting takes ever longer, restarts help for a while."""
    service = str(rng.choice(["berth-planner", "sailing-api"]))
    version = _next(SERVICES[service].version)
    fills_s = float(rng.uniform(1500, 2100))
    deployed = span.onset - round(0.75 * fills_s) * SECOND
    deploy = change("deploy", deployed, service, f"{service} {version}", version=version)
    fault = Fault(Truth("memory-leak", (("service", service),), ("memory", "deploy"), (service,), deploy["id"], span.onset, span.end))
    leak = 0.7 * SERVICES[service].memory_mb
    restart = span.onset + 35 * MINUTE
    for instance in range(len(INSTANCES[service])):
        fault.effect("memory", service, instance, span=Span(deployed, min(restart, span.end)), plus=leak, form="ramp", rise_s=fills_s)
        if restart < span.end:
            fault.effect("memory", service, instance, span=Span(restart, span.end), plus=leak, form="ramp", rise_s=fills_s)
    fault.happenings.rollouts.append(Rollout(service, version, deployed, ends=span.end))
    fault.happenings.lines.append(LogLines(service, "WARN", "collection took {ms} ms, {percent} % of memory in use", 0.5, span.onset, span.end))
    fault.happenings.changes.append(deploy)
    return fault.restarted(service, restart, "m.holm")


def flag(rng: np.random.Generator, span: Span) -> Fault:
    """A flag lets one version of the app ask for each sailing again."""
    version = str(rng.choice(["7.4", "7.3"]))
    made = change(
        "flag",
        span.onset,
        "quay-web",
        f"live places on for app {version}",
        before={"live-places": False, "app": version},
        after={"live-places": True, "app": version},
        actor="a.lund",
    )
    entities = (("attribute", "app.version"), ("attribute", version), ("service", "quay-web"))
    fault = Fault(Truth("flag", entities, ("config", "more-calls"), ("quay-web",), made["id"], span.onset, span.end))
    fault.effect("app calls", version, span=span, times=float(rng.uniform(4, 5.5)))
    fault.happenings.changes.append(made)
    return fault
