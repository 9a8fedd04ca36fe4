"""Samples of metrics, as the SDK in each service and an agent on each host, database and broker send them.

They come from the same state as the requests do. Those that count requests are in durations.py.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass
from functools import partial

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from wirbel.core import arrow
from wirbel.core.signals import points
from wirbel.demo.world.happenings import Happenings
from wirbel.demo.world.state import HEAP, State
from wirbel.demo.world.told import ENVIRONMENT
from wirbel.demo.world.topology import CORES, MEMORY_GB, Instance, Operation, Topology

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
MINUTE_NS = 60 * 10**9
NOISE = 0.02  # of what is read from a machine
PAGES = 14.0  # of a statement
PACKET_RATE = 14.0  # a request, there and back, over all its calls


@dataclass(frozen=True)
class Series:
    service: str
    instance: str | None
    host: str | None
    metric: str
    unit: str
    values: Floats  # one a minute
    labels: str = "{}"
    is_sum: bool = False  # counted since the minute before
    is_set: bool = False  # a limit that somebody has set: read without noise


def gauges(state: State, happenings: Happenings, seed: int, start: int, end: int, pace_ns: int = MINUTE_NS) -> pa.Table:
    """What is read from the state in [start, end) ns, each minute or less often."""
    times = np.arange(start + (-start) % pace_ns, end, pace_ns, dtype=np.int64)
    if not len(times):
        return points.POINT_SCHEMA.empty_table()
    step = state.conditions.step_of(times)
    rng = np.random.default_rng([seed, 5, start // 10**6])
    return _table(state.topology, [*_of_services(state, step), *_of_hosts(state, step), *_of_backends(state, step)], times, rng, happenings)


def _labels(**labels: str) -> str:
    return json.dumps({name.replace("__", "."): value for name, value in labels.items()}, sort_keys=True)


def _of_services(state: State, step: Ints) -> Iterator[Series]:
    silent = {service: state.conditions.extra("silent", service)[step] > 0 for service in state.topology.services}
    for service, instances in state.topology.instances.items():
        for number, instance in enumerate(instances):
            absent = silent[service] | (state.share(service, number)[step] <= 0)  # what does not run sends nothing

            series = partial(_of_instance, service, instance, absent, step)

            memory = state.memory(service, number) * 2.0**20
            workers = state.workers[service, number]
            yield series("process.cpu.utilization", "1", np.minimum(state.own_cpu[service, number], CORES) / CORES)
            yield series("process.runtime.worker.utilization", "1", np.minimum(workers.busy, 1.0))
            # What an instance wants of its host beyond what it gets, as its container sees it.
            held_back = np.clip(1 - 1 / state.stretch[instance.host], 0, 1)
            yield series("container.cpu.throttled.share", "1", held_back)
            yield series("container.disk.io.wait.share", "1", np.clip(state.conditions.extra("io", instance.host) * 0.6 + 0.01, 0, 1))
            yield series("process.memory.usage", "By", memory * 1.25)
            yield series("container.memory.usage", "By", memory * 1.3)
            yield series("http.server.active_requests", "{request}", workers.busy * state.topology.services[service].workers)
            if state.topology.services[service].managed:
                yield series("jvm.memory.used", "By", memory, _labels(jvm__memory__type="heap"))
                yield series(
                    "jvm.memory.limit",
                    "By",
                    np.full_like(memory, HEAP * state.topology.services[service].memory_mb * 2.0**20),
                    _labels(jvm__memory__type="heap"),
                    is_set=True,
                )
                yield series("jvm.gc.pause.share", "1", state.pausing(service, number))
            for backend in sorted({name for o in state.topology.operations.values() if o.service == service for name in state.topology.databases_of(o)}):
                pool, size = state.pools[service, number, backend], state.pool_size[service, number, backend]
                leaked = np.floor(state.conditions.extra("leaked", service, number, backend))
                used = np.minimum(pool.busy * np.maximum(size - leaked, 1) + leaked, size)
                name = "db.client.connection.pool.name"
                yield series("db.client.connection.count", "{connection}", used, json.dumps({name: backend, "db.client.connection.state": "used"}))
                yield series("db.client.connection.count", "{connection}", size - used, json.dumps({name: backend, "db.client.connection.state": "idle"}))
                yield series("db.client.connection.max", "{connection}", size, json.dumps({name: backend}), is_set=True)
                asks = sum(state.rate[o.key] for o in state.topology.operations.values() if o.service == service and backend in state.topology.databases_of(o))
                pending = np.asarray(asks * state.share(service, number) * pool.expected)  # Little's law
                yield series("db.client.connection.pending_requests", "{request}", pending, json.dumps({name: backend}))


def _of_instance(
    service: str,
    instance: Instance,
    absent: npt.NDArray[np.bool_],
    step: Ints,
    metric: str,
    unit: str,
    values: Floats,
    labels: str = "{}",
    is_set: bool = False,
) -> Series:
    return Series(service, instance.name, instance.host, metric, unit, np.where(absent, np.nan, values[step]), labels, is_set=is_set)


def _of_hosts(state: State, step: Ints) -> Iterator[Series]:
    total = sum(state.entry.values())
    for host, zone in state.topology.hosts.items():

        def series(metric: str, unit: str, values: Floats, labels: str = "{}", is_sum: bool = False, host: str = host) -> Series:
            return Series("host-agent", host, host, metric, unit, values[step], labels, is_sum)

        used = np.zeros(state.conditions.steps) + sum(
            state.memory(service, n) for service, instances in state.topology.instances.items() for n, i in enumerate(instances) if i.host == host
        )
        cores = state.cpu[host]
        yield series("system.cpu.utilization", "1", np.minimum(cores, CORES) / CORES)
        yield series("system.cpu.load_average.1m", "{thread}", cores * state.stretch[host] ** 0.5)
        yield series("system.memory.utilization", "1", 0.2 + used / (MEMORY_GB * 1024))
        yield series("system.filesystem.utilization", "1", state.disk(host), _labels(system__filesystem__mountpoint="/"))
        yield series("system.disk.utilization", "1", np.minimum(0.06 + 0.03 * cores / CORES + state.conditions.extra("io", host), 1))
        others = [state.loss(zone, other) for other in sorted(set(state.topology.hosts.values()) - {zone})]
        lost = np.mean(others, axis=0) if others else np.zeros(state.conditions.steps)
        packets = total * PACKET_RATE / len(state.topology.hosts) * 60
        yield series("system.network.packet.count", "{packet}", np.asarray(packets), is_sum=True)
        yield series("system.network.tcp.retransmits", "{packet}", np.asarray(packets * (0.0002 + lost * 2 / 3)), is_sum=True)


def _of_backends(state: State, step: Ints) -> Iterator[Series]:
    for backend in state.topology.backends.values():
        if not backend.host:
            continue

        def series(metric: str, unit: str, values: Floats, is_sum: bool = False, backend=backend) -> Series:  # type: ignore[no-untyped-def]
            labels = _labels(server__address=backend.name)
            return Series(f"{backend.kind}-agent", backend.name, backend.host, metric, unit, values[step], labels, is_sum)

        rate, waiting = state.backend_rate[backend.name], state.backends[backend.name]
        if backend.kind == "database":
            locked = np.zeros(state.conditions.steps) + sum(
                state.calls[key, n].rate * state.lock_s(backend, call)
                for key, o in state.topology.operations.items()
                for n, call in enumerate(o.calls)
                if call.to == backend.name
            )
            yield series("postgresql.backends.active", "{connection}", waiting.busy * backend.servers + rate * waiting.expected + locked)
            yield series("postgresql.locks.waiting", "{lock}", locked)
            pages = rate * 60 * PAGES
            yield series("postgresql.blocks.hit", "{block}", pages * (1 - state.misses(backend)), is_sum=True)
            yield series("postgresql.blocks.read", "{block}", pages * state.misses(backend), is_sum=True)
            yield series("postgresql.statements", "{statement}", rate * 60, is_sum=True)
        elif backend.kind == "cache":
            reads = 0.93 * rate * 60
            yield series("redis.keyspace.hits", "{hit}", reads * state.hits(backend.name), is_sum=True)
            yield series("redis.keyspace.misses", "{miss}", reads * (1 - state.hits(backend.name)), is_sum=True)
        else:
            for operation in state.topology.operations.values():
                if operation.source == backend.name:
                    labels = _labels(consumer=operation.service)
                    yield Series("broker-agent", backend.name, backend.host, "messaging.consumer.lag", "{message}", _lag(state, operation)[step], labels)


def _lag(state: State, consumer: Operation) -> Floats:
    """Messages that wait for a consumer; all that came, while it is silent."""
    silent = state.conditions.extra("silent", consumer.service)
    kept = np.cumsum(silent * state.came[consumer.key]) * state.conditions.step_s * (silent > 0)
    return np.asarray(state.rate[consumer.key] * state.workers[consumer.service, 0].expected + kept)


def _table(topology: Topology, series: list[Series], times: Ints, rng: np.random.Generator, happenings: Happenings) -> pa.Table:
    count, minutes = len(series), len(times)
    values = np.stack([one.values for one in series])
    noisy = values * (1 + NOISE * rng.standard_normal(values.shape))
    sums = np.array([one.is_sum for one in series])
    whole = np.array([one.unit in ("{connection}", "{request}", "{lock}", "{message}") for one in series])
    noisy = np.where(sums[:, None], rng.poisson(np.nan_to_num(np.maximum(values, 0))), noisy)
    noisy = np.where(whole[:, None], np.rint(values + 0.3 * rng.standard_normal(values.shape) * (values > 0.5)), noisy).clip(min=0)
    is_set = np.array([one.is_set for one in series])
    noisy = np.where(is_set[:, None], values, noisy)
    is_share = np.array([one.unit == "1" for one in series])
    noisy = np.where(is_share[:, None], noisy.clip(max=1), noisy)  # nothing is used to more than all of it
    known = ~np.isnan(values).ravel()
    row = np.repeat(np.arange(count), minutes)

    def text(name: str) -> pa.Array:
        return pa.array([getattr(one, name) for one in series], pa.string()).take(pa.array(row))

    versions = _versions(topology, series, times, happenings)
    at = np.tile(times, count)
    table = pa.table(
        {
            "environment": pa.repeat(pa.scalar(ENVIRONMENT), len(row)),
            "service": text("service"),
            "version": versions,
            "instance": text("instance"),
            "host": text("host"),
            "resource": pa.repeat(pa.scalar("{}"), len(row)),
            "metric": text("metric"),
            "unit": text("unit"),
            "kind": pa.array(np.where(sums[row], points.SUM, points.GAUGE).astype(np.int8)),
            "temporality": pa.array(np.where(sums[row], points.DELTA, points.NO_TEMPORALITY).astype(np.int8)),
            "monotonic": pa.array(sums[row]),
            "labels": text("labels"),
            "time": pa.array(at),
            "start": pa.array(at - MINUTE_NS, mask=~sums[row]),
            "value": pa.array(noisy.ravel()),
        }
    )
    return arrow.conform(table.filter(pa.array(known)), points.POINT_SCHEMA)


def _versions(topology: Topology, series: list[Series], times: Ints, happenings: Happenings) -> pa.Array:
    found = np.full((len(series), len(times)), None, object)
    for number, one in enumerate(series):
        names = [instance.name for instance in topology.instances.get(one.service, [])]
        if one.instance in names:
            found[number] = happenings.versions(topology.services[one.service], times, np.full(len(times), names.index(one.instance)))
    return pa.array(found.ravel(), pa.string())
