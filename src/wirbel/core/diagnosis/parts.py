"""The places where the time of a request can go, or its failure begin; of a question about traffic, who asks."""

from __future__ import annotations

from dataclasses import dataclass

OWN, DEPENDENCY, TRANSFER, ASKED = "own", "dependency", "transfer", "asked"
OUTSIDE = "from outside"  # who asks where no instrumented caller is seen


@dataclass(frozen=True)
class Part:
    """A service's own work, a call to something that sends no spans, the way to a service, or what a service asks."""

    kind: str  # own, dependency, transfer or asked
    service: str  # whose request or call it is
    operation: str
    peer: str | None = None  # who was called
    peer_kind: str | None = None
