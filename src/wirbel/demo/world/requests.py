"""The world's requests as spans: whole batches of one kind of request at a time, with NumPy.

A request is a tree of steps. Each asks the state of the station it comes to at that moment how long
it waits there: for a worker, a connection, a backend, a lock, a packet sent again. A caller waits for
what it calls, gives up when that takes too long, and asks again when it may.
"""

from __future__ import annotations

import re
import zlib
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from wirbel.core.signals import spans
from wirbel.demo.world.columns import Pieces
from wirbel.demo.world.happenings import Happenings
from wirbel.demo.world.queues import Waiting
from wirbel.demo.world.state import NETWORK_MS, PACKETS, POOL_WAIT_S, RESEND_S, State
from wirbel.demo.world.told import BROKEN, CIRCUIT_OPEN, FINE, LATE, NO_CONNECTION, TURNED_AWAY, table_of
from wirbel.demo.world.topology import Backend, Call, Operation

Ints = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]
Flags = npt.NDArray[np.bool_]
Ids = npt.NDArray[np.uint64]
BACK_OFF_S = 0.08  # before the first retry; twice as long before each further one
FAST_S = 0.004  # how long a refused connection takes
PASSENGERS, GATES = 20_000, 24
SHIFTS, SHIFT_NS = 3, 8 * 3600 * 10**9  # of the staff at a gate


@dataclass
class Served:
    """What became of a batch of requests, for whoever sent them."""

    end: Ints  # ns
    reason: npt.NDArray[np.int8]  # FINE, or why it failed


class Traffic:
    """Makes the spans of any stretch of a solved world; the same for the same seed and stretch.

    Of all requests the share ``kept`` is recorded, and each span says what it stands for.
    """

    def __init__(self, seed: int, state: State, happenings: Happenings, kept: float) -> None:
        self.seed, self.state, self.happenings, self.kept = seed, state, happenings, kept
        self.topology = state.topology
        self._rng = np.random.default_rng(seed)
        self._out = Pieces()
        self._weight = 1.0  # of the spans being made
        self._stacks: dict[tuple[str, ...], Floats] = {}

    def spans(self, start: int, end: int) -> pa.Table:
        """All spans of recorded requests that begin in [start, end) ns."""
        rng = self._rng = np.random.default_rng([self.seed, start // 10**6])
        self._out = Pieces()
        conditions = self.state.conditions
        for key in self.topology.entries:
            # Runs of the batch are few, and all recorded.
            self._weight = 1.0 if self.topology.operations[key].method == "RUN" else 1 / self.kept
            rate = self.state.entry[key] / self._weight
            peak = float(rate.max()) * 1.01 + 1e-12
            count = rng.poisson(peak * (end - start) / 1e9)
            times = np.sort(rng.uniform(start, end, count)).astype(np.int64)
            step = conditions.step_of(times)
            times = times[rng.uniform(0, peak, count) < rate[step]]
            if len(times):
                trace = rng.integers(0, 2**63, (len(times), 2), dtype=np.uint64) * np.uint64(2) + np.uint64(1)
                self._serve(self.topology.operations[key], times, trace, np.zeros(len(times), np.uint64), None, root=True)
        return table_of(self._out, self.topology)

    # What a station is like for each of many rows.

    def _stack(self, *name: str) -> Floats:
        """A quantity of all instances of a service over time; shape (instances, steps)."""
        if name not in self._stacks:
            kind, service = name[0], name[1]
            state, conditions = self.state, self.state.conditions
            made: dict[str, Callable[[int], Floats]] = {
                "share": lambda n: state.share(service, n),
                "slow": lambda n: (
                    conditions.factor("work", service, n) * state.stretch[self.topology.instances[service][n].host] * conditions.factor("speed", service)
                ),
                "pausing": lambda n: state.pausing(service, n),
                "pause": lambda n: state.pause_length(service, n),
                "failing": lambda n: conditions.extra("failing", service, n),
                "calls": lambda n: conditions.factor("calls", service, n, name[-1]),
                "worker": lambda n: _rows_of(state.workers[service, n]),
                "pool": lambda n: _rows_of(state.pools[service, n, name[-1]]),
            }
            self._stacks[name] = np.stack([made[kind](n) for n in range(len(self.topology.instances[service]))])
        return self._stacks[name]

    def _wait(self, name: tuple[str, ...], instance: Ints, step: Ints) -> tuple[Floats, Flags]:
        """Seconds that each row waits at its instance's station, and who is turned away."""
        chance, mean, line, refused = self._stack(*name)[instance, :, step].T
        rng = self._rng
        waits = np.where(rng.random(len(step)) < chance, rng.exponential(1.0, len(step)) * mean, 0.0)
        return waits + line * rng.uniform(0.9, 1.1, len(step)), rng.random(len(step)) < refused

    def _lognormal(self, median_ms: float | Floats, sigma: float, count: int) -> Floats:
        return np.asarray(median_ms * np.exp(sigma * self._rng.standard_normal(count)))

    def _travel(self, zones: tuple[npt.NDArray[np.object_], npt.NDArray[np.object_]], step: Ints) -> Ints:
        """ns of one way between two zones; lost packets are sent again after a while, and after twice that."""
        rng = self._rng
        delay = self._lognormal(NETWORK_MS, 0.3, len(step)) / 1e3
        for one in sorted(set(zones[0])):
            for other in sorted(set(zones[1]) - {one}):
                lost = self.state.loss(one, other)
                if lost.any():
                    rows = np.flatnonzero((zones[0] == one) & (zones[1] == other))
                    again = 1 - (1 - lost[step[rows]]) ** (PACKETS / 2)
                    times = np.minimum(rng.geometric(np.maximum(1 - again, 0.05)) - 1, 4)
                    delay[rows] += RESEND_S * (2.0**times - 1)
        return np.asarray(delay * 1e9, np.int64)

    # A request at a service.

    def _serve(
        self,
        operation: Operation,
        sent: Ints,
        trace: Ids,
        parent: Ids,
        zones: npt.NDArray[np.object_] | None,
        root: bool = False,
        at_instance: Ints | None = None,
    ) -> Served:
        """Serves requests sent at ``sent`` from ``zones`` (None: from outside, or by the same instance)."""
        rng, service, count = self._rng, operation.service, len(sent)
        step = self.state.conditions.step_of(sent)
        instance = at_instance if at_instance is not None else _choose(rng, self._stack("share", service)[:, step])
        own_zone = np.array([i.zone for i in self.topology.instances[service]], object)[instance]
        begin = sent + self._travel((zones, own_zone), step) if zones is not None else sent.copy()
        turned_away = np.zeros(count, np.bool_)
        if at_instance is None:
            wait, turned_away = self._wait(("worker", service), instance, step)
            begin += (wait * 1e9).astype(np.int64)
        reason = np.where(turned_away, TURNED_AWAY, FINE).astype(np.int8)
        end = np.where(turned_away, sent + int(FAST_S * 1e9), begin)
        inside = np.flatnonzero(~turned_away)
        if len(inside):
            done, failed = self._inside(operation, sent[inside], begin[inside], step[inside], instance[inside], trace[inside], parent[inside], root)
            end[inside], reason[inside] = done, failed
        if zones is not None:
            end = end + self._travel((own_zone, zones), step)
        return Served(end, reason)

    def _inside(
        self, operation: Operation, sent: Ints, begin: Ints, step: Ints, instance: Ints, trace: Ids, parent: Ids, root: bool
    ) -> tuple[Ints, npt.NDArray[np.int8]]:
        rng, service, count = self._rng, operation.service, len(begin)
        conditions = self.state.conditions
        slow = self._stack("slow", service)[instance, step]
        span = _ids(rng, count)
        app = rng.integers(0, 2**31, count)
        bot = self._bots(operation, step) if root else np.zeros(count, np.bool_)
        pausing, length = self._stack("pausing", service)[instance, step], self._stack("pause", service)[instance, step]
        at = begin + (np.where(rng.random(count) < pausing, rng.random(count) * length, 0.0) * 1e9).astype(np.int64)
        own_fails = operation.failing + conditions.extra("failing", operation.key)[step] + self._stack("failing", service)[instance, step]
        by_app = self.state.app_failing(operation)
        if len(by_app):
            own_fails = own_fails + by_app[app % len(by_app), step]
        reason = np.where(rng.random(count) < own_fails, BROKEN, FINE).astype(np.int8)
        connected: set[str] = set()
        previous = at.copy()
        for call in operation.calls:
            made = (rng.random(count) < self.state.made(call)[step]) & (reason == FINE)
            work = self._work(call.work_ms, operation.spread, slow, pausing, length)
            issued = previous.copy() if call.beside else at + work
            previous = np.where(made, issued, previous)
            rows = np.flatnonzero(made)
            if call.to in self.topology.databases_of(operation) and call.to not in connected:
                connected.add(call.to)
                rows = self._connect(service, call.to, rows, issued, step, instance, at, reason)
            if not len(rows):
                continue
            times = self._times(operation, call, rows, step, instance, app)
            done, broken = self._call(operation, call, times, issued, trace, span, instance, rows)
            at[rows] = np.maximum(at[rows], done)
            if not call.optional:
                reason[rows] = np.where(broken != FINE, BROKEN, reason[rows])
        end = at + self._work(operation.work_ms, operation.spread, slow, pausing, length)
        refused = (reason == FINE) & ((rng.random(count) < operation.refused + conditions.extra("refused", operation.key)[step]) | bot)
        self._own_span(operation, sent, begin, end, trace, span, parent, instance, reason, refused, app, bot, root)
        return end, reason

    def _bots(self, operation: Operation, step: Ints) -> Flags:
        """Which of the requests from outside are those of visitors that look for what is not there."""
        theirs = self.state.conditions.extra("bots", operation.key)[step]
        return np.asarray(self._rng.random(len(step)) * self.state.entry[operation.key][step] < theirs)

    def _work(self, median_ms: float, spread: float, slow: Floats, pausing: Floats, length: Floats) -> Ints:
        """Own work, ns: stretched by a busy host, and stopped by pauses."""
        seconds = self._lognormal(median_ms, spread, len(slow)) / 1e3 * slow
        pauses = self._rng.poisson(seconds * pausing / ((1 - pausing) * length))
        return np.asarray((seconds + pauses * length) * 1e9, np.int64)

    def _connect(self, service: str, backend: str, rows: Ints, issued: Ints, step: Ints, instance: Ints, at: Ints, reason: npt.NDArray[np.int8]) -> Ints:
        """Waits for a connection; returns the rows that got one."""
        wait, gave_up = self._wait(("pool", service, backend), instance[rows], step[rows])
        wait = np.where(gave_up, POOL_WAIT_S, wait)
        issued[rows] += (wait * 1e9).astype(np.int64)
        at[rows] = np.maximum(at[rows], issued[rows])
        reason[rows[gave_up]] = NO_CONNECTION
        return np.asarray(rows[~gave_up])

    def _times(self, operation: Operation, call: Call, rows: Ints, step: Ints, instance: Ints, app: Ints) -> Ints:
        """How many calls each row makes in place of one."""
        factor = self._stack("calls", operation.service, call.statement)[instance[rows], step[rows]]
        by_app = self.state.asked_again(operation, call)
        if len(by_app):
            factor = factor * by_app[app[rows] % len(by_app), step[rows]]
        many = np.maximum(np.rint(call.times * factor * self._rng.uniform(0.75, 1.25, len(rows))), 1)
        return np.where(factor > 1, many, call.times).astype(np.int64)

    # A call.

    def _call(
        self, caller: Operation, call: Call, times: Ints, issued: Ints, trace: Ids, span: Ids, instance: Ints, rows: Ints
    ) -> tuple[Ints, npt.NDArray[np.int8]]:
        """Makes a call (or several, one after another) for the given rows; returns ends and failures."""
        at = issued[rows].copy()
        broken = np.zeros(len(rows), np.int8)
        state = self.state.calls[caller.key, caller.calls.index(call)]
        step = self.state.conditions.step_of(at)
        skipped = self._rng.random(len(rows)) < state.skipped[step]
        broken[skipped] = CIRCUIT_OPEN
        backend = self.topology.backends.get(call.to)
        retries = self.topology.retries(caller.service, call)
        for turn in range(int(times.max(initial=0))):
            todo = np.flatnonzero((times > turn) & (broken == FINE))
            for attempt in range(retries + 1):
                if not len(todo):
                    break
                end, failed = self._attempt(
                    caller, call, backend, at[todo], trace[rows[todo]], span[rows[todo]], instance[rows[todo]], turn, attempt, times[todo]
                )
                at[todo], broken[todo] = end, failed
                todo = todo[failed != FINE]
                if attempt < retries:
                    at[todo] += int(BACK_OFF_S * 2**attempt * 1e9)
        return at, broken

    def _attempt(
        self,
        caller: Operation,
        call: Call,
        backend: Backend | None,
        at: Ints,
        trace: Ids,
        parent: Ids,
        instance: Ints,
        turn: int,
        attempt: int,
        times: Ints,
    ) -> tuple[Ints, npt.NDArray[np.int8]]:
        rng, count = self._rng, len(at)
        if call.inner:
            served = self._serve(self.topology.operations[call.to], at, trace, parent, None, at_instance=instance)
            return served.end, served.reason
        client = _ids(rng, count)
        begun = at + (rng.exponential(0.15, count) * 1e6).astype(np.int64)
        zones = np.array([i.zone for i in self.topology.instances[caller.service]], object)[instance]
        timeout = int(self.topology.services[caller.service].timeout_s * 1e9)
        if backend:
            served = self._ask_backend(backend, call, begun, zones)
            statement = np.full(count, call.statement, object)
            other = self.happenings.instead.get((caller.service, call.statement))
            if other:
                statement[times > 1] = other
            columns = _backend_columns(backend, statement)
            limit = backend.kind == "external"
        else:
            target = self.topology.operations[call.to]
            served = self._serve(target, begun, trace, client, zones)
            columns = {
                "name": target.method,
                "span.s:http.request.method": target.method,
                "span.s:server.address": target.service,
                "span.s:url.full": _url(target, count, rng),
            }
            limit = True
        end, reason = served.end, served.reason.copy()
        if limit:
            late = end - begun > timeout
            end, reason = np.where(late, begun + timeout, end), np.where(late, LATE, reason).astype(np.int8)
        if attempt:
            columns["span.i:http.request.resend_count"] = np.full(count, attempt)
        outcome = np.where(reason != FINE, spans.ERROR, spans.OK)
        ids = {"trace": trace, "span": client, "parent": parent}
        self._add(caller.service, instance, begun, end, outcome, reason, **ids, kind=spans.PRODUCER if call.publishes else spans.CLIENT, **columns)
        return end, reason

    def _ask_backend(self, backend: Backend, call: Call, at: Ints, zones: npt.NDArray[np.object_]) -> Served:
        rng, state, count = self._rng, self.state, len(at)
        step = state.conditions.step_of(at)
        took = self._lognormal(1.0, backend.spread, count) * state.statement_s(backend, call)[step]
        chance, mean, line, refused = _rows_of(state.backends[backend.name])[:, step]
        took += np.where(rng.random(count) < chance, rng.exponential(1.0, count) * mean, 0.0) + line * rng.uniform(0.9, 1.1, count)
        lock = state.lock_s(backend, call)[step]
        took += np.where(rng.random(count) < 0.5, rng.exponential(1.0, count) * 2 * lock, 0.0)
        end = at + (took * 1e9).astype(np.int64)
        if backend.host:
            zone = np.full(count, self.topology.hosts[backend.host], object)
            end = end + self._travel((zones, zone), step)
        failed = rng.random(count) < state.backend_failing(backend, call)[step]
        turned_away = rng.random(count) < refused
        return Served(end, np.select([turned_away, failed], [TURNED_AWAY, BROKEN], FINE).astype(np.int8))

    def _own_span(
        self,
        operation: Operation,
        sent: Ints,
        begin: Ints,
        end: Ints,
        trace: Ids,
        span: Ids,
        parent: Ids,
        instance: Ints,
        reason: npt.NDArray[np.int8],
        refused: Flags,
        app: Ints,
        bot: Flags,
        root: bool,
    ) -> None:
        kind = {"CONSUME": spans.CONSUMER, "RUN": spans.INTERNAL, "STEP": spans.INTERNAL}.get(operation.method, spans.SERVER)
        columns: dict[str, object] = {"name": f"{operation.method} {operation.route}" if operation.is_http else operation.route, "kind": kind}
        if operation.is_http:
            status = np.where(reason != FINE, np.where(reason == TURNED_AWAY, 503, 500), np.where(refused, 404, 200))
            columns |= {"span.s:http.request.method": operation.method, "span.s:http.route": operation.route, "span.i:http.response.status_code": status}
            if root:
                columns |= self._client_columns(operation.service, begin, app, bot)
        elif operation.method == "CONSUME":
            system = self.topology.backends[operation.source].system
            columns |= {"span.s:messaging.system": system, "span.s:messaging.destination.name": operation.route, "published": sent}
        columns |= _code_of(operation)
        outcome = np.where(reason != FINE, spans.ERROR, np.where(refused, spans.CLIENT_ERROR, spans.OK))
        self._add(operation.service, instance, begin, end, outcome, reason, trace=trace, span=span, parent=parent, **columns)

    def _client_columns(self, service: str, begin: Ints, app: Ints, bot: Flags) -> dict[str, object]:
        """What a request from outside says of who makes it."""
        client, rng, count = self.topology.clients.get(service), self._rng, len(begin)
        if client is None:
            return {}
        if client.kind == "device":
            gate = rng.integers(0, GATES, count)
            shift = begin // SHIFT_NS % SHIFTS
            return {"span.s:device.id": _names("gate", GATES)[gate], "span.s:user.id": _names("staff", GATES * SHIFTS)[gate * SHIFTS + shift]}
        version = app % len(client.versions)
        return {
            f"span.s:{client.version_key}": _unless(bot, np.array(client.versions, object)[version]),
            "span.s:user.id": _unless(bot, _names("p", PASSENGERS)[rng.integers(0, PASSENGERS, count)]),
            "span.s:user_agent.original": np.where(bot, client.bot, np.array([f"{client.agent}/{name}" for name in client.versions], object)[version]),
        }

    def _add(self, service: str, instance: Ints, begin: Ints, end: Ints, outcome: Ints, reason: npt.NDArray[np.int8], **columns: object) -> None:
        """Spans of instances of one service."""
        self._out.add(
            len(begin),
            service=service,
            instance=instance,
            version=self.happenings.versions(self.topology.services[service], begin, instance),
            start=begin,
            duration=end - begin,
            outcome=outcome.astype(np.int8),
            reason=reason,
            weight=self._weight,
            **columns,
        )


@cache
def _code_of(operation: Operation) -> dict[str, object]:
    """Where in the code an operation begins; made up, and always the same."""
    name = re.sub(r"\W+", "_", f"{operation.method} {operation.route}".lower()).strip("_")
    file = f"{operation.service.replace('-', '_')}/handlers/{name}.py"
    return {"span.s:code.file.path": file, "span.s:code.function.name": name, "span.i:code.line.number": 12 + zlib.crc32(operation.key.encode()) % 180}


def _unless(absent: Flags, values: npt.NDArray[np.object_]) -> npt.NDArray[np.object_]:
    """Values, with None where there is none."""
    found = values.copy()
    found[absent] = None
    return found


def _rows_of(waiting: Waiting) -> Floats:
    return np.stack([waiting.chance, waiting.mean, waiting.line, waiting.refused])


def _choose(rng: np.random.Generator, shares: Floats) -> Ints:
    """An instance for each row, by shares of shape (instances, rows)."""
    return np.minimum((rng.random(shares.shape[1]) > np.cumsum(shares, axis=0)).sum(axis=0), len(shares) - 1)


def _ids(rng: np.random.Generator, count: int) -> Ids:
    return rng.integers(1, 2**63, count, dtype=np.uint64)


@cache
def _names(kind: str, count: int) -> npt.NDArray[np.object_]:
    return np.array([f"{kind}-{number:05d}" for number in range(count)], object)


def _url(target: Operation, count: int, rng: np.random.Generator) -> npt.NDArray[np.object_]:
    """Full addresses with ids in their paths, as clients send them."""
    head, _, rest = target.route.partition("{")
    tail = rest.partition("}")[2]
    urls = np.array(
        [f"http://{target.service}:8080{head}{number}{tail}" if rest else f"http://{target.service}:8080{head}" for number in range(100, 160)], object
    )
    return urls[rng.integers(0, len(urls), count)]


def _backend_columns(backend: Backend, statement: npt.NDArray[np.object_]) -> dict[str, object]:
    if backend.kind == "external":
        return {
            "name": "GET",
            "span.s:http.request.method": "GET",
            "span.s:server.address": backend.name,
            "span.s:url.full": f"https://{backend.name}/v1/lookup",
        }
    if backend.kind == "broker":
        return {
            "name": "send",
            "span.s:messaging.system": backend.system,
            "span.s:messaging.destination.name": statement,
            "span.s:server.address": backend.name,
        }
    return {
        "name": np.array([text.split(" ")[0] for text in statement], object),
        "span.s:db.system.name": backend.system,
        "span.s:db.namespace": backend.namespace,
        "span.s:db.query.text": statement,
        "span.s:server.address": backend.name,
    }
