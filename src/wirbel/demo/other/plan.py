"""What an installation of the second world is made of, drawn from a seed."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

import numpy as np

Rng = np.random.Generator
Do = Literal["work", "call", "query", "lookup", "ask", "publish", "order"]
NAMES = [
    "aspen",
    "beacon",
    "cobalt",
    "dahlia",
    "ember",
    "fjord",
    "garnet",
    "hazel",
    "indigo",
    "juniper",
    "kestrel",
    "lantern",
    "maple",
    "nectar",
    "opal",
    "poppy",
    "quartz",
    "raven",
    "saffron",
    "thistle",
    "umber",
    "violet",
    "willow",
    "yarrow",
    "zephyr",
]
NOUNS = [
    "account",
    "basket",
    "catalog",
    "draft",
    "entry",
    "folder",
    "grant",
    "holding",
    "invoice",
    "journal",
    "kit",
    "ledger",
    "member",
    "note",
    "offer",
    "parcel",
    "quote",
    "receipt",
    "shelf",
    "ticket",
]
TABLES = ["accounts", "lines", "stock", "prices", "members", "holds", "receipts", "audit"]
TIERS = ((1, 3), (2, 4), (3, 5))  # fewest and most services, from the fronts down
CORES = 8  # of each host
CLIENTS = ("3.1.0", "3.2.0", "4.0.0", "4.1.2")
TENANTS = tuple(f"t-{number:03}" for number in range(24))


@dataclass(frozen=True)
class Step:
    """One thing that a handler does: its own work (``seconds``), or something asked of a ``target``.

    ``chance`` is how often, ``spare`` says that a failure is got over; ``beside`` is done at the same time as the step before it.
    """

    do: Do
    target: str = ""
    what: str = ""
    seconds: float = 0.0
    chance: float = 1.0
    spare: bool = False
    beside: bool = False


@dataclass(frozen=True)
class Handler:
    service: str
    route: str
    steps: tuple[Step, ...]
    module: str | None = None  # where in the program it is, which its spans say


@dataclass(frozen=True)
class Store:
    """What sends no spans: known by an address only. ``host`` is where its server runs, None outside."""

    address: str
    kind: Literal["database", "cache", "broker", "provider"]
    system: str
    host: str | None
    slots: int = 12
    seconds: float = 0.002
    name: str | None = None  # of the database


@dataclass(frozen=True)
class Service:
    name: str
    hosts: tuple[str, ...]  # of each instance
    workers: int
    pool: int
    tier: int
    sends_metrics: bool = True
    sends_logs: bool = True
    sends_limits: bool = True  # of its pools


@dataclass(frozen=True)
class Plan:
    seed: int
    hosts: dict[str, str]  # → zone
    services: dict[str, Service]
    handlers: dict[tuple[str, str], Handler]
    entries: dict[tuple[str, str], float]  # requests a second from outside
    stores: dict[str, Store]
    topics: dict[str, tuple[str, str]]  # → consuming service, and its route
    baggage: bool  # whether the tenant is carried along to all spans
    links: bool  # a consumer links to who published, instead of going on with its trace
    metrics: frozenset[str] = field(default_factory=frozenset)  # what agents send: hosts, databases, brokers

    def of(self, service: str) -> list[Handler]:
        return [handler for (name, _), handler in self.handlers.items() if name == service]

    def using(self, address: str) -> list[Handler]:
        return [handler for handler in self.handlers.values() if any(step.target == address for step in handler.steps)]


def draw(seed: int) -> Plan:
    rng = np.random.default_rng([seed, 1009])
    names = [str(name) for name in rng.permutation(NAMES)]
    zones = [f"z{number}" for number in range(int(rng.integers(2, 4)))]
    hosts = {f"node-{number:02}": zones[number % len(zones)] for number in range(int(rng.integers(5, 9)))}
    tiers = [[names.pop() for _ in range(int(rng.integers(low, high + 1)))] for low, high in TIERS]
    consumer = names.pop()
    stores = _stores(rng, hosts)
    services = {name: _service(rng, name, tier, list(hosts)) for tier, found in enumerate(tiers) for name in found}
    services[consumer] = _service(rng, consumer, 2, list(hosts), workers=3)
    handlers: dict[tuple[str, str], Handler] = {}
    nouns = [str(noun) for noun in rng.permutation(NOUNS)]
    for tier in (2, 1, 0):
        below = [key for key, handler in handlers.items() if services[handler.service].tier == tier + 1]
        for name in tiers[tier]:
            for _ in range(int(rng.integers(1, 4))):
                route = f"/{nouns[int(rng.integers(len(nouns)))]}s/{rng.choice(['list', 'open', 'save', 'find', 'check', 'close'])!s}"
                handlers[name, route] = _handler(rng, name, route, below, stores, tier)
    topic = f"{nouns[0]}.changed"
    consuming = _consuming(rng, consumer, topic, stores)
    _publish(rng, handlers, topic, services, stores)
    handlers[consumer, topic] = consuming
    entries = {key: float(rng.uniform(1.0, 3.0)) for key in handlers if services[key[0]].tier == 0}
    scale = float(rng.uniform(2.0, 3.0)) / sum(entries.values())
    agents = frozenset(name for name in ("hosts", "databases", "brokers") if rng.random() < 0.85)
    return Plan(
        seed,
        hosts,
        services,
        handlers,
        {key: rate * scale for key, rate in entries.items()},
        stores,
        {topic: (consumer, topic)},
        baggage=bool(rng.random() < 0.5),
        links=bool(rng.random() < 0.4),
        metrics=agents,
    )


def _service(rng: Rng, name: str, tier: int, hosts: list[str], workers: int | None = None) -> Service:
    count = int(rng.integers(2, 5))
    placed = tuple(str(host) for host in rng.choice(hosts, count, replace=False))
    return Service(
        name,
        placed,
        workers or int(rng.integers(10, 25)),
        int(rng.integers(4, 9)),
        tier,
        sends_metrics=bool(rng.random() < 0.75),
        sends_logs=bool(rng.random() < 0.75),
        sends_limits=bool(rng.random() < 0.5),
    )


def _stores(rng: Rng, hosts: dict[str, str]) -> dict[str, Store]:
    found: list[Store] = []
    for number in range(int(rng.integers(2, 4))):
        host = f"pg-{number}"
        found.append(Store(f"{host}.data.internal", "database", "postgresql", host, 12, float(rng.uniform(0.002, 0.006)), name=str(rng.choice(NOUNS)) + "s"))
    found.append(Store("kv-0.data.internal", "cache", "redis", "kv-0", 50, 0.0005))
    found.append(Store("bus-0.data.internal", "broker", "rabbitmq", "bus-0", 50, 0.001))
    found.append(Store("api.partner.example", "provider", "", None, 1000, float(rng.uniform(0.03, 0.08))))
    for store in found:
        if store.host:
            hosts[store.host] = str(rng.choice(sorted(set(hosts.values()))))
    return {store.address: store for store in found}


def _handler(rng: Rng, service: str, route: str, below: list[tuple[str, str]], stores: dict[str, Store], tier: int) -> Handler:
    steps = [Step("work", seconds=float(np.exp(rng.uniform(np.log(0.002), np.log(0.02)))))]
    databases = [address for address, store in stores.items() if store.kind == "database"]
    calls = list(rng.permutation(len(below)))[: int(rng.integers(1, 3))] if below else []
    for number, at in enumerate(calls):
        chance = float(rng.choice([1.0, 1.0, 0.6]))
        steps.append(Step("call", *below[int(at)], chance=chance, spare=bool(rng.random() < 0.2), beside=number > 0 and bool(rng.random() < 0.4)))
    if tier == 2 or rng.random() < 0.5:
        address, table = str(rng.choice(databases)), str(rng.choice(TABLES))
        if rng.random() < 0.4:
            steps.append(Step("lookup", "kv-0.data.internal", f"{address} {table}"))
        else:
            steps.append(Step("query", address, f"SELECT * FROM {table} WHERE id = $1"))
        if rng.random() < 0.5:
            steps.append(Step("query", address, f"UPDATE {table} SET seen = now() WHERE id = $1"))
    if tier == 2 and rng.random() < 0.3:
        steps.append(Step("ask", "api.partner.example", "/v2/rates", spare=bool(rng.random() < 0.3)))
    steps.append(Step("work", seconds=float(rng.uniform(0.001, 0.004))))
    module = f"mod-{int(rng.integers(9000))}" if rng.random() < 0.6 else None
    return Handler(service, route, tuple(steps), module)


def _consuming(rng: Rng, consumer: str, topic: str, stores: dict[str, Store]) -> Handler:
    database = str(rng.choice([address for address, store in stores.items() if store.kind == "database"]))
    work = Step("work", seconds=float(rng.uniform(0.02, 0.05)))
    return Handler(consumer, topic, (work, Step("query", database, "INSERT INTO audit VALUES ($1, $2)")))


def _publish(rng: Rng, handlers: dict[tuple[str, str], Handler], topic: str, services: dict[str, Service], stores: dict[str, Store]) -> None:
    """Some handlers publish on their way; one of a front may order work by a message and wait until it is done."""
    keys = [key for key in handlers if services[key[0]].tier <= 1]
    for key in [keys[int(n)] for n in rng.permutation(len(keys))[:2]]:
        old = handlers[key]
        do: Do = "order" if services[key[0]].tier == 0 and rng.random() < 0.7 else "publish"
        handlers[key] = Handler(old.service, old.route, (*old.steps[:-1], Step(do, "bus-0.data.internal", topic), old.steps[-1]), old.module)
