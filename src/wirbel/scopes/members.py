"""The services that a scope means."""

from __future__ import annotations

from collections.abc import Sequence

from wirbel.core.errors import NotFound
from wirbel.core.topology.selection import Selection
from wirbel.scopes.models import Scope
from wirbel.store.models import Entity, Service

MOST_SERVICES = 20_000
MOST_HOSTS = 20_000


def known(environment: str | None, selections: Sequence[Selection]) -> dict[str, set[str]]:
    """All services, and, where one of the selections asks for hosts, those that each was seen to run on."""
    services, hosts = Service.objects.all(), Entity.objects.filter(kind="host")
    if environment is not None:
        services, hosts = services.filter(environment=environment), hosts.filter(environment=environment)
    found: dict[str, set[str]] = {name: set() for name in services.values_list("name", flat=True)[:MOST_SERVICES]}
    if not any(selection.asks_for_hosts for selection in selections):
        return found
    for host, running in hosts.order_by("-last_seen").values_list("name", "services")[:MOST_HOSTS]:
        for name in running:
            if name in found:
                found[name].add(host)
    return found


def services_of(name: str | None, environment: str | None) -> tuple[str, ...] | None:
    """The services of the scope of a name; None, which is all, without one. Raises NotFound."""
    if name is None:
        return None
    scope = Scope.objects.filter(name__iexact=name).first()
    if scope is None:
        raise NotFound(f"There is no scope {name[:80]!r}: it was renamed or deleted. Choose another, or all services.")
    selection = scope.selection
    return tuple(selection.of(known(environment, [selection])))
