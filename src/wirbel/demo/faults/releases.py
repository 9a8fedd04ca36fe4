"""Faults that come with a new version or a flag."""

from __future__ import annotations

from wirbel.demo.faults.model import MINUTE, SECOND, Case, Fault, Span, Truth, a_front, change, next_version, release
from wirbel.demo.world.happenings import Rollout


def bad_deploy(case: Case) -> Fault:
    """A new version asks the database for each row by itself instead of for all at once."""
    site, topology, span = case.site, case.topology, case.span
    service = site.service
    deploy, rollout = release(case, span.onset)
    entities = (("service", service), ("operation", site.operation))
    fault = Fault(case, Truth("bad-deploy", entities, ("deploy", "more-calls"), (service,), deploy["id"], span.onset, span.end))
    for instance in range(len(topology.instances[service])):
        fault.effect("calls", service, instance, site.statement, span=Span(span.onset + instance * 20 * SECOND, span.end), times=case.between(6, 120))
    # One row is found faster than all of them.
    fault.effect("time", site.backend, site.statement, times=0.3)
    fault.happenings.rollouts.append(rollout)
    fault.happenings.instead[service, site.statement] = f"{site.statement} AND id = $2"
    fault.happenings.changes.append(deploy)
    return fault.restarted(a_front(case), span.onset + 21 * MINUTE).told_late()


def bad_canary(case: Case) -> Fault:
    """A version on trial on one instance is slow."""
    topology, span, service = case.topology, case.span, case.site.service
    number = int(case.rng.integers(len(topology.instances[service])))
    name, version = topology.instances[service][number].name, next_version(topology, service)
    deploy = change("deploy", span.onset, service, f"{service} {version} on trial", version=version, entity={"service.instance.id": name})
    entities, mechanisms = (("instance", name), ("service", service)), ("deploy", "slower-work", "waiting")
    fault = Fault(case, Truth("bad-canary", entities, mechanisms, (service,), deploy["id"], span.onset, span.end))
    fault.effect("work", service, number, times=case.between(2, 25))
    fault.happenings.rollouts.append(Rollout(service, version, span.onset, only=(number,), ends=span.end))
    fault.happenings.changes.append(deploy)
    return fault


def _release(case: Case, kind: str, mechanisms: tuple[str, ...]) -> Fault:
    """A new version on all instances, one after the other; what it does is up to the caller."""
    span, service = case.span, case.site.service
    deploy, rollout = release(case, span.onset)
    fault = Fault(case, Truth(kind, (("service", service),), mechanisms, (service,), deploy["id"], span.onset, span.end))
    fault.happenings.rollouts.append(rollout)
    fault.happenings.changes.append(deploy)
    return fault


def slow_release(case: Case) -> Fault:
    """A new version takes longer for all it does."""
    fault = _release(case, "slow-release", ("deploy", "slower-work", "saturation"))
    for instance in range(len(case.topology.instances[case.site.service])):
        fault.effect("work", case.site.service, instance, times=case.between(1.5, 15))
    return fault


def failing_release(case: Case) -> Fault:
    """A new version fails at some of what it is asked."""
    fault = _release(case, "failing-release", ("deploy", "errors"))
    for operation in case.topology.of_service(case.site.service):
        fault.effect("failing", operation.key, plus=case.between(0.05, 0.9))
    return fault.says(case.site.service, "ERROR", "entry {id}: unexpected value of kind {count}", 1.0)


def memory_leak(case: Case) -> Fault:
    """A version keeps what it should let go: memory fills, collecting takes ever longer, restarts help for a while."""
    topology, span, service = case.topology, case.span, case.site.service
    fills_s = float(case.rng.uniform(1500, 2100))
    deployed = span.onset - round(0.75 * fills_s) * SECOND
    deploy, rollout = release(case, deployed)
    fault = Fault(case, Truth("memory-leak", (("service", service),), ("memory", "deploy"), (service,), deploy["id"], span.onset, span.end))
    leak = case.between(0.5, 0.7) * topology.services[service].memory_mb
    restart = span.onset + 35 * MINUTE
    for instance in range(len(topology.instances[service])):
        for since, until in ((deployed, min(restart, span.end)), (restart, span.end)):
            if since < until:
                fault.effect("memory", service, instance, span=Span(since, until), plus=leak, form="ramp", rise_s=fills_s)
    fault.happenings.rollouts.append(rollout)
    fault.happenings.changes.append(deploy)
    fault.says(service, "WARN", "collection took {ms} ms, {percent} % of memory in use", 0.5)
    return fault.restarted(service, restart, "m.holm")


def flag(case: Case) -> Fault:
    """A flag lets one version of the app ask again for what it has."""
    site, span = case.site, case.span
    client = case.topology.clients[site.service]
    version = str(case.rng.choice(client.versions[:2]))
    made = change(
        "flag",
        span.onset,
        site.service,
        f"live updates on for app {version}",
        before={"live-updates": False, "app": version},
        after={"live-updates": True, "app": version},
        actor="a.lund",
    )
    entities = (("attribute", client.version_key), ("attribute", version), ("service", site.service))
    fault = Fault(case, Truth("flag", entities, ("config", "more-calls"), (site.service,), made["id"], span.onset, span.end))
    fault.effect("app calls", site.operation, site.backend, version, times=case.between(2, 12))
    fault.happenings.changes.append(made)
    return fault
