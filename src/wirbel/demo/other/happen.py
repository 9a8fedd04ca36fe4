"""What happens in the second world: troubles, each with its truth, and what people do every day and everywhere."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from wirbel.core.text import rfc3339
from wirbel.demo.other.engine import Instance, Sim
from wirbel.demo.other.plan import CLIENTS, CORES, TENANTS, Step

MINUTE_S = 60.0
AWAY_S = 15.0  # of an instance that is replaced
EVERYDAY = 7.0  # changes in the two hours before somebody asks, in the mean
OF_A_CULPRIT = 1.2  # of them besides on each thing at fault
FORGOTTEN = 0.15  # of the guilty changes nobody tells
WORDS = ("cannot open part", "skipped record", "slow reply from peer", "refreshing catalogue", "started with profile")


@dataclass
class Trouble:
    """What is wrong, from ``onset`` (s) on; any of the entities, and of the mechanisms, is right."""

    kind: str
    onset: float
    entities: list[tuple[str, str]] = field(default_factory=list)
    mechanisms: list[str] = field(default_factory=list)
    services: list[str] = field(default_factory=list)
    change: str | None = None
    hurts: bool = True
    instances: list[Instance] = field(default_factory=list)  # at fault, by all ids that they have from then on

    def named(self) -> list[tuple[str, str]]:
        """All entities at fault, once the world was played."""
        return [*self.entities, *(("instance", name) for one in self.instances for at, names in one.names if at >= self.onset for name in names)]


@dataclass
class Story:
    """One trouble being told: the world, random numbers, when it begins, and the changes that people tell of."""

    sim: Sim
    rng: np.random.Generator
    onset: float
    changes: list[dict[str, Any]] = field(default_factory=list)
    version: str = ""  # the last one that was released

    def change(self, kind: str, at: float, service: str | None, summary: str, **more: Any) -> str:
        name = f"{kind}-{len(self.changes)}-{int(at)}"
        self.changes.append({"id": name, "kind": kind, "at": rfc3339(int(at * 1e9)), "service": service, "summary": summary, "environment": "live", **more})
        return name

    def release(self, service: str, at: float, only: int | None = None) -> str:
        """A new version: instance after instance is replaced by one with another id. It is announced as it begins."""
        version = f"1.{int(at // 60) % 1000}.{self.rng.integers(10)}"
        for n, instance in enumerate(self.sim.instances[service]):
            if only in (None, n):
                self._replace(instance, at + n * 20.0, version)
        entity = {} if only is None else {"k8s.pod.name": self.sim.instances[service][only].pod}
        self.version = version
        return self.change("deploy", at, service, f"{service} {version}", version=version, entity=entity)

    def release_of(self, key: tuple[str, str], at: float) -> str:
        """A new version that alone has what is set of a handler."""
        change = self.release(key[0], at)
        self.sim.only[key] = self.version
        return change

    def _replace(self, instance: Instance, at: float, version: str | None) -> None:
        def leave() -> None:
            instance.away = True

        def return_() -> None:
            instance.away, instance.life, instance.version = False, instance.life + 1, version or instance.version
            instance.cpu_s, instance.memory = 0.0, 200e6
            instance.names.append((self.sim.now, (instance.id, instance.pod)))

        self.sim.at(at, leave)
        self.sim.at(at + AWAY_S, return_)

    def restart(self, service: str, at: float) -> str:
        for n, instance in enumerate(self.sim.instances[service]):
            self._replace(instance, at + n * 20.0, None)
        return self.change("restart", at, service, f"{service} restarted", actor="on call")

    def says(self, service: str, severity: int, words: str, a_second: float, since: float) -> None:
        self.sim.lines.append((service, severity, words, a_second, since, self.sim.end))

    def pick(self, options: list[Any]) -> Any:
        return options[int(self.rng.integers(len(options)))]

    # Where it can strike: what is asked for often enough.

    def rates(self) -> dict[tuple[str, str], float]:
        """Requests a second of each handler that is reached from a front."""
        plan, rate = self.sim.plan, dict(self.sim.plan.entries)
        for tier in range(3):
            for key, handler in plan.handlers.items():
                if plan.services[key[0]].tier == tier and key in rate:
                    for step in handler.steps:
                        if step.do == "call":
                            rate[step.target, step.what] = rate.get((step.target, step.what), 0.0) + rate[key] * step.chance
        return rate

    def used(self) -> list[tuple[str, str]]:
        """Handlers that are asked often enough for people to feel what they do."""
        total = sum(self.sim.plan.entries.values())
        return [key for key, often in self.rates().items() if often > 0.12 * total]

    def inner(self) -> tuple[str, str]:
        found = [key for key in self.used() if self.sim.plan.services[key[0]].tier > 0]
        return self.pick(found)  # type: ignore[no-any-return]

    def query(self) -> tuple[tuple[str, str], Step]:
        found = [(key, step) for key in self.used() for step in self.sim.plan.handlers[key].steps if step.do == "query"]
        return self.pick(found)  # type: ignore[no-any-return]

    def lag(self) -> float:
        """s from a change until it takes effect."""
        return float(self.rng.uniform(0, 40))


def _service(story: Story, service: str, mechanisms: list[str], change: str | None = None, more: list[tuple[str, str]] | None = None) -> Trouble:
    return Trouble("", story.onset, [("service", service), *(more or [])], mechanisms, [service], change)


def slow_code(story: Story) -> Trouble:
    """A version works longer at one of its operations."""
    key = story.inner()
    change = story.release_of(key, story.onset - AWAY_S)
    story.sim.at(story.onset, lambda: story.sim.work.update({key: float(story.rng.uniform(6, 14))}))
    return _service(story, key[0], ["deploy", "slower-work"], change, [("operation", f"{key[0]} GET {key[1]}")])


def slow_code_untold(story: Story) -> Trouble:
    """The same, with no change at all: something that it reads has grown."""
    key = story.inner()
    story.sim.at(story.onset, lambda: story.sim.work.update({key: float(story.rng.uniform(6, 14))}))
    return _service(story, key[0], ["slower-work"], None)


def rare_path(story: Story) -> Trouble:
    """A version takes very long for a few of its requests."""
    key = story.inner()
    change = story.release_of(key, story.onset - AWAY_S)
    story.sim.at(story.onset, lambda: story.sim.rare.update({key: (float(story.rng.uniform(0.06, 0.12)), float(story.rng.uniform(60, 120)))}))
    return _service(story, key[0], ["deploy", "slower-work"], change)


def one_by_one(story: Story) -> Trouble:
    """A version asks for rows one by one."""
    key, _ = story.query()
    change = story.release_of(key, story.onset - AWAY_S)
    story.sim.at(story.onset, lambda: story.sim.repeats.update({key: int(story.rng.integers(30, 60))}))
    return _service(story, key[0], ["deploy", "more-calls"], change)


def flag_on(story: Story) -> Trouble:
    """A flag makes a handler call another service as well."""
    key, other = story.inner(), story.inner()
    change = story.change("flag", story.onset - story.lag(), key[0], "compare with the other list", before={"compare": False}, after={"compare": True})
    repeated = Step("call", *other)

    def turn_on() -> None:
        plan, old = story.sim.plan, story.sim.plan.handlers[key]
        plan.handlers[key] = type(old)(old.service, old.route, (*old.steps, *[repeated] * 6), old.module)

    if other == key or story.sim.plan.services[other[0]].tier <= story.sim.plan.services[key[0]].tier:
        story.sim.at(story.onset, lambda: story.sim.repeats.update({key: 25}))
        story.sim.at(story.onset, lambda: story.sim.work.update({key: 6.0}))
    else:
        story.sim.at(story.onset, turn_on)
    return _service(story, key[0], ["config", "more-calls", "slower-work"], change)


def small_pool(story: Story) -> Trouble:
    """A configuration leaves instances one connection each, and statements hold it."""
    key, step = story.query()
    change = story.change("config", story.onset - story.lag(), key[0], "database settings", before={"connections": 6}, after={"connections": 1})

    def shrink() -> None:
        for instance in story.sim.instances[key[0]]:
            pool = instance.pools[step.target]
            pool._capacity = 1
            # Something in the program keeps a connection without asking anything: with six there was one for everybody else.
            story.sim.keep(pool, float(story.rng.uniform(0.2, 0.5)), 0.7)

    story.sim.at(story.onset, shrink)
    return _service(story, key[0], ["config", "waiting", "saturation"], change)


def failing_config(story: Story) -> Trouble:
    """A setting makes a part of the requests fail."""
    key = story.inner()
    change = story.change("config", story.onset - story.lag(), key[0], "limits", before={"items": 500}, after={"items": 20})
    story.sim.at(story.onset, lambda: story.sim.failing.update({key: float(story.rng.uniform(0.15, 0.6))}))
    if story.rng.random() < 0.5:
        story.says(key[0], 17, "request refused: too many items", 0.5, story.onset)
    return _service(story, key[0], ["config", "errors"], change)


def failing_release(story: Story) -> Trouble:
    key = story.inner()
    change = story.release_of(key, story.onset - AWAY_S)
    story.sim.at(story.onset, lambda: story.sim.failing.update({key: float(story.rng.uniform(0.15, 0.6))}))
    return _service(story, key[0], ["deploy", "errors"], change)


def sick_instance(story: Story) -> Trouble:
    """One instance works badly; nothing was changed."""
    key = story.inner()
    instance = story.pick(story.sim.instances[key[0]])
    fails = story.rng.random() < 0.4

    def fall_ill() -> None:
        instance.names.append((story.sim.now, (instance.id, instance.pod)))
        instance.slow, instance.failing = (1.0, float(story.rng.uniform(0.3, 0.8))) if fails else (float(story.rng.uniform(12, 25)), 0.0)

    story.sim.at(story.onset, fall_ill)
    found = _service(story, key[0], ["errors", "slower-work", "saturation"])
    found.entities, found.instances = [], [instance]
    return found


def canary(story: Story) -> Trouble:
    """A version on one instance."""
    key = story.inner()
    number = int(story.rng.integers(len(story.sim.instances[key[0]])))
    instance = story.sim.instances[key[0]][number]
    change = story.release(key[0], story.onset - AWAY_S - number * 20.0, only=number)

    def begin() -> None:
        instance.slow = float(story.rng.uniform(12, 25))
        instance.names.append((story.sim.now, (instance.id, instance.pod)))

    story.sim.at(story.onset + 0.1, begin)  # it runs by then
    found = _service(story, key[0], ["deploy", "slower-work"], change)
    found.instances.append(instance)
    return found


def crowded_host(story: Story) -> Trouble:
    """Somebody else takes the processors of a host."""
    hosts = sorted({one.host for key in story.used() for one in story.sim.instances[key[0]]})
    host = story.pick(hosts)
    tasks = int(CORES * story.rng.uniform(2, 4))
    story.sim.at(story.onset, lambda: story.sim.crowd(host, tasks, story.sim.end))
    found = Trouble("", story.onset, [("host", host)], ["saturation", "slower-work"], [])
    return found


def busy_disk(story: Story) -> Trouble:
    """A backup reads the disk of a database's host; in a part of the cases somebody tells of it."""
    _, step = story.query()
    host = story.sim.plan.stores[step.target].host
    told = story.rng.random() < 0.6
    change = story.change("job", story.onset - story.lag() / 4, None, "backup", entity={"host.name": host}) if told else None
    story.sim.at(story.onset, lambda: story.sim.read(host or "", story.sim.end, 0.93))
    story.sim.at(story.onset, lambda: story.sim.disk.update({host or "": 8.0}))
    return Trouble("", story.onset, [("host", host or ""), ("database", step.target)], ["disk", "saturation", "slower-work"], [], change)


def row_lock(story: Story) -> Trouble:
    """A job holds rows of a table for long."""
    found = [(key, step) for key in story.used() for step in story.sim.plan.handlers[key].steps if step.do == "query" and step.what.startswith("UPDATE")]
    _, step = story.pick(found) if found else story.query()
    table = step.what.split()[1] if step.what.startswith("UPDATE") else step.what.split()[3]
    told = story.rng.random() < 0.6
    change = story.change("job", story.onset - story.lag() / 4, None, f"tidy {table}", entity={"server.address": step.target}) if told else None
    writes = [
        (key, one)
        for key in story.rates()
        for one in story.sim.plan.handlers[key].steps
        if one.what.startswith(f"UPDATE {table} ") and one.target == step.target
    ]
    rate = sum(story.rates()[key] for key, _ in writes)
    story.sim.at(story.onset, lambda: story.sim.held.update({(step.target, table): min(0.6 / max(rate, 0.1), 0.8)}))
    if not found:
        story.sim.at(story.onset, lambda: story.sim.statement.update({(step.target, step.what): 25.0}))
    return Trouble("", story.onset, [("database", step.target)], ["lock", "slower-work"], [], change)


def lost_index(story: Story) -> Trouble:
    """A migration makes a statement slow; or the planner changes its mind by itself."""
    key, step = story.query()
    told = story.rng.random() < 0.6
    database = story.sim.plan.stores[step.target]
    change = story.change("migration", story.onset - story.lag() / 4, key[0], "drop unused index", entity={"db.namespace": database.name}) if told else None
    story.sim.at(story.onset, lambda: story.sim.statement.update({(step.target, step.what): float(story.rng.uniform(10, 25))}))
    return Trouble("", story.onset, [("database", step.target)], ["slower-work", "disk"], [], change)


def _provider(story: Story) -> str | None:
    used = {step.target for key in story.used() for step in story.sim.plan.handlers[key].steps if step.do == "ask"}
    return story.pick(sorted(used)) if used else None


def _partner(story: Story, of_all: dict[str, float], low: float, high: float, mechanism: str) -> Trouble | None:
    """What the engine knows of all stores (``of_all``), set for a provider; None where nobody asks one."""
    address = _provider(story)
    if address is None:
        return None
    story.sim.at(story.onset, lambda: of_all.update({address: float(story.rng.uniform(low, high))}))
    return Trouble("", story.onset, [("external", address)], ["external", mechanism], [])


def partner_slow(story: Story) -> Trouble | None:
    return _partner(story, story.sim.store, 8, 20, "slower-work")


def partner_down(story: Story) -> Trouble | None:
    return _partner(story, story.sim.refused, 0.4, 0.95, "errors")


def consumer_slow(story: Story) -> Trouble:
    """Who carries out what the queue holds takes longer for each message than messages come."""
    consumer, route = next(iter(story.sim.plan.topics.values()))
    told = story.rng.random() < 0.5
    change = story.release_of((consumer, route), story.onset - AWAY_S) if told else None
    plan = story.sim.plan
    sent = sum(rate for key, rate in story.rates().items() for step in plan.handlers[key].steps if step.what == route)
    can = 2 * len(story.sim.instances[consumer]) / plan.handlers[consumer, route].steps[0].seconds
    times = float(story.rng.uniform(1.1, 1.5)) * can / max(sent, 0.05)
    story.sim.at(story.onset, lambda: story.sim.work.update({(consumer, route): times}))
    return _service(story, consumer, ["slower-work", "waiting", "saturation", *(["deploy"] if told else [])], change)


def cold_cache(story: Story) -> Trouble | None:
    """The cache has lost what it held, and keeps nothing for long."""
    lookups = [key for key in story.used() if any(step.do == "lookup" for step in story.sim.plan.handlers[key].steps)]
    if not lookups:
        return None
    address = "kv-0.data.internal"
    change = story.change(
        "config", story.onset - story.lag(), None, "memory policy", entity={"server.address": address}, before={"keep": "3600"}, after={"keep": "1"}
    )
    story.sim.at(story.onset, lambda: setattr(story.sim, "hit", 0.02))
    for key in lookups:
        for step in story.sim.plan.handlers[key].steps:
            if step.do == "lookup":
                where, table = step.what.split()
                story.sim.statement[where, f"SELECT * FROM {table} WHERE key = $1"] = 30.0
    return Trouble(
        "", story.onset, [("database", address), *(("service", key[0]) for key in lookups)], ["cache", "config", "more-calls", "slower-work"], [], change
    )


def more_traffic(story: Story) -> Trouble:
    """Several times as many users as usual; nothing is broken."""
    front = story.pick(sorted({key[0] for key in story.sim.plan.entries}))
    keys = [key for key in story.sim.plan.entries if key[0] == front]
    times = float(story.rng.uniform(3.3, 4.3))
    story.sim.at(story.onset, lambda: story.sim.load.update(dict.fromkeys(keys, times)))
    # Whom it asks is as large as it has to be for the usual.
    rates, plan = story.rates(), story.sim.plan
    called = story.pick(sorted({step.target for key in keys for step in plan.handlers[key].steps if step.do == "call"}))
    mine = [key for key in rates if key[0] == called]
    work = sum(rates[key] * sum(step.seconds for step in plan.handlers[key].steps) for key in mine)
    for key in mine:
        story.sim.work[key] = 0.22 * len(story.sim.instances[called]) / work
    for instance in story.sim.instances[called]:
        instance.workers._capacity = 1
    return Trouble("", story.onset, [("load", "load"), ("load", front)], ["traffic"], [front])


def old_client(story: Story) -> Trouble:
    """Requests of one version of an app fail."""
    client = int(story.rng.integers(1, len(CLIENTS)))
    share = float(story.rng.uniform(0.4, 0.9))
    story.sim.at(story.onset, lambda: story.sim.client_failing.update({client: share}))
    fronts = sorted({key[0] for key in story.sim.plan.entries})
    return Trouble("", story.onset, [("attribute", "app.build"), ("attribute", CLIENTS[client])], ["errors"], fronts)


def heavy_tenant(story: Story) -> Trouble:
    """One customer's requests are much more work than they were."""
    tenant = int(story.rng.integers(0, 3))
    story.sim.at(story.onset, lambda: story.sim.tenant_work.update({tenant: float(story.rng.uniform(15, 30))}))
    return Trouble("", story.onset, [("attribute", "customer.id"), ("attribute", TENANTS[tenant])], ["slower-work", "saturation"], [])


def slow_link(story: Story) -> Trouble:
    """The way to and from a zone is slow."""
    zone = story.pick(sorted(set(story.sim.plan.hosts.values())))
    story.sim.at(story.onset, lambda: story.sim.link.update({zone: float(story.rng.uniform(0.03, 0.08))}))
    return Trouble("", story.onset, [("zone", zone)], ["network"], [])


def leak(story: Story) -> Trouble:
    """A version keeps what it should give back: after half an hour it mostly cleans up."""
    key = story.inner()
    begins = 22 * MINUTE_S
    change = story.release(key[0], story.onset - begins)

    def grow(minute: int) -> Callable[[], None]:
        def later() -> None:
            for instance in story.sim.instances[key[0]]:
                instance.memory = 200e6 + 50e6 * minute
                instance.slow = 1.0 + max(0.0, (minute - begins / MINUTE_S)) ** 1.2 * 0.9

        return later

    for minute in range(1, 60):
        story.sim.at(story.onset - begins + minute * MINUTE_S, grow(minute))
    return _service(story, key[0], ["deploy", "memory", "slower-work", "saturation"], change)


def quiet(story: Story) -> Trouble:
    """Nothing is wrong."""
    return Trouble("", story.onset, hurts=False)


def two_at_once(story: Story) -> Trouble:
    """Two of the others within three minutes, of which either is right."""
    names = [name for name in TROUBLES if name not in ("quiet", "two-at-once", "leak", "more-traffic")]
    first = None
    while first is None:
        first = TROUBLES[str(story.rng.choice(names))](story)
    later = Story(story.sim, story.rng, story.onset + float(story.rng.uniform(20, 180)), story.changes)
    second = None
    while second is None:
        second = TROUBLES[str(story.rng.choice(names))](later)
    first.entities += second.entities
    first.mechanisms += second.mechanisms
    first.services += second.services
    first.instances += second.instances
    first.change = first.change or second.change
    return first


Tell = Callable[[Story], "Trouble | None"]
TROUBLES: dict[str, Tell] = {
    "slow-code": slow_code,
    "slow-code-untold": slow_code_untold,
    "rare-path": rare_path,
    "one-by-one": one_by_one,
    "flag-on": flag_on,
    "small-pool": small_pool,
    "failing-config": failing_config,
    "failing-version": failing_release,
    "sick-instance": sick_instance,
    "canary": canary,
    "crowded-host": crowded_host,
    "busy-disk": busy_disk,
    "row-lock": row_lock,
    "lost-index": lost_index,
    "partner-slow": partner_slow,
    "partner-down": partner_down,
    "consumer-slow": consumer_slow,
    "cold-cache": cold_cache,
    "more-traffic": more_traffic,
    "old-client": old_client,
    "heavy-tenant": heavy_tenant,
    "slow-link": slow_link,
    "leak": leak,
    "two-at-once": two_at_once,
    "quiet": quiet,
}


def everyday(story: Story, trouble: Trouble) -> None:
    """Changes of which nothing comes: anywhere, and on what is at fault, at any time."""
    sim, rng = story.sim, story.rng
    released = any(change["kind"] == "deploy" and change["id"] == trouble.change for change in story.changes)
    culprits = [(kind, name) for kind, name in trouble.entities if kind in ("service", "database", "host")]
    culprits += [("service", name) for name in trouble.services if ("service", name) not in culprits]
    places = [("service", str(rng.choice(list(sim.plan.services)))) for _ in range(rng.poisson(EVERYDAY))]
    for kind, name in [*places, *[one for one in culprits for _ in range(rng.poisson(OF_A_CULPRIT))]]:
        before = rng.random() < 0.75
        at = trouble.onset - float(np.exp(rng.uniform(np.log(5), np.log(80)))) * MINUTE_S if before else trouble.onset + float(rng.uniform(1, 20)) * MINUTE_S
        _innocent(story, kind, name, at, may_release=not (released and name in trouble.services))


def _innocent(story: Story, kind: str, name: str, at: float, may_release: bool) -> None:
    rng = story.rng
    what = str(rng.choice(["deploy", "config", "flag", "restart", "migration", "job"])) if kind == "service" else str(rng.choice(["job", "config"]))
    if what in ("deploy", "restart") and (not may_release or at < story.sim.start):
        what = "config"
    if what == "deploy":
        story.release(name, at)
        if rng.random() < 0.5:
            story.says(name, int(rng.choice([9, 9, 13])), f"{story.pick(list(WORDS))} {int(rng.integers(99))}", float(rng.uniform(0.02, 1.0)), at)
    elif what == "restart":
        story.restart(name, at)
    else:
        about = {"host": "host.name", "database": "server.address"}.get(kind)
        more: dict[str, Any] = {"before": {"n": 1}, "after": {"n": 2}} if what in ("config", "flag") else {}
        if about:
            more["entity"] = {about: name}
        story.change(what, at, name if kind == "service" else None, f"{what} of {name}", **more)
