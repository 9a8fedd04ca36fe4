"""The state of every station over time: who asks whom how often, who waits where, what fails.

Arrival rates follow from the calls that requests make; waiting follows from rates and how long a
server is kept; a caller keeps its worker and its connection while it waits; what fails is asked for
again. So each follows from the others: the state is the fixed point, found by going round until it
settles, for all moments at once.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import wraps

import numpy as np
import numpy.typing as npt

from wirbel.demo.world.conditions import Conditions
from wirbel.demo.world.load import NIGHTLY_H, REFRESH_NS
from wirbel.demo.world.queues import NEARLY_FULL, Waiting, erlang_c, waiting
from wirbel.demo.world.topology import CORES, DISK_GB, Backend, Call, Operation, Topology

Floats = npt.NDArray[np.float64]
MOST_ROUNDS = 24
SETTLED = 1e-3  # change of a mean time in the last round, relative
DAMPING = 0.5
LONGEST_WAIT_S = 8.0  # in an instance's line; the pool's is POOL_WAIT_S
LONGEST_LAG_S = 6 * 3600.0  # of messages: they are kept
POOL_WAIT_S = 5.0
NETWORK_MS = 0.35  # one way between two services, median
PACKETS = 6  # of a call and its answer: any lost one is sent again
RESEND_S = 0.2  # after so long
BACKEND_CPU = 0.25  # share of a backend's time that is its host's processors'
BASE_CPU = 0.35  # cores that a host takes for itself
HEAP = 1.7  # limit of a managed runtime's memory, in its usual use
USUAL_MISSES = 0.02  # of the pages that a database looks at
DISK_READ = 5.0  # how much longer a query takes that finds none of its pages in memory
USUAL_DISK = 0.58  # share of a host's disk that is full


def lognormal_mean(median: float, sigma: float) -> float:
    return median * float(np.exp(sigma**2 / 2))


def times_and_retries(failing: Floats, retries: int) -> tuple[Floats, Floats]:
    """Attempts in the mean, and the share that fails after the last of them."""
    attempts = sum((failing**k for k in range(1, retries + 1)), np.ones_like(failing))
    return attempts, failing ** (retries + 1)


def _once(reckoned: Callable[..., Floats]) -> Callable[..., Floats]:
    """What follows from the conditions alone is reckoned once a state. What is asked about are names, numbers and parts of the state's topology, which stays."""

    @wraps(reckoned)
    def known(state: State, *of: object) -> Floats:
        key = (reckoned.__name__, *(one if isinstance(one, str | int) else id(one) for one in of))
        if key not in state.known:
            state.known[key] = reckoned(state, *of)
        return state.known[key]

    return known


@dataclass
class CallState:
    """Of one call of one operation. Shape (steps,) each."""

    rate: Floats  # attempts a second
    failing: Floats  # share of attempts that fail
    skipped: Floats  # share not made, because the circuit is open
    response: Floats  # s of one attempt, mean


@dataclass
class State:
    topology: Topology
    conditions: Conditions
    came: dict[str, Floats] = field(default_factory=dict)  # requests a second from outside
    entry: dict[str, Floats] = field(default_factory=dict)  # those that somebody takes
    rate: dict[str, Floats] = field(default_factory=dict)  # requests a second of an operation
    response: dict[str, Floats] = field(default_factory=dict)  # s, mean, with the wait for a worker
    failing: dict[str, Floats] = field(default_factory=dict)
    calls: dict[tuple[str, int], CallState] = field(default_factory=dict)
    cpu: dict[str, Floats] = field(default_factory=dict)  # cores wanted on a host
    stretch: dict[str, Floats] = field(default_factory=dict)  # of own work on a host
    own_cpu: dict[tuple[str, int], Floats] = field(default_factory=dict)  # cores of an instance
    workers: dict[tuple[str, int], Waiting] = field(default_factory=dict)
    worker_wait: dict[str, tuple[Floats, Floats]] = field(default_factory=dict)  # of a service: mean wait for one, s, and the share that is turned away
    pools: dict[tuple[str, int, str], Waiting] = field(default_factory=dict)
    keeps: dict[tuple[str, str], Floats] = field(default_factory=dict)  # s that a request of an operation keeps its connection to a database
    pool_size: dict[tuple[str, int, str], Floats] = field(default_factory=dict)
    backends: dict[str, Waiting] = field(default_factory=dict)
    backend_rate: dict[str, Floats] = field(default_factory=dict)
    backend_hold: dict[str, Floats] = field(default_factory=dict)  # s of one answer, without waiting
    backend_work: dict[str, Floats] = field(default_factory=dict)  # servers at work, were its host idle
    known: dict[tuple[object, ...], Floats] = field(default_factory=dict, repr=False)  # see _once

    # What follows from conditions alone.

    @_once
    def share(self, service: str, instance: int) -> Floats:
        """Of the service's requests that go to an instance."""
        given = [self.conditions.factor("instance", service, number) for number in range(len(self.topology.instances[service]))]
        return np.asarray(given[instance] / np.maximum(sum(given), 1e-9))

    @_once
    def hits(self, cache: str) -> Floats:
        return self.topology.hit_rate[cache] * self.conditions.factor("hits", cache)

    def disk(self, host: str) -> Floats:
        """Share that is full."""
        return np.minimum(USUAL_DISK + self.conditions.extra("disk", host) / DISK_GB, 1.0)

    @_once
    def loss(self, one: str, other: str) -> Floats:
        """Share of packets lost between two zones."""
        if one == other:
            return np.zeros(self.conditions.steps)
        return np.maximum(self.conditions.extra("loss", one), self.conditions.extra("loss", other))

    @_once
    def memory(self, service: str, instance: int) -> Floats:
        """MB in use, of a limit of HEAP times the usual."""
        usual = self.topology.services[service].memory_mb
        return np.minimum(usual + self.conditions.extra("memory", service, instance), HEAP * usual)

    @_once
    def pausing(self, service: str, instance: int) -> Floats:
        """Share of time in which the runtime stands still: more when there is little memory left to find."""
        if not self.topology.services[service].managed:
            return np.zeros(self.conditions.steps)
        full = self.memory(service, instance) / (HEAP * self.topology.services[service].memory_mb)
        collecting = 0.004 + 0.16 * np.clip((full - 0.75) / 0.25, 0, 1) ** 2
        return np.minimum(collecting + self.conditions.extra("pause", service, instance), 0.9)

    @_once
    def pause_length(self, service: str, instance: int) -> Floats:
        """Of one pause, s: collecting nearly full memory takes long."""
        full = self.memory(service, instance) / (HEAP * self.topology.services[service].memory_mb)
        return 0.02 + 0.5 * np.clip((full - 0.75) / 0.25, 0, 1)

    def statement_s(self, backend: Backend, call: Call) -> Floats:
        """Median of a statement's time at the backend itself, s."""
        c = self.conditions
        slow = c.factor("time", backend.name) * c.factor("time", backend.name, call.statement)
        io = 1 / (1 - np.minimum(c.extra("io", backend.host), 0.9)) if backend.host else 1.0
        pages = 1 + DISK_READ * (self.misses(backend) - USUAL_MISSES)
        return backend.median_ms * call.cost / 1e3 * slow * pages * io * (self.stretch.get(backend.host, 1.0) if backend.host else 1.0)

    @_once
    def misses(self, backend: Backend) -> Floats:
        """Share of pages that a database has to read from disk: one query that reads everything leaves little room for the others'."""
        return np.minimum(USUAL_MISSES + self.conditions.extra("misses", backend.name), 0.9)

    def backend_failing(self, backend: Backend, call: Call) -> Floats:
        failing = backend.failing + self.conditions.extra("failing", backend.name)
        if backend.host and not call.statement.startswith(("SELECT", "GET")):
            failing = failing + 0.9 * (self.disk(backend.host) >= 1.0)  # nothing can be written any more
        return np.minimum(failing, 0.98)

    @_once
    def lock_s(self, backend: Backend, call: Call) -> Floats:
        return self.conditions.extra("lock", backend.name, call.statement)

    @_once
    def made(self, call: Call) -> Floats:
        """Share of requests that make a call."""
        return call.share * (1 - self.hits(call.on_miss) if call.on_miss else np.ones(self.conditions.steps))

    @_once
    def asked_again(self, operation: Operation, call: Call) -> Floats:
        """How often each version of an app makes a call in place of one; shape (versions, steps), no row where no app makes it."""
        client = self.topology.clients.get(operation.service)
        versions = client.versions if client else ()
        return np.array([self.conditions.factor("app calls", operation.key, call.to, version) for version in versions])

    @_once
    def app_failing(self, operation: Operation) -> Floats:
        """Share of each app version's requests that fail by themselves; shape (versions, steps), no row where no app asks."""
        client = self.topology.clients.get(operation.service)
        return np.array([self.conditions.extra("app failing", operation.key, version) for version in (client.versions if client else ())])

    @_once
    def own_work_s(self, operation: Operation) -> Floats:
        """Own work of a request on an idle machine, mean, s."""
        ms = lognormal_mean(operation.work_ms, operation.spread) + sum(lognormal_mean(c.work_ms, operation.spread) * self.made(c) for c in operation.calls)
        return np.asarray(ms / 1e3 + sum(0.0002 * self.made(c) * self.times(operation, c) for c in operation.calls))

    @_once
    def network_s(self, one: str, other: str) -> Floats:
        """There and back between two services' instances, mean, s: packets that are lost are sent again."""
        lost = np.mean([[self.loss(a.zone, b.zone) for b in self.topology.instances[other]] for a in self.topology.instances[one]], axis=(0, 1))
        return np.asarray(2 * NETWORK_MS / 1e3 + PACKETS * lost * RESEND_S)

    @_once
    def times(self, operation: Operation, call: Call) -> Floats:
        """Calls made in place of one, in the mean over instances."""
        many = sum(
            self.share(operation.service, n) * self.conditions.factor("calls", operation.service, n, call.statement)
            for n in range(len(self.topology.instances[operation.service]))
        )
        again = self.asked_again(operation, call)
        if len(again):
            many = many * again.mean(axis=0)
        return np.asarray(call.times * many)


def entry_rates(topology: Topology, conditions: Conditions, rate: float) -> dict[str, Floats]:
    """Requests a second that are made from outside, whether or not anybody takes them."""
    load = topology.load(conditions.clock)
    found = {}
    for key, share in topology.entries.items():
        shape = _import_rate(conditions) if topology.operations[key].method == "RUN" else rate * share * load
        found[key] = shape * conditions.factor("load", key) * conditions.factor("load", "all") + conditions.extra("bots", key)
    return found


def _import_rate(conditions: Conditions) -> Floats:
    """Runs of the batch: three an hour, and twenty in the nightly hour."""
    usual = 1e9 / REFRESH_NS
    hour = (conditions.clock % (24 * 3600 * 10**9)) / 3600e9
    return np.where((hour >= NIGHTLY_H) & (hour < NIGHTLY_H + 1), 7 * usual, usual)


def solve(topology: Topology, conditions: Conditions, rate: float | None = None) -> State:
    """The state of a world; ``rate`` is requests a second from outside at mean load, if other than the world's own."""
    came = entry_rates(topology, conditions, topology.rate if rate is None else rate)
    taken = {key: made * (1 - conditions.extra("silent", topology.operations[key].service)) for key, made in came.items()}
    state = State(topology, conditions, came=came, entry=taken)
    zeros = np.zeros(conditions.steps)
    for key, operation in state.topology.operations.items():
        state.failing[key] = zeros
        for index, _ in enumerate(operation.calls):
            state.calls[key, index] = CallState(zeros, zeros, zeros, zeros)
    state.stretch = {host: np.ones(conditions.steps) for host in state.topology.hosts}
    for _ in range(MOST_ROUNDS):
        before = dict(state.response)
        _rates(state)
        _processors(state)
        _backends(state)
        _responses(state)
        _workers(state)
        if before and all(np.abs(now - before[key]).max() < SETTLED * now.max() for key, now in state.response.items()):
            break
    return state


def _mixed(old: Floats | None, new: Floats) -> Floats:
    return new if old is None else (1 - DAMPING) * old + DAMPING * new


def _rates(state: State) -> None:
    """From the entries down: what each operation and backend is asked."""
    asked = {key: state.entry.get(key, np.zeros(state.conditions.steps)).copy() for key in state.topology.operations}
    backends = {name: np.zeros(state.conditions.steps) for name in state.topology.backends}
    for key in reversed(state.topology.operations):
        operation = state.topology.operations[key]
        for index, call in enumerate(operation.calls):
            known = state.calls[key, index]
            attempts, _ = times_and_retries(known.failing, state.topology.retries(operation.service, call))
            rate = asked[key] * state.made(call) * state.times(operation, call) * attempts * (1 - known.skipped)
            known.rate = rate
            into = backends if call.to in state.topology.backends else asked
            into[call.to] = into[call.to] + rate
    state.rate, state.backend_rate = asked, backends


def _processors(state: State) -> None:
    wanted = {host: BASE_CPU + state.conditions.extra("cpu", host) for host in state.topology.hosts}
    for service, instances in state.topology.instances.items():
        work = sum(state.own_work_s(o) * state.rate[o.key] for o in state.topology.operations.values() if o.service == service)
        for number, instance in enumerate(instances):
            takes = work * state.share(service, number) * state.conditions.factor("work", service, number) + 0.02
            takes = takes * (1 + 2 * state.pausing(service, number))  # collecting garbage is work too
            state.own_cpu[service, number] = takes
            wanted[instance.host] = wanted[instance.host] + takes
    for backend in state.topology.backends.values():
        if backend.host and backend.name in state.backend_work:
            wanted[backend.host] = wanted[backend.host] + np.minimum(BACKEND_CPU * state.backend_work[backend.name], backend.servers)
    for host, cores in wanted.items():
        steady = np.minimum(cores, NEARLY_FULL * CORES)
        slow = (1 + erlang_c(CORES, steady) / (CORES - steady)) * np.maximum(cores / CORES, 1)
        state.stretch[host] = _mixed(state.stretch.get(host), slow)
        state.cpu[host] = cores


def _backends(state: State) -> None:
    step_s = state.conditions.step_s
    held: dict[str, Floats] = {name: np.zeros(state.conditions.steps) for name in state.topology.backends}
    for key, operation in state.topology.operations.items():
        for index, call in enumerate(operation.calls):
            backend = state.topology.backends.get(call.to)
            if backend:
                hold = state.statement_s(backend, call) * np.exp(backend.spread**2 / 2)
                held[call.to] = held[call.to] + state.calls[key, index].rate * hold
    for name, backend in state.topology.backends.items():
        rate = state.backend_rate[name]
        hold = _mixed(state.backend_hold.get(name), held[name] / np.maximum(rate, 1e-9))
        state.backend_hold[name] = hold
        state.backend_work[name] = held[name] / state.stretch.get(backend.host, 1.0)
        state.backends[name] = waiting(rate, hold, backend.servers, step_s, LONGEST_WAIT_S)
    _pools(state)


def _pools(state: State) -> None:
    """Connections of an instance to a database: kept from a request's first query to its end (Little's law)."""
    rate: dict[tuple[str, str], Floats] = {}
    held: dict[tuple[str, str], Floats] = {}
    for key, operation in state.topology.operations.items():
        for name in state.topology.databases_of(operation):
            place = (operation.service, name)
            asks = state.rate[key] * state.made(next(call for call in operation.calls if call.to == name))
            rate[place] = rate.get(place, 0.0) + asks
            held[place] = held.get(place, 0.0) + asks * state.keeps.get((key, name), 0.01)
    for (service, backend), asks in rate.items():
        hold = np.asarray(held[service, backend] / np.maximum(asks, 1e-9))
        for number in range(len(state.topology.instances[service])):
            c = state.conditions
            size = np.maximum(np.round(state.topology.services[service].pool * c.factor("pool", service, backend)), 1)
            free = np.maximum(size - np.floor(c.extra("leaked", service, number, backend)), 1)
            state.pool_size[service, number, backend] = size
            state.pools[service, number, backend] = waiting(asks * state.share(service, number), hold, free.astype(np.int64), c.step_s, POOL_WAIT_S)


def _pool_wait(state: State, service: str, backend: str) -> tuple[Floats, Floats]:
    """Mean wait for a connection over all instances, s, and the share that gives up."""
    parts = [(state.share(service, n), state.pools[service, n, backend]) for n in range(len(state.topology.instances[service]))]
    return np.asarray(sum(s * w.expected for s, w in parts)), np.asarray(sum(s * w.refused for s, w in parts))


def _responses(state: State) -> None:
    """From the backends up: how long calls and operations take, and how many fail."""
    slowed: dict[str, tuple[Floats, Floats]] = {}
    for key, operation in state.topology.operations.items():
        service = state.topology.services[operation.service]
        c = state.conditions
        ok = np.ones(c.steps)
        serial, branch = np.zeros(c.steps), np.zeros(c.steps)
        before: dict[str, Floats] = {}  # how long a request runs until it first asks a database
        for index, call in enumerate(operation.calls):
            takes, failing = _call_outcome(state, operation, call)
            known = state.calls[key, index]
            known.response = takes
            known.failing = _mixed(known.failing, failing)
            open_share = np.clip((known.failing - 0.3) / 0.4, 0, 0.9) if service.breaker else np.zeros(c.steps)
            known.skipped = _mixed(known.skipped, open_share)
            attempts, lost = times_and_retries(known.failing, state.topology.retries(operation.service, call))
            lost = lost * (1 - known.skipped) + known.skipped
            if call.to in state.topology.databases_of(operation) and call.to not in before:
                waits, gives_up = _pool_wait(state, operation.service, call.to)
                ok = ok * (1 - state.made(call) * gives_up)
                serial = serial + state.made(call) * waits
                before[call.to] = serial + branch
            whole = state.made(call) * state.times(operation, call) * attempts * takes * (1 - known.skipped)
            if call.beside:
                branch = np.maximum(branch, whole)
            else:
                serial, branch = serial + branch, whole
            if not call.optional:
                ok = ok * (1 - np.clip(state.made(call) * lost, 0, 1))
        own = state.own_work_s(operation) * c.factor("speed", operation.service)
        if operation.service not in slowed:
            slowed[operation.service] = _slowed(state, operation.service)
        slow, stopped = slowed[operation.service]
        whole = serial + branch + own * slow + stopped
        for name, until in before.items():
            state.keeps[key, name] = _mixed(state.keeps.get((key, name)), whole - until - np.where(until > 0, 0.5 * own * slow, 0.0))
        state.response[key] = _mixed(state.response.get(key), whole)
        failing = operation.failing + c.extra("failing", key)
        failing = failing + sum(
            state.share(operation.service, n) * c.extra("failing", operation.service, n) for n in range(len(state.topology.instances[operation.service]))
        )
        by_app = state.app_failing(operation)
        failing = failing + (by_app.mean(axis=0) if len(by_app) else 0.0)
        state.failing[key] = np.clip(1 - ok * (1 - failing), 0, 0.99)


def _slowed(state: State, service: str) -> tuple[Floats, Floats]:
    """How much longer a service's own work takes than on an idle machine, and for how long it stands still in the mean, s."""
    instances = list(enumerate(state.topology.instances[service]))
    slow = sum(
        state.share(service, n) * state.conditions.factor("work", service, n) * state.stretch[i.host] / (1 - state.pausing(service, n)) for n, i in instances
    )
    stopped = sum(state.share(service, n) * state.pausing(service, n) * state.pause_length(service, n) / 2 for n, _ in instances)
    return np.asarray(slow), np.asarray(stopped)


def _call_outcome(state: State, operation: Operation, call: Call) -> tuple[Floats, Floats]:
    """Seconds that one attempt takes in the mean, and the share of attempts that fail."""
    timeout = state.topology.services[operation.service].timeout_s
    backend = state.topology.backends.get(call.to)
    if backend:
        takes = state.statement_s(backend, call) * np.exp(backend.spread**2 / 2) + state.backends[call.to].expected + state.lock_s(backend, call)
        failing = state.backend_failing(backend, call) + state.backends[call.to].refused
        if backend.kind != "external":
            return takes, np.clip(failing, 0, 0.98)
    else:
        callee = state.topology.operations[call.to]
        if call.inner:
            return state.response[call.to], state.failing[call.to]
        waits, turned_away = state.worker_wait.get(callee.service, (np.zeros(state.conditions.steps),) * 2)
        takes = state.response[call.to] + waits + state.network_s(operation.service, callee.service)
        failing = state.failing[call.to] + turned_away
    # How many take longer than the caller waits: as if times were exponential, once they are near it.
    late = np.where(takes > timeout / 8, np.exp(-timeout / np.maximum(takes, 1e-9)), 0.0)
    return np.minimum(takes, timeout), np.clip(failing + late, 0, 0.98)


def _workers(state: State) -> None:
    """A request keeps a worker of its instance from beginning to end."""
    for service, instances in state.topology.instances.items():
        mine = [o for o in state.topology.operations.values() if o.service == service and o.method != "STEP"]
        rate = sum(state.rate[o.key] for o in mine)
        hold = sum(state.rate[o.key] * state.response[o.key] for o in mine) / np.maximum(rate, 1e-9)
        longest = LONGEST_LAG_S if mine[0].method == "CONSUME" else LONGEST_WAIT_S
        for number in range(len(instances)):
            slow = state.conditions.factor("work", service, number)
            came = np.asarray(rate * state.share(service, number))
            state.workers[service, number] = waiting(
                came, np.asarray(hold * (1 + 0.3 * (slow - 1))), state.topology.services[service].workers, state.conditions.step_s, longest
            )
        lines = [(state.share(service, n), state.workers[service, n]) for n in range(len(instances))]
        state.worker_wait[service] = np.asarray(sum(s * w.expected for s, w in lines)), np.asarray(sum(s * w.refused for s, w in lines))
