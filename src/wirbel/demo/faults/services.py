"""Faults of how services are set up and run."""

from __future__ import annotations

from wirbel.demo.faults.model import MINUTE, SECOND, Case, Fault, Span, Truth, a_front, change, release


def pool_too_small(case: Case) -> Fault:
    """A configuration change leaves each instance too few connections."""
    site, topology, span = case.site, case.topology, case.span
    size = topology.services[site.service].pool
    config = change("config", span.onset, site.service, "database connections", before={"pool.size": size}, after={"pool.size": 1}, actor="k.dahl")
    mechanisms = ("config", "waiting", "saturation")
    fault = Fault(case, Truth("pool-too-small", (("service", site.service),), mechanisms, (site.service,), config["id"], span.onset, span.end))
    fault.effect("pool", site.service, site.backend, times=1 / size)
    kept_longer = float(case.rng.uniform(1.0, 1.1))
    # Those who have the one connection keep it for longer: the same change took away what had sped them up.
    for instance in range(len(topology.instances[site.service])):
        fault.effect("work", site.service, instance, times=case.between(1.01, 2.5) * kept_longer)
    fault.happenings.changes.append(config)
    return fault.says(site.service, "WARN", f"waited {{ms}} ms for a connection to {site.backend} (pool of 1 in use)", 1.2)


def leaked_connections(case: Case) -> Fault:
    """A version forgets to give connections back when a request is refused: fewer and fewer are left."""
    site, topology, span, rng = case.site, case.topology, case.span, case.rng
    service = site.service
    leaks_s = float(rng.uniform(1200, 1800))
    deployed = span.onset - round(0.8 * leaks_s) * SECOND
    deploy, rollout = release(case, deployed)
    mechanisms = ("waiting", "saturation", "deploy")
    fault = Fault(case, Truth("leaked-connections", (("service", service),), mechanisms, (service,), deploy["id"], span.onset, span.end))
    for instance in range(len(topology.instances[service])):
        rise, most = leaks_s * float(rng.uniform(0.9, 1.1)), topology.services[service].pool - 0.9
        fault.effect("leaked", service, instance, site.backend, span=Span(deployed, span.end), plus=most, form="ramp", rise_s=rise)
        # With the last connections it holds transactions open that should have ended.
        fault.effect("work", service, instance, times=case.between(1.01, 2.5))
    fault.happenings.rollouts.append(rollout)
    fault.happenings.changes.append(deploy)
    return fault.restarted(a_front(case), span.onset + 24 * MINUTE)


def cache_lifetime(case: Case) -> Fault:
    """What is asked for often is kept for seconds instead of minutes: most look-ups go to the database."""
    site, span, rng = case.site, case.span, case.rng
    config = change("config", span.onset, site.service, "lifetime of cached entries", before={"cache.ttl_s": 900}, after={"cache.ttl_s": 5}, actor="k.dahl")
    entities = (("service", site.service), ("database", site.backend))
    fault = Fault(case, Truth("cache-lifetime", entities, ("cache", "config", "more-calls"), (site.service,), config["id"], span.onset, span.end))
    fault.effect("hits", site.backend, times=1 - case.between(0.12, 0.98) * float(rng.uniform(0.97, 1)), form="ramp", rise_s=120)
    fault.happenings.changes.append(config)
    return fault.restarted(a_front(case), span.onset + 26 * MINUTE)


def _of_instance(case: Case, kind: str, mechanisms: tuple[str, ...]) -> tuple[Fault, int]:
    """A fault of one instance, and its number."""
    instances = case.topology.instances[case.site.service]
    number = int(case.rng.integers(len(instances)))
    truth = Truth(kind, (("instance", instances[number].name),), mechanisms, (case.site.service,), None, case.span.onset, case.span.end)
    return Fault(case, truth), number


def runaway_instance(case: Case) -> Fault:
    """One instance is busy with something of its own, and slow at all it is asked."""
    fault, number = _of_instance(case, "runaway-instance", ("saturation", "slower-work"))
    return fault.effect("work", case.site.service, number, times=case.between(2, 40))


def failing_instance(case: Case) -> Fault:
    """One instance fails at what the others do well."""
    fault, number = _of_instance(case, "failing-instance", ("errors", "config"))
    fault.effect("failing", case.site.service, number, plus=case.between(0.05, 0.95))
    return fault.says(case.site.service, "ERROR", "entry {id}: cannot read settings", 0.5)


def expired_key(case: Case) -> Fault:
    """A key expires: what needs it can be neither made nor checked. Nothing was changed."""
    service, span = case.site.service, case.span
    fault = Fault(case, Truth("expired-key", (("service", service),), ("errors", "config"), (service,), None, span.onset, span.end))
    for operation in case.topology.of_service(service):
        fault.effect("failing", operation.key, plus=case.between(0.05, 0.9))
    fault.says(service, "ERROR", "cannot sign entry {id}: key harbour-3 expired", 2.0)
    # People restart what shows the errors, and clients that gave up come back all at once.
    front = a_front(case)
    fault.restarted(front, span.onset + 9 * MINUTE).restarted(front, span.onset + 22 * MINUTE, "m.holm")
    back = Span(span.end, span.end + 12 * MINUTE)
    for entry in case.topology.entries:
        if case.topology.operations[entry].service == front:
            fault.effect("load", entry, span=back, times=1.8)
    return fault


def consumer_behind(case: Case) -> Fault:
    """A consumer takes longer for a message than messages come: they wait for ever longer."""
    service, span = case.site.service, case.span
    mechanisms = ("saturation", "slower-work", "waiting")
    fault = Fault(case, Truth("consumer-behind", (("service", service),), mechanisms, (service,), None, span.onset, span.end, hurts=False))
    fault.effect("speed", service, times=case.between(2, 4000))
    return fault.says(service, "WARN", "messages are {count} behind", 0.2)


def silent_service(case: Case) -> Fault:
    """A consumer hangs: it does nothing and says nothing."""
    site, span = case.site, case.span
    fault = Fault(case, Truth("silent-service", (("service", site.service),), ("absence",), (site.service,), None, span.onset, span.end, hurts=False))
    fault.effect("silent", site.service, plus=1.0)
    # What was kept for it comes all at once when it runs again.
    return fault.effect("load", site.operation, span=Span(span.end, span.end + 15 * MINUTE), times=float(case.rng.uniform(2.0, 3.0)))
