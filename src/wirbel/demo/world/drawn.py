"""Worlds drawn from a seed: other sizes, layers, shared parts and loads than Skerry Line has, and names without meaning.

What works on one world only is not known to work. Services stand in layers and call those of deeper ones;
their parts are sized so that at the mean load they are a fifth to a half busy.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from functools import cached_property, lru_cache

import numpy as np
import numpy.typing as npt

from wirbel.demo.world.load import DAY_NS, HOUR_NS
from wirbel.demo.world.topology import CORES, Backend, Call, Client, Instance, Line, Operation, Service, Topology

Floats = npt.NDArray[np.float64]
MOST_LOAD = 1.25  # for more than that nobody would have been ready
SERVICES, LAYERS, HOSTS, ZONES = (5, 40), (2, 6), (3, 12), (1, 3)
MOST_SPANS = 40  # of a request, in the mean: a call that would make more is not made
RECORDED = (2.0, 6.0)  # requests a second of a busy world of which traces are recorded
MOST_RECORDED = 45.0  # spans of them a second
QUIET = 0.25  # of the worlds have no more requests than that, and machines that idle
BUSY = (0.22, 0.45)  # of workers, databases and machines
SYLLABLES = ("ba", "dor", "ke", "lim", "mo", "na", "pel", "qui", "ro", "sta", "tu", "ven", "wo", "xi", "yal", "zem", "fri", "gor", "hu", "jin")
SAYINGS = ("{name} {id} ready", "{name} {id} done in {ms} ms", "{count} of {name} read", "{name} {small}: {count} kept", "retrying {name} {id}")


def draw(seed: int) -> Topology:
    """The world of a seed; the same for the same seed."""
    return _draw(seed)


@lru_cache(maxsize=8)
def _draw(seed: int) -> Topology:
    return _Drawing(np.random.default_rng([seed, 7])).world(f"random-{seed}")


@dataclass(frozen=True)
class Course:
    """Load over the day: two peaks, a quiet night, quieter days, and perhaps a burst each hour."""

    most: float  # that the load ever is
    peaks: tuple[float, float]  # hours
    height: float
    night: float  # what is missing at 4 o'clock, as a share
    weekend: float
    burst: float

    def __call__(self, times: npt.ArrayLike) -> Floats:
        level = self._level(np.asarray(times, np.float64))
        return level * min(1.0, self.most / self._peak)

    @cached_property
    def _peak(self) -> float:
        return float(self._level(np.arange(7 * 24 * 60, dtype=np.float64) * 60e9).max())

    def _level(self, at: Floats) -> Floats:
        day, hour, weekday = (at % DAY_NS) / HOUR_NS, (at % HOUR_NS) / HOUR_NS, (at // DAY_NS + 4) % 7
        level = 0.75 + sum(self.height * np.exp(-(((day - peak) / 3.0) ** 2)) for peak in self.peaks)
        level = level * (1 - self.night * np.exp(-((((day + 8) % 24 - 12) / 3.5) ** 2)))
        level = level * np.where((weekday == 0) | (weekday == 6), self.weekend, 1.0)
        return np.asarray(level * (1 + self.burst * np.exp(-(((hour - 0.9) / 0.04) ** 2))))


@dataclass
class _Drawing:
    rng: np.random.Generator
    words: set[str] = field(default_factory=set)
    operations: dict[str, Operation] = field(default_factory=dict)
    size: dict[str, float] = field(default_factory=dict)  # spans beneath an operation, in the mean
    backends: dict[str, Backend] = field(default_factory=dict)
    hit_rate: dict[str, float] = field(default_factory=dict)

    def world(self, name: str) -> Topology:
        rng = self.rng
        zones = [self.word() for _ in range(self.whole(*ZONES))]
        hosts = {f"{self.word()}-{n}": zones[n % len(zones)] for n in range(self.whole(*HOSTS))}
        layers = self.layers()
        services = [service for layer in layers for service in layer]
        self.make_backends(len(services), list(hosts))
        stores = {service: self.stores() for service in services}
        for depth in reversed(range(len(layers))):
            beneath = [service for layer in layers[depth + 1 :] for service in layer]
            for service in layers[depth]:
                self.make_operations(service, beneath, stores[service])
        fronts = layers[0]
        self.reach_all(layers)
        entries = self.entries(fronts)
        consumer = self.consumer(stores)
        services += consumer
        drawn = {service: self.service(service) for service in services}
        instances = {service: self.instances(service, drawn[service].instances, hosts) for service in services}
        clients = {front: self.client(first=n == 0) for n, front in enumerate(fronts)}
        lines = tuple(self.line(service) for service in services for _ in range(2))
        course = Course(
            most=MOST_LOAD,
            peaks=(float(rng.uniform(7, 12)), float(rng.uniform(14, 20))),
            height=float(rng.uniform(0.1, 0.5)),
            night=float(rng.uniform(0.1, 0.7)),
            weekend=float(rng.uniform(0.5, 1.2)),
            burst=float(rng.choice([0, 0, 0.25])),
        )
        world = Topology(name, drawn, self.backends, self.operations, entries, 1.0, 1.0, course, hosts, instances, clients, lines, self.hit_rate)
        return _sized(world, rng)

    # Names and numbers.

    def word(self) -> str:
        while True:
            made = "".join(str(part) for part in self.rng.choice(SYLLABLES, self.whole(2, 3)))
            if made not in self.words:
                self.words.add(made)
                return made

    def whole(self, low: int, high: int) -> int:
        return int(self.rng.integers(low, high + 1))

    def spread(self, low: float, high: float) -> float:
        """Between two numbers, in equal factors."""
        return float(np.exp(self.rng.uniform(np.log(low), np.log(high))))

    def chance(self, share: float) -> bool:
        return bool(self.rng.random() < share)

    # What there is.

    def layers(self) -> list[list[str]]:
        count = round(self.spread(*SERVICES))
        depth = min(self.whole(*LAYERS), count)
        layers: list[list[str]] = [[self.word()] for _ in range(depth)]
        for _ in range(count - depth):
            # Fronts are few.
            layers[0 if self.chance(0.1) and len(layers[0]) < 3 else self.whole(1, depth - 1)].append(self.service_name())
        return layers

    def service_name(self) -> str:
        return str(self.rng.choice([self.word(), f"{self.word()}-{self.word()}", f"{self.word()}.svc"]))

    def make_backends(self, services: int, hosts: list[str]) -> None:
        for kind, count in (
            ("database", max(1, round(services * self.rng.uniform(0.15, 0.5)))),
            ("cache", self.whole(0, max(1, services // 6))),
            ("broker", self.whole(0, 1)),
            ("external", self.whole(0, 3)),
        ):
            for _ in range(count):
                name = self.word() + {"database": "-db", "cache": "-kv", "broker": "-mq", "external": ".example"}[kind]
                system = {"database": "postgresql", "cache": "redis", "broker": "kafka", "external": "http"}[kind]
                median = {"database": self.spread(1, 8), "cache": self.spread(0.3, 0.8), "broker": 1.2, "external": self.spread(20, 120)}[kind]
                host = "" if kind == "external" else str(self.rng.choice(hosts))
                failing = 0.003 if kind == "external" else 0.00005
                spread = float(self.rng.uniform(0.25, 0.55))
                self.backends[name] = Backend(name, system, self.word() if kind in ("database", "cache") else "", median, spread, 2, kind, host, failing)
                if kind == "cache":
                    self.hit_rate[name] = float(self.rng.uniform(0.75, 0.97))

    def of_kind(self, kind: str) -> list[str]:
        return [name for name, backend in self.backends.items() if backend.kind == kind]

    def stores(self) -> list[str]:
        """The databases of a service: none, its own, or one that others ask too."""
        return [str(self.rng.choice(self.of_kind("database")))] if self.chance(0.7) else []

    def make_operations(self, service: str, beneath: list[str], stores: list[str]) -> None:
        for _ in range(self.whole(1, 3)):
            calls: list[Call] = []
            for _ in range(self.whole(0, 2) if stores else 0):
                calls += self.statements(stores[0])
            externals = self.of_kind("external")
            if externals and self.chance(0.12):
                calls.append(Call(str(self.rng.choice(externals)), work_ms=self.spread(0.3, 2), share=float(self.rng.uniform(0.3, 1))))
            for _ in range(self.whole(1, 3) if beneath else 0):
                calls += self.call(beneath, calls)
            method = str(self.rng.choice(["GET", "GET", "POST", "PUT"]))
            route = f"/{self.word()}" + str(self.rng.choice(["", "/{id}", f"/{self.word()}"]))
            order = self.rng.permutation(len(calls)) if not any(call.beside or call.on_miss for call in calls) else range(len(calls))
            self.add(
                Operation(
                    service,
                    method,
                    route,
                    tuple(calls[n] for n in order),
                    self.spread(1, 14),
                    float(self.rng.uniform(0.2, 0.7)),
                    refused=float(self.rng.choice([0, 0, 0.01])),
                )
            )

    def add(self, operation: Operation) -> None:
        self.operations[operation.key] = operation
        self.size[operation.key] = 1 + sum(call.share * call.times * (1 + self.size.get(call.to, 0)) for call in operation.calls)

    def statements(self, store: str) -> Iterator[Call]:
        table = self.word()
        caches = self.of_kind("cache")
        if caches and self.chance(0.25):
            cache = str(self.rng.choice(caches))
            yield Call(cache, work_ms=0.5, statement=f"GET {table}:{{id}}")
            yield Call(store, work_ms=0.5, cost=float(self.rng.uniform(2, 6)), on_miss=cache, statement=f"SELECT {self.word()} FROM {table} WHERE id = $1")
        elif self.chance(0.65):
            yield Call(store, work_ms=self.spread(0.5, 4), cost=self.spread(0.5, 3), statement=f"SELECT {self.word()} FROM {table} WHERE id = $1")
        else:
            yield Call(store, work_ms=self.spread(0.5, 4), cost=self.spread(0.5, 3), statement=f"UPDATE {table} SET {self.word()} = $1 WHERE id = $2")

    def call(self, beneath: list[str], before: list[Call]) -> Iterator[Call]:
        to = str(self.rng.choice([key for key, operation in self.operations.items() if operation.service in beneath]))
        room = MOST_SPANS - 1 - sum(call.share * call.times * (1 + self.size.get(call.to, 0)) for call in before)
        share = float(self.rng.choice([1, 1, self.rng.uniform(0.2, 0.9)]))
        if share * (1 + self.size[to]) <= room:
            beside = bool(before) and before[-1].to in self.operations and self.chance(0.3)
            yield Call(to, work_ms=self.spread(0.5, 4), share=share, beside=beside, optional=self.chance(0.1))

    def reach_all(self, layers: list[list[str]]) -> None:
        """An operation that nobody calls is called by one above it, or else is none."""
        called = {call.to for operation in self.operations.values() for call in operation.calls}
        place = {service: depth for depth, layer in enumerate(layers) for service in layer}
        for key in [key for key, operation in self.operations.items() if place[operation.service] and key not in called]:
            above = [o for o in self.operations.values() if place[o.service] < place[self.operations[key].service]]
            caller = above[self.whole(0, len(above) - 1)]
            self.add(replace(caller, calls=(*caller.calls, Call(key, work_ms=1.0, share=float(self.rng.uniform(0.3, 1))))))

    def entries(self, fronts: list[str]) -> dict[str, float]:
        keys = [key for key, operation in self.operations.items() if operation.service in fronts]
        shares = self.rng.dirichlet(np.full(len(keys), 2.0))
        return {key: max(float(share), 0.02) for key, share in zip(keys, shares, strict=True)}

    def consumer(self, stores: dict[str, list[str]]) -> list[str]:
        """A service that consumes what another publishes; none where there is no broker."""
        brokers = self.of_kind("broker")
        if not brokers:
            return []
        name, topic = self.service_name(), self.word()
        publisher = list(self.operations.values())[self.whole(0, len(self.operations) - 1)]
        sends = Call(brokers[0], work_ms=0.4, statement=topic, publishes=True, optional=True)
        self.operations[publisher.key] = replace(publisher, calls=(*publisher.calls, sends))
        calls = tuple(self.statements(str(self.rng.choice(self.of_kind("database")))))
        consumed = Operation(name, "CONSUME", topic, calls, self.spread(2, 10), source=brokers[0])
        self.operations = {consumed.key: consumed, **self.operations}
        return [name]

    def service(self, name: str) -> Service:
        rng = self.rng
        version = f"{self.whole(0, 9)}.{self.whole(0, 30)}.{self.whole(0, 9)}"
        return Service(
            name,
            version,
            instances=int(rng.choice([1, 2, 2, 3, 3, 4, 5])),
            timeout_s=float(rng.uniform(1.5, 5)),
            retries=int(rng.choice([0, 0, 1, 2])),
            managed=self.chance(0.6),
            memory_mb=self.spread(80, 800),
        )

    def instances(self, service: str, count: int, hosts: dict[str, str]) -> tuple[Instance, ...]:
        places = [str(host) for host in self.rng.permutation(list(hosts))]
        names = [f"{service}-{self.rng.integers(16**5, 16**6):x}" for _ in range(count)]
        return tuple(Instance(name, places[n % len(places)], hosts[places[n % len(places)]]) for n, name in enumerate(names))

    def client(self, first: bool) -> Client:
        if not first and self.chance(0.5):
            return Client("device")
        newest = self.whole(2, 40)
        key = str(self.rng.choice(["app.version", "client.version", "client.build"]))
        return Client("app", (f"{newest - 1}.0", f"{newest}.0", "web"), self.word(), key, f"{self.word()}bot/1.0")

    def line(self, service: str) -> Line:
        template = str(self.rng.choice(SAYINGS)).replace("{name}", self.word())
        return Line(service, str(self.rng.choice(["INFO", "INFO", "INFO", "WARN", "DEBUG"])), template, self.spread(0.02, 0.3))


def _sized(world: Topology, rng: np.random.Generator) -> Topology:
    """With as many requests, workers, connections and database servers as fit together."""
    asked = {key: world.entries.get(key, 0.0) for key in world.operations}
    backends = dict.fromkeys(world.backends, 0.0)  # s of work a request from outside
    for key, operation in reversed(world.operations.items()):
        if operation.source:
            asked[key] = sum(asked[o.key] * c.share for o in world.operations.values() for c in o.calls if c.publishes and c.statement == operation.route)
        for call in operation.calls:
            made = asked[key] * call.share * call.times * (1 - world.hit_rate[call.on_miss] if call.on_miss else 1)
            if call.to in asked:
                asked[call.to] += made
            else:
                backends[call.to] += made * world.backends[call.to].median_ms * call.cost / 1e3
    takes: dict[str, float] = {}
    for key, operation in world.operations.items():
        beneath = sum(c.share * c.times * (takes[c.to] if c.to in takes else world.backends[c.to].median_ms * c.cost / 1e3) for c in operation.calls)
        takes[key] = beneath + _own_s(operation)
    cores = sum(asked[key] * _own_s(operation) for key, operation in world.operations.items())
    size = 2 * sum(asked.values()) / sum(world.entries.values())
    recorded = min(float(np.exp(rng.uniform(*np.log(RECORDED)))), MOST_RECORDED / size)
    # The busiest machine is not to be full: it has more than its share.
    rate = recorded if rng.random() < QUIET else max(recorded, 0.5 * float(rng.uniform(*BUSY)) * CORES * len(world.hosts) / cores)

    def needed(load: float) -> int:
        return max(1, int(np.ceil(load / float(rng.uniform(*BUSY)))))

    services = {}
    for name, service in world.services.items():
        load = rate * sum(asked[o.key] * takes[o.key] for o in world.of_service(name)) / service.instances
        services[name] = replace(service, workers=max(needed(load), 2), pool=max(needed(load), 2))
    entries = world.entries | {key: asked[key] for key, operation in world.operations.items() if operation.source}
    sized = {name: replace(backend, servers=max(needed(rate * backends[name]), 2)) for name, backend in world.backends.items()}
    return replace(world, services=services, backends=sized, entries=entries, rate=rate, recorded=recorded)


def _own_s(operation: Operation) -> float:
    """Own work of a request, mean."""
    spread = float(np.exp(operation.spread**2 / 2)) / 1e3
    return spread * (operation.work_ms + sum(call.work_ms * call.share for call in operation.calls))
