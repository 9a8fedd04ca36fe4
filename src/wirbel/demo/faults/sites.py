"""Where kinds of fault can strike: lists of fitting places of any world."""

from __future__ import annotations

from wirbel.demo.faults.model import Site
from wirbel.demo.world.topology import Operation, Topology

MIN_RATE = 0.02  # of all requests from outside: what is called less often would not be missed


def asked_for(topology: Topology) -> dict[str, float]:
    """How often each operation is called, a request from outside."""
    asked = {key: topology.entries.get(key, 0.0) for key in topology.operations}
    for key in reversed(topology.operations):
        for call in topology.operations[key].calls:
            if call.to in asked:
                made = call.share * (1 - topology.hit_rate[call.on_miss] if call.on_miss else 1.0)
                asked[call.to] += asked[key] * made * call.times
    return asked


def used(topology: Topology) -> list[Operation]:
    """Operations that users notice: called often enough, at their requests."""
    reached = {key for key in topology.entries if topology.operations[key].service in topology.clients}
    for key in reversed(topology.operations):
        if key in reached:
            reached |= {call.to for call in topology.operations[key].calls}
    asked = asked_for(topology)
    return [operation for key, operation in topology.operations.items() if key in reached and asked[key] >= MIN_RATE]


def services(topology: Topology) -> list[Site]:
    return [Site(service=name) for name in dict.fromkeys(operation.service for operation in used(topology))]


def inner_services(topology: Topology) -> list[Site]:
    """Those that only services call."""
    return [site for site in services(topology) if site.service not in topology.clients]


def several_instances(topology: Topology) -> list[Site]:
    return [site for site in services(topology) if topology.services[site.service].instances > 1]


def managed(topology: Topology) -> list[Site]:
    return [site for site in services(topology) if topology.services[site.service].managed]


def _statements(topology: Topology, verbs: tuple[str, ...]) -> list[Site]:
    found = [
        Site(service=operation.service, operation=operation.key, backend=call.to, statement=call.statement)
        for operation in used(topology)
        for call in operation.calls
        if call.to in topology.databases_of(operation) and call.statement.startswith(verbs) and not call.on_miss and call.share > 0.3
    ]
    return list(dict.fromkeys(found))


def reads(topology: Topology) -> list[Site]:
    return _statements(topology, ("SELECT",))


def writes(topology: Topology) -> list[Site]:
    return _statements(topology, ("UPDATE", "INSERT"))


def pools(topology: Topology) -> list[Site]:
    """Services with the databases that they keep connections to."""
    return [site for site in databases(topology) if topology.services[site.service].pool > 1]


def cached(topology: Topology) -> list[Site]:
    """Services that ask a cache first, and the database when it does not have what they want."""
    found = {(o.service, call.on_miss) for o in used(topology) for call in o.calls if call.on_miss}
    return [Site(service=service, backend=name) for service, name in sorted(found)]


def providers(topology: Topology) -> list[Site]:
    found = {
        (operation.service, call.to)
        for operation in used(topology)
        for call in operation.calls
        if call.to in topology.backends and topology.backends[call.to].kind == "external"
    }
    return [Site(service=service, backend=name) for service, name in sorted(found)]


def hosts(topology: Topology) -> list[Site]:
    """Hosts on which something runs that users notice."""
    running = {instance.host for site in services(topology) for instance in topology.instances[site.service]}
    return [Site(host=name) for name in topology.hosts if name in running]


def written_disks(topology: Topology) -> list[Site]:
    """Hosts of databases that are written to, with a service that logs there."""
    written = {site.backend for site in writes(topology)}
    found = []
    for name in sorted({topology.backends[backend].host for backend in written}):
        loggers = [service for service, instances in topology.instances.items() if any(instance.host == name for instance in instances)]
        found += [Site(host=name, service=service) for service in loggers[:1]]
    return found


def database_hosts(topology: Topology) -> list[Site]:
    """Hosts of databases that users need."""
    return [Site(host=name) for name in sorted({topology.backends[site.backend].host for site in databases(topology)}) if name]


def databases(topology: Topology) -> list[Site]:
    found = {(o.service, name) for o in used(topology) for name in topology.databases_of(o)}
    return [Site(service=service, backend=name) for service, name in sorted(found)]


def zones(topology: Topology) -> list[Site]:
    return [Site(zone=name) for name in topology.zones] if len(topology.zones) > 1 else []


def consumers(topology: Topology) -> list[Site]:
    return [Site(service=operation.service, operation=operation.key) for operation in topology.operations.values() if operation.source]


def app_entries(topology: Topology) -> list[Site]:
    """Requests of the users of an app."""
    return [
        Site(service=operation.service, operation=key)
        for key in topology.entries
        if (operation := topology.operations[key]).service in topology.clients and topology.clients[operation.service].kind == "app"
    ]


def app_calls(topology: Topology) -> list[Site]:
    """Calls of other services that are made for users of an app, of whom there are versions."""
    return [
        Site(service=site.service, operation=site.operation, backend=call.to)
        for site in app_entries(topology)
        for call in topology.operations[site.operation].calls
        if call.to in topology.operations and not call.inner and not call.optional
    ]


def apps(topology: Topology) -> list[Site]:
    return [Site(service=name) for name, client in topology.clients.items() if client.kind == "app"]


def anywhere(topology: Topology) -> list[Site]:
    return [Site(service=name) for name in topology.services]
