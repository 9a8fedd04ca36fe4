"""What a world is made of: services, what they call, and where they run. Which there are is told by the worlds themselves."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Literal

import numpy as np
import numpy.typing as npt

CORES = 4  # of each host
DISK_GB = 80.0
MEMORY_GB = 32.0
Load = Callable[[npt.ArrayLike], npt.NDArray[np.float64]]
"""Relative load at times of the world's clock (ns), about 1 in the mean."""


@dataclass(frozen=True)
class Call:
    """One step inside a request: own work before it, then a call (or several)."""

    to: str  # a service's "name operation", or a backend
    work_ms: float = 1.0  # median of own work before the call
    times: int = 1
    beside: bool = False  # runs beside the call before it
    share: float = 1.0  # of requests that make this call
    statement: str = ""  # of a database or cache
    cost: float = 1.0  # of the statement, in the backend's usual times
    on_miss: str = ""  # made only when this cache does not have what is wanted
    optional: bool = False  # the caller goes on without it when it fails
    inner: bool = False  # a step of the same service, with a span of its own and no network between
    publishes: bool = False  # hands a message to a broker


@dataclass(frozen=True)
class Operation:
    service: str
    method: str
    route: str
    calls: tuple[Call, ...] = ()
    work_ms: float = 2.0  # own work after the last call, median
    spread: float = 0.35  # sigma of the log of own work
    failing: float = 0.0005
    refused: float = 0.0
    source: str = ""  # the broker whose messages it consumes; the route is their topic

    @property
    def key(self) -> str:
        return f"{self.service} {self.method} {self.route}"

    @property
    def is_http(self) -> bool:
        return self.method not in ("CONSUME", "RUN", "STEP")


@dataclass(frozen=True)
class Service:
    """How a service runs. Its instances take requests into a pool of workers."""

    name: str
    version: str
    instances: int
    workers: int = 4  # requests that one instance handles at a time
    timeout_s: float = 3.0  # of its calls to other services
    retries: int = 0
    breaker: bool = False  # stops calling for a while what mostly fails
    managed: bool = True  # runs in a runtime that pauses to collect garbage
    memory_mb: float = 320.0
    pool: int = 4  # connections of an instance to each database


@dataclass(frozen=True)
class Backend:
    """Something that sends no spans of its own: it is seen by its callers only."""

    name: str
    system: str
    namespace: str
    median_ms: float
    spread: float
    servers: int  # queries that it works on at a time
    kind: str = "database"
    host: str = ""  # where it runs, if here
    failing: float = 0.00005


@dataclass(frozen=True)
class Instance:
    name: str
    host: str
    zone: str


@dataclass(frozen=True)
class Client:
    """Who uses a front: an app with versions, or devices held by staff; the words that its requests carry."""

    kind: Literal["app", "device"]
    versions: tuple[str, ...] = ()
    agent: str = ""
    version_key: str = "app.version"
    bot: str = ""  # how a visitor that looks for what is not there calls itself


@dataclass(frozen=True)
class Line:
    """An everyday log line: so many records a second."""

    service: str
    severity: str
    template: str
    per_second: float


@dataclass(frozen=True, eq=False)
class Topology:
    """A world's shape. ``operations`` stand in order: what is called before who calls it."""

    name: str
    services: dict[str, Service]
    backends: dict[str, Backend]
    operations: dict[str, Operation]
    entries: dict[str, float]  # what comes in from outside, and its share of all requests
    rate: float  # requests a second from outside, at mean load
    recorded: float  # of them, whose traces a drill has
    load: Load
    hosts: dict[str, str]  # and the zone of each
    instances: dict[str, tuple[Instance, ...]]
    clients: dict[str, Client]  # of services where users are: what is slow there hurts them
    lines: tuple[Line, ...] = ()
    hit_rate: dict[str, float] = field(default_factory=dict)  # share of look-ups that a cache answers
    story: dict[str, tuple[str, ...]] = field(default_factory=dict)  # where kinds of fault strike; else wherever they can

    @property
    def fronts(self) -> tuple[str, ...]:
        return tuple(self.clients)

    @property
    def zones(self) -> list[str]:
        return sorted(set(self.hosts.values()))

    def of_service(self, service: str) -> list[Operation]:
        return [operation for operation in self.operations.values() if operation.service == service]

    def databases_of(self, operation: Operation) -> list[str]:
        """Those it asks, and so keeps a connection to."""
        return list(dict.fromkeys(call.to for call in operation.calls if call.to in self.backends and self.backends[call.to].kind == "database"))

    def retries(self, service: str, call: Call) -> int:
        """How often a failed attempt is repeated; what is near at hand is not asked again."""
        backend = self.backends.get(call.to)
        return 0 if call.inner or (backend and backend.kind != "external") else self.services[service].retries

    def app(self) -> str | None:
        """The front whose users have apps with versions."""
        return next((name for name, client in self.clients.items() if client.kind == "app"), None)
