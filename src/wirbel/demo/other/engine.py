"""Plays an installation request by request: what waits for what is an event, and nothing is a formula.

A handler holds a worker of its instance, a processor while it works, a connection while it asks a database, a row while it writes one. Whatever
is changed by a trouble or a person is a number of :class:`Sim` that somebody sets at some time.
"""

from __future__ import annotations

import contextlib
from collections import defaultdict
from collections.abc import Callable, Generator
from dataclasses import dataclass, field
from typing import Any, TypeVar

import numpy as np
import simpy

from wirbel.demo.other.plan import CLIENTS, CORES, TENANTS, Handler, Plan, Service, Step, Store

SLICE_S = 0.05  # for which who is busy keeps a processor before others have their turn
HIT = 0.85  # of what is looked up
SPREAD = 0.7  # of the logarithm of how long work takes: its tail is heavy
LINK_S = 0.0004  # from one host to the next
POOL_WAIT_S, CALL_WAIT_S, ORDER_WAIT_S = 4.0, 10.0, 15.0
MISS = 0.04  # of statements that read the disk
DISK_S = 0.004
ROW_S = 0.003  # for which a writer keeps a row

Play = Generator[Any, Any, Any]
T = TypeVar("T")


class Failed(Exception):
    """A request that failed: with what the caller gets to see."""

    def __init__(self, reason: str, code: int = 500) -> None:
        super().__init__(reason)
        self.reason, self.code = reason, code


@dataclass
class Span:
    trace: int
    id: int
    parent: int
    start: float
    end: float
    kind: int
    service: str
    instance: str  # its id, pod and host at that time
    pod: str
    host: str
    shape: tuple[str, ...]  # what it is about: see records.py
    version: str
    failed: str | None
    code: int
    client: int
    tenant: int
    linked: int = 0


@dataclass
class Instance:
    service: Service
    number: int
    host: str
    workers: simpy.Resource
    pools: dict[str, simpy.Resource]
    version: str = "1.0.0"
    life: int = 0  # how often it was replaced
    slow: float = 1.0
    failing: float = 0.0
    away: bool = False
    memory: float = 200e6
    cpu_s: float = 0.0
    waiting: int = 0
    names: list[tuple[float, tuple[str, str]]] = field(default_factory=list)  # since when (s) it has which id and pod

    @property
    def id(self) -> str:
        return f"{self.service.name}-{self.number}{self.life:02x}-i"

    @property
    def pod(self) -> str:
        return f"{self.service.name}-{self.life:02x}{self.number}f"


@dataclass
class Log:
    at: float
    service: str
    instance: Instance | None
    severity: int
    body: str
    trace: int = 0
    span: int = 0


@dataclass
class Sim:
    """Numbers that troubles set, by what they are about; whatever is not set is 1 (or 0)."""

    plan: Plan
    start: float  # s, of its clock
    end: float
    rng: np.random.Generator
    env: simpy.Environment = field(default_factory=simpy.Environment)
    work: dict[tuple[str, str], float] = field(default_factory=dict)  # handler → factor
    rare: dict[tuple[str, str], tuple[float, float]] = field(default_factory=dict)  # handler → share of requests, and their factor
    failing: dict[tuple[str, str], float] = field(default_factory=dict)  # handler → share that fails
    repeats: dict[tuple[str, str], int] = field(default_factory=dict)  # handler → queries in place of one
    extra: dict[tuple[str, str], Step] = field(default_factory=dict)  # handler → one step more
    statement: dict[tuple[str, str], float] = field(default_factory=dict)  # address, statement → factor
    store: dict[str, float] = field(default_factory=dict)  # address → factor
    refused: dict[str, float] = field(default_factory=dict)  # address → share of errors
    rows: dict[tuple[str, str], simpy.Resource] = field(default_factory=dict)
    held: dict[tuple[str, str], float] = field(default_factory=dict)  # address, table → s for which a writer keeps a row
    disk: dict[str, float] = field(default_factory=dict)  # host → factor on what is read
    link: dict[str, float] = field(default_factory=dict)  # zone → s more on the way to and from it
    only: dict[tuple[str, str], str] = field(default_factory=dict)  # handler → the version that has what is set of it
    hit: float = HIT
    load: dict[tuple[str, str], float] = field(default_factory=dict)
    client_failing: dict[int, float] = field(default_factory=dict)
    tenant_work: dict[int, float] = field(default_factory=dict)
    spans: list[Span] = field(default_factory=list)
    logs: list[Log] = field(default_factory=list)
    lines: list[tuple[str, int, str, float, float, float]] = field(default_factory=list)  # service, severity, text, a second, from, to
    scraped: list[tuple[float, dict[tuple[Any, ...], Any]]] = field(default_factory=list)
    counts: dict[tuple[Any, ...], list[float]] = field(default_factory=lambda: defaultdict(lambda: [0.0, 0.0]))  # requests: count and seconds
    _next: int = 0

    def __post_init__(self) -> None:
        env, plan = self.env, self.plan
        self.cores = {host: simpy.Resource(env, CORES if host.startswith("node") else 2 * CORES) for host in plan.hosts}
        self.disks = {host: simpy.Resource(env, 1) for host in plan.hosts}
        self.busy: dict[str, float] = defaultdict(float)  # host → s of its processors
        self.io: dict[str, float] = defaultdict(float)
        self.slots = {address: simpy.Resource(env, store.slots) for address, store in plan.stores.items()}
        self.queues = {topic: simpy.Store(env) for topic in plan.topics}
        self.instances = {
            name: [
                Instance(service, n, host, simpy.Resource(env, service.workers), {a: simpy.Resource(env, service.pool) for a in plan.stores})
                for n, host in enumerate(service.hosts)
            ]
            for name, service in plan.services.items()
        }
        for key, rate in plan.entries.items():
            env.process(self._come(key, rate))
        for topic, (consumer, _) in plan.topics.items():
            for instance in self.instances[consumer]:
                for _ in range(2):
                    env.process(self._consume(topic, instance))
        env.process(self._scrape())

    def run(self) -> None:
        self.env.run(until=self.end - self.start)

    def at(self, when: float, do: Callable[[], None]) -> None:
        """Does something at a time (s)."""

        def wait() -> Play:
            yield self.env.timeout(max(when - self.start, 0.0))
            do()

        self.env.process(wait())

    @property
    def now(self) -> float:
        return self.start + self.env.now

    def number(self) -> int:
        self._next += 1
        return self._next

    # Requests.

    def _come(self, key: tuple[str, str], rate: float) -> Play:
        phase, depth = self.rng.uniform(0, 2 * np.pi), self.rng.uniform(0.05, 0.3)
        while True:
            now = rate * self.load.get(key, 1.0) * (1 + depth * np.sin(phase + self.env.now / 3600 * 2))
            yield self.env.timeout(self.rng.exponential(1 / now))
            self.env.process(self._request(key))

    def _request(self, key: tuple[str, str]) -> Play:
        context = (self.number(), int(self.rng.choice(len(CLIENTS), p=(0.15, 0.4, 0.3, 0.15))), int(self.rng.zipf(1.5) - 1) % len(TENANTS))
        with contextlib.suppress(Failed):
            yield from self._serve(self._pick(key[0]), self.plan.handlers[key], context, 0)

    def _pick(self, service: str) -> Instance:
        there = [one for one in self.instances[service] if not one.away] or self.instances[service]
        return there[int(self.rng.integers(len(there)))]

    def _serve(self, instance: Instance, handler: Handler, context: tuple[int, int, int], parent: int, consuming: bool = False, linked: int = 0) -> Play:
        """One request of a handler; raises Failed when it fails."""
        key = (handler.service, handler.route)
        with instance.workers.request() as turn:
            yield turn
            span, began, failure = self.number(), self.now, None
            version = instance.version
            try:
                yield from self._steps(instance, handler, context, span)
                if self.rng.random() < max(self._set(self.failing, key, instance, 0.0), instance.failing, self._of_client(handler, context)):
                    raise Failed("InternalError")
            except Failed as failed:
                failure = failed
            shape = ("consume", handler.route) if consuming else ("serve", handler.route, handler.module or "")
            kind = 5 if consuming else 2
            code = 0 if consuming else failure.code if failure else 200
            self._note(context, span, parent, began, kind, instance, shape, version, failure and failure.reason, code, linked)
            if failure:
                if instance.service.sends_logs:
                    self.logs.append(Log(self.now, handler.service, instance, 17, f"{handler.route} failed: {failure.reason}", context[0], span))
                raise failure

    def _set(self, values: dict[tuple[str, str], T], key: tuple[str, str], instance: Instance, usual: T) -> T:
        """What is set of a handler, on instances that have it."""
        return values.get(key, usual) if self.only.get(key, instance.version) == instance.version else usual

    def _of_client(self, handler: Handler, context: tuple[int, int, int]) -> float:
        return self.client_failing.get(context[1], 0.0) if self.plan.services[handler.service].tier == 0 else 0.0

    def _note(
        self,
        context: Any,
        span: int,
        parent: int,
        began: float,
        kind: int,
        instance: Instance,
        shape: Any,
        version: str,
        failed: Any,
        code: int,
        linked: int = 0,
    ) -> None:
        self.spans.append(
            Span(
                context[0],
                span,
                parent,
                began,
                self.now,
                kind,
                instance.service.name,
                instance.id,
                instance.pod,
                instance.host,
                shape,
                version,
                failed,
                code,
                context[1],
                context[2],
                linked,
            )
        )
        count = self.counts[kind, instance.service.name, instance.id, instance.host, shape, version, code, bool(failed)]
        count[0] += 1
        count[1] += self.now - began

    def _steps(self, instance: Instance, handler: Handler, context: Any, span: int) -> Play:
        key = (handler.service, handler.route)
        steps = [*handler.steps, *([self.extra[key]] if key in self.extra else [])]
        at = 0
        while at < len(steps):
            together = [steps[at]]
            while at + 1 < len(steps) and steps[at + 1].beside:
                at += 1
                together.append(steps[at])
            at += 1
            if len(together) == 1:
                yield from self._step(instance, handler, together[0], context, span)
                continue
            outcomes: list[Failed] = []

            def one(step: Step, outcomes: list[Failed] = outcomes) -> Play:
                try:
                    yield from self._step(instance, handler, step, context, span)
                except Failed as failed:
                    outcomes.append(failed)

            yield self.env.all_of([self.env.process(one(step)) for step in together])
            if outcomes:
                raise outcomes[0]

    def _step(self, instance: Instance, handler: Handler, step: Step, context: Any, span: int) -> Play:
        if step.chance < 1 and self.rng.random() >= step.chance:
            return
        try:
            if step.do == "work":
                yield from self._work(instance, handler, step.seconds, context)
            elif step.do == "call":
                yield from self._call(instance, step, context, span)
            elif step.do == "query":
                for _ in range(self._set(self.repeats, (handler.service, handler.route), instance, 1)):
                    yield from self._query(instance, self.plan.stores[step.target], step.what, context, span)
            elif step.do == "lookup":
                yield from self._lookup(instance, step, context, span)
            elif step.do == "ask":
                yield from self._ask(instance, self.plan.stores[step.target], step.what, context, span)
            else:
                yield from self._publish(instance, step, context, span)
        except Failed:
            if not step.spare:
                raise

    def _work(self, instance: Instance, handler: Handler, seconds: float, context: Any) -> Play:
        key = (handler.service, handler.route)
        took = seconds * self.rng.lognormal(-(SPREAD**2) / 2, SPREAD) * self._set(self.work, key, instance, 1.0) * instance.slow
        if self.plan.services[handler.service].tier == 0 or self.plan.baggage:
            took *= self.tenant_work.get(context[2], 1.0)
        share, factor = self._set(self.rare, key, instance, (0.0, 1.0))
        took *= factor if share and self.rng.random() < share else 1.0
        instance.cpu_s += took
        yield from self._use(instance.host, took)

    def _use(self, host: str, seconds: float) -> Play:
        left = seconds
        while left > 0:
            part = min(left, SLICE_S)
            with self.cores[host].request() as turn:
                yield turn
                yield self.env.timeout(part)
            self.busy[host] += part
            left -= part

    def crowd(self, host: str, tasks: int, until: float) -> None:
        """Somebody else's tasks on a host, each of which wants a processor all the time."""

        def task() -> Play:
            while self.now < until:
                yield from self._use(host, SLICE_S)

        for _ in range(tasks):
            self.env.process(task())

    def keep(self, pool: simpy.Resource, seconds: float, share: float) -> None:
        """Somebody in a program who keeps one of its connections for a share of the time."""

        def task() -> Play:
            while True:
                with pool.request() as turn:
                    yield turn
                    yield self.env.timeout(float(self.rng.exponential(seconds)))
                yield self.env.timeout(float(self.rng.exponential(seconds * (1 - share) / share)))

        self.env.process(task())

    def read(self, host: str, until: float, share: float) -> None:
        """Somebody else who reads the disk of a host, for a share of the time, in long pieces."""

        def task() -> Play:
            while self.now < until:
                with self.disks[host].request() as turn:
                    yield turn
                    piece = float(self.rng.exponential(0.03))
                    yield self.env.timeout(piece)
                self.io[host] += piece
                yield self.env.timeout(float(self.rng.exponential(0.03 * (1 - share) / share)))

        self.env.process(task())

    def _way(self, a: str, b: str) -> float:
        za, zb = self.plan.hosts.get(a), self.plan.hosts.get(b)
        more = 0.0 if za == zb else max(self.link.get(za or "", 0.0), self.link.get(zb or "", 0.0))
        return LINK_S + (float(self.rng.exponential(more)) if more else 0.0)

    def _call(self, instance: Instance, step: Step, context: Any, parent: int) -> Play:
        other = self._pick(step.target)
        span, began, failure = self.number(), self.now, None
        yield self.env.timeout(self._way(instance.host, other.host))
        try:
            yield from self._serve(other, self.plan.handlers[step.target, step.what], context, span)
        except Failed as failed:
            failure = Failed("upstream answered 500", failed.code)
        yield self.env.timeout(self._way(instance.host, other.host))
        if failure is None and self.now - began > CALL_WAIT_S:
            failure = Failed("timeout", 504)
        self._note(
            context,
            span,
            parent,
            began,
            3,
            instance,
            ("call", step.target, step.what),
            instance.version,
            failure and failure.reason,
            failure.code if failure else 200,
        )
        if failure:
            raise failure

    def _query(self, instance: Instance, store: Store, statement: str, context: Any, parent: int) -> Play:
        instance.waiting += 1
        with instance.pools[store.address].request() as connection:
            got = yield connection | self.env.timeout(POOL_WAIT_S)
            instance.waiting -= 1
            if connection not in got:
                raise Failed("no connection became free")
            span, began, failed = self.number(), self.now, None
            yield self.env.timeout(self._way(instance.host, store.host or ""))
            with self.slots[store.address].request() as slot:
                yield slot
                yield from self._carry_out(store, statement)
            if self.rng.random() < self.refused.get(store.address, 0.0):
                failed = "server closed the connection"
            self._note(context, span, parent, began, 3, instance, ("query", store.address, statement), instance.version, failed, 0)
            if failed:
                raise Failed(failed)

    def _carry_out(self, store: Store, statement: str) -> Play:
        took = store.seconds * self.rng.lognormal(-0.18, 0.6) * self.store.get(store.address, 1.0) * self.statement.get((store.address, statement), 1.0)
        host = store.host or ""
        if self.rng.random() < MISS * self.disk.get(host, 1.0) * (3.0 if self.statement.get((store.address, statement), 1.0) > 1 else 1.0):
            with self.disks[host].request() as turn:
                yield turn
                piece = float(self.rng.exponential(DISK_S))
                yield self.env.timeout(piece)
            self.io[host] += piece
        yield from self._use(host, took)
        if not statement.startswith("SELECT"):
            table = (store.address, statement.split()[1 if statement.startswith("UPDATE") else 2])
            held = self.held.get(table)
            if held:
                row = self.rows.setdefault(table, simpy.Resource(self.env, 1))
                with row.request() as turn:
                    yield turn
                    yield self.env.timeout(float(self.rng.exponential(held)))

    def _lookup(self, instance: Instance, step: Step, context: Any, parent: int) -> Play:
        store, span, began = self.plan.stores[step.target], self.number(), self.now
        yield self.env.timeout(self._way(instance.host, store.host or "") + float(self.rng.exponential(store.seconds * self.store.get(store.address, 1.0))))
        self._note(context, span, parent, began, 3, instance, ("lookup", store.address, "GET"), instance.version, None, 0)
        if self.rng.random() >= self.hit:
            address, table = step.what.split()
            yield from self._query(instance, self.plan.stores[address], f"SELECT * FROM {table} WHERE key = $1", context, parent)

    def _ask(self, instance: Instance, store: Store, path: str, context: Any, parent: int) -> Play:
        span, began = self.number(), self.now
        took = store.seconds * self.rng.lognormal(-0.18, 0.6) * self.store.get(store.address, 1.0)
        yield self.env.timeout(min(took, CALL_WAIT_S))
        failed = "provider answered 503" if self.rng.random() < self.refused.get(store.address, 0.0) else None
        self._note(context, span, parent, began, 3, instance, ("ask", store.address, path), instance.version, failed, 503 if failed else 200)
        if failed:
            raise Failed(failed)

    def _publish(self, instance: Instance, step: Step, context: Any, parent: int) -> Play:
        """A message; an order waits until somebody has carried it out."""
        span, began, failed = self.number(), self.now, None
        yield self.env.timeout(self._way(instance.host, "bus-0") + float(self.rng.exponential(0.001)))
        done = self.env.event()
        yield self.queues[step.what].put((context, span, done))
        if step.do == "order":
            got = yield done | self.env.timeout(ORDER_WAIT_S)
            failed = None if done in got else "no answer in time"
        self._note(context, span, parent, began, 4, instance, ("publish", step.target, step.what), instance.version, failed, 0)
        if failed:
            raise Failed(failed)

    def _consume(self, topic: str, instance: Instance) -> Play:
        handler = self.plan.handlers[self.plan.topics[topic]]
        while True:
            if instance.away:
                yield self.env.timeout(1.0)
                continue
            context, sender, done = yield self.queues[topic].get()
            linked = self.plan.links
            mine = (self.number(), context[1], context[2]) if linked else context
            with contextlib.suppress(Failed):
                yield from self._serve(instance, handler, mine, 0 if linked else sender, consuming=True, linked=context[0] if linked else 0)
            if not done.triggered:
                done.succeed()

    # What agents read, once a minute.

    def _scrape(self) -> Play:
        while True:
            yield self.env.timeout(60.0)
            found: dict[tuple[Any, ...], Any] = {}
            for host, cores in self.cores.items():
                found["host", host, "busy"] = self.busy[host]
                found["host", host, "idle"] = self.env.now * cores.capacity - self.busy[host]
                found["host", host, "io"] = self.io[host]
            for name, instances in self.instances.items():
                for one in instances:
                    if not one.away:
                        found["instance", name, one.number, one.id, one.host, one.version, "cpu"] = one.cpu_s
                        found["instance", name, one.number, one.id, one.host, one.version, "memory"] = one.memory
                        found["instance", name, one.number, one.id, one.host, one.version, "waiting"] = one.waiting
                        for address, pool in one.pools.items():
                            if any(step.target == address for h in self.plan.of(name) for step in h.steps) and self.plan.stores[address].kind == "database":
                                found["pool", name, one.number, one.id, one.host, one.version, address] = pool.count
            for address, slots in self.slots.items():
                found["store", address, "active"] = slots.count + len(slots.queue)
                waiting = [row for (where, _), row in self.rows.items() if where == address]
                found["store", address, "locks"] = float(sum(len(row.queue) for row in waiting))
            for topic, queue in self.queues.items():
                found["queue", topic, "depth"] = float(len(queue.items))
            counts = {("count", *key): tuple(value) for key, value in self.counts.items()}
            self.scraped.append((self.now, found | counts))
