"""Which services are meant: by patterns of their names, and of the hosts that they run on."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from fnmatch import fnmatchcase


@dataclass(frozen=True)
class Selection:
    """Patterns in which * stands for any text and ? for one character, as in names of files. No patterns of a kind: all."""

    services: tuple[str, ...] = ()
    not_services: tuple[str, ...] = ()
    hosts: tuple[str, ...] = ()
    not_hosts: tuple[str, ...] = ()

    @property
    def asks_for_hosts(self) -> bool:
        """Whether it matters where a service runs."""
        return bool(self.hosts or self.not_hosts)

    def of(self, hosts: Mapping[str, Collection[str]]) -> list[str]:
        """Names of the services that are meant, in order, of those that are known with the hosts each runs on."""
        return sorted(name for name, on in hosts.items() if _is_meant(name, self.services, self.not_services) and self._runs_there(on))

    def _runs_there(self, hosts: Collection[str]) -> bool:
        """Whether one of its hosts is meant; what is not known to run anywhere is left out only where hosts are asked for."""
        return any(_is_meant(host, self.hosts, self.not_hosts) for host in hosts) or not (hosts or self.hosts)


def _is_meant(name: str, wanted: tuple[str, ...], unwanted: tuple[str, ...]) -> bool:
    return (not wanted or any(fnmatchcase(name, pattern) for pattern in wanted)) and not any(fnmatchcase(name, pattern) for pattern in unwanted)
