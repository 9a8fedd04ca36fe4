"""The places where the time of a request can go."""

from __future__ import annotations

from dataclasses import dataclass

OWN, DEPENDENCY, TRANSFER = "own", "dependency", "transfer"


@dataclass(frozen=True)
class Part:
    """A service's own work, a call to something that sends no spans, or the way to a service."""

    kind: str  # own, dependency or transfer
    service: str  # whose request or call it is
    operation: str
    peer: str | None = None  # who was called
    peer_kind: str | None = None
