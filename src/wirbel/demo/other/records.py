"""What the second world's programs and agents send, as stock instrumentation has it: counted seconds, no limits, servers by their address."""

from __future__ import annotations

import json
from collections import defaultdict
from typing import Any

import numpy as np
import pyarrow as pa

from wirbel.core import arrow
from wirbel.core.signals import logs, points, spans
from wirbel.core.signals.operations import Columns, derive
from wirbel.core.topology.parents import parent_rows, resolve
from wirbel.demo.other.engine import Sim, Span
from wirbel.demo.other.plan import CLIENTS, TENANTS

ENVIRONMENT = "live"
BOUNDS = [0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 5.0]
PLAIN = ("reading settings", "request done", "took part {n}", "nothing to do", "pool is warm")
SAID = 0.05  # times a second, each of them


def spans_of(sim: Sim, kept: float, told: bool, versions: bool) -> pa.Table:
    """Spans of the share ``kept`` of the traces that are over; ``told`` is whether they say so."""
    chosen = [one for one in sim.spans if one.end < sim.end and (one.trace * 2654435761 % 2**32) / 2**32 < kept]
    if not chosen:
        return spans.empty()
    ids = np.array([(one.trace, one.id, one.parent) for one in chosen], np.uint64)
    attributes = [_attributes(sim, one) for one in chosen]
    keys = sorted({key for one in attributes for key in one})
    columns: dict[str, Any] = {
        f"span.{'i' if key == 'http.response.status_code' else 's'}:{key}": pa.array([one.get(key) for one in attributes]) for key in keys
    }
    start = np.array([one.start for one in chosen])
    seconds = np.array([one.end - one.start for one in chosen])
    status = np.array([spans.STATUS_ERROR if one.failed else spans.STATUS_UNSET for one in chosen], np.int8)
    kind = np.array([one.kind for one in chosen], np.int8)
    columns |= {
        "trace_id": _binary(np.stack([np.full(len(ids), 7, np.uint64), ids[:, 0]], axis=1)),
        "span_id": _binary(ids[:, 1:2]),
        "parent_id": _binary(ids[:, 2:3], ids[:, 2] == 0),
        "start": pa.array(np.round(start * 1e9).astype(np.int64)),
        "duration": pa.array(np.maximum(np.round(seconds * 1e9), 1).astype(np.int64)),
        "environment": pa.repeat(pa.scalar(ENVIRONMENT), len(chosen)),
        "service": pa.array([one.service for one in chosen]),
        "version": pa.array([one.version if versions else None for one in chosen], pa.string()),
        "instance": pa.array([one.instance for one in chosen]),
        "host": pa.array([one.host for one in chosen]),
        arrow.attribute_column("resource", "s", "k8s.pod.name"): pa.array([one.pod for one in chosen]),
        arrow.attribute_column("resource", "s", "cloud.availability_zone"): pa.array([sim.plan.hosts[one.host] for one in chosen]),
        "name": pa.array([_name(one) for one in chosen]),
        "kind": pa.array(kind),
        "status": pa.array(status),
        "status_message": pa.array([one.failed for one in chosen], pa.string()),
        "weight": pa.array(np.full(len(chosen), 1 / kept if told else 1.0)),
    }
    columns |= derive(Columns(columns, len(chosen)), columns["name"], kind, status)
    table = spans.conform(pa.table(columns).sort_by("start"))
    found, _ = resolve(table, parent_rows(table), {})
    return found


def _binary(words: np.ndarray, missing: np.ndarray | None = None) -> pa.Array:
    width = words.shape[1] * 8
    data = words.byteswap().tobytes()
    texts = [data[n * width : (n + 1) * width] for n in range(len(words))]
    return pa.array([None if missing is not None and missing[n] else text for n, text in enumerate(texts)], pa.binary(width))


def _name(one: Span) -> str:
    """As stock instrumentation names spans: clients by their method, statements by their verb."""
    do, *what = one.shape
    if do == "query":
        return what[1].split()[0]
    names = {"serve": f"GET {what[0]}", "consume": f"process {what[0]}", "publish": f"send {what[-1]}"}
    return names.get(do, "GET")


def _attributes(sim: Sim, one: Span) -> dict[str, Any]:
    do, *what = one.shape
    found: dict[str, Any] = {}
    if do == "serve":
        found = {"http.request.method": "GET", "http.route": what[0], "http.response.status_code": one.code}
        found |= {"app.module": what[1]} if what[1] else {}
        if sim.plan.services[one.service].tier == 0:
            found |= {"app.build": CLIENTS[one.client], "user_agent.original": f"app/{CLIENTS[one.client]}", "customer.id": TENANTS[one.tenant]}
    elif do == "consume":
        found = {"messaging.system": "rabbitmq", "messaging.destination.name": what[0]}
    elif do == "call":
        found = {"http.request.method": "GET", "server.address": what[0], "url.full": f"http://{what[0]}:8080{what[1]}", "http.response.status_code": one.code}
    elif do == "ask":
        found = {"http.request.method": "GET", "server.address": what[0], "url.full": f"https://{what[0]}{what[1]}", "http.response.status_code": one.code}
    elif do == "publish":
        found = {"messaging.system": "rabbitmq", "messaging.destination.name": what[1], "server.address": what[0]}
    else:
        store = sim.plan.stores[what[0]]
        found = {"db.system.name": store.system, "server.address": store.address, "db.query.text": what[1]}
        found |= {"db.namespace": store.name} if store.name else {}
    if sim.plan.baggage:
        found.setdefault("customer.id", TENANTS[one.tenant])
    return found


def logs_of(sim: Sim) -> pa.Table:
    rng = np.random.default_rng([sim.plan.seed, 3])
    rows = [(one.at, one.service, one.instance, one.severity, one.body, one.trace, one.span) for one in sim.logs]
    usual = [(name, 9, words, SAID, sim.start, sim.end) for name, service in sim.plan.services.items() if service.sends_logs for words in PLAIN]
    for service, severity, words, rate, since, until in [*usual, *sim.lines]:
        if not sim.plan.services[service].sends_logs:
            continue
        for at in rng.uniform(since, until, rng.poisson(rate * max(until - since, 0))):
            one = sim.instances[service][int(rng.integers(len(sim.instances[service])))]
            rows.append((float(at), service, one, severity, words.replace("{n}", str(int(rng.integers(1000)))), 0, 0))
    rows = sorted((row for row in rows if sim.start <= row[0] < sim.end), key=lambda row: row[0])
    if not rows:
        return logs.LOG_SCHEMA.empty_table()
    at = pa.array([int(row[0] * 1e9) for row in rows])
    ids = np.array([(7 if row[5] else 0, row[5], row[6]) for row in rows], np.uint64)
    table = {
        "time": at,
        "observed": at,
        "environment": pa.repeat(pa.scalar(ENVIRONMENT), len(rows)),
        "service": pa.array([row[1] for row in rows]),
        "instance": pa.array([row[2].id if row[2] else None for row in rows], pa.string()),
        "host": pa.array([row[2].host if row[2] else None for row in rows], pa.string()),
        "severity": pa.array([row[3] for row in rows], pa.int8()),
        "body": pa.array([row[4] for row in rows]),
        "trace_id": _binary(ids[:, :2], ids[:, 1] == 0),
        "span_id": _binary(ids[:, 2:3], ids[:, 2] == 0),
        "weight": pa.array(np.ones(len(rows))),
    }
    return logs.combine([arrow.conform(pa.table(table), logs.LOG_SCHEMA)])


def points_of(sim: Sim) -> pa.Table:
    """One row a minute and series; counters count on from the start of their sender."""
    rows: dict[str, list[Any]] = defaultdict(list)
    for at, found in sim.scraped:
        for key, value in found.items():
            for row in _rows(sim, key, value):
                for name, one in row.items():
                    rows[name].append(one)
                rows["time"].append(int(at * 1e9))
    if not rows["time"]:
        return points.POINT_SCHEMA.empty_table()
    count = len(rows["time"])
    table = {name: pa.array(values, type=points.POINT_SCHEMA.field(name).type) for name, values in rows.items()}
    table |= {"environment": pa.repeat(pa.scalar(ENVIRONMENT), count), "resource": pa.repeat(pa.scalar("{}"), count)}
    return points.combine([arrow.conform(pa.table(table), points.POINT_SCHEMA)])


GAUGE, SUM, HISTOGRAM = points.GAUGE, points.SUM, points.HISTOGRAM


def _row(
    service: str, instance: str | None, host: str | None, metric: str, unit: str, labels: dict[str, str], kind: int, value: float | None, **more: Any
) -> dict[str, Any]:
    counted = kind != GAUGE
    return {
        "service": service,
        "version": more.get("version"),
        "instance": instance,
        "host": host,
        "metric": metric,
        "unit": unit,
        "labels": json.dumps(labels, sort_keys=True),
        "kind": kind,
        "temporality": points.CUMULATIVE if counted else points.NO_TEMPORALITY,
        "monotonic": counted,
        "start": more.get("start", 1) if counted else None,
        "value": value,
        "count": more.get("count"),
        "total": more.get("total"),
        "bounds": more.get("bounds"),
        "buckets": more.get("buckets"),
    }


def _rows(sim: Sim, key: tuple[Any, ...], value: Any) -> list[dict[str, Any]]:
    plan = sim.plan
    if key[0] == "host" and "hosts" in plan.metrics:
        host, what = key[1], key[2]
        if what != "io":
            return [_row("node-agent", host, host, "system.cpu.time", "s", {"cpu.mode": "user" if what == "busy" else "idle"}, SUM, value)]
        return [_row("node-agent", host, host, "system.disk.io_time", "s", {"system.device": "nvme0n1"}, SUM, value)]
    if key[0] == "instance" and plan.services[key[1]].sends_metrics:
        _, name, _, instance, host, version, what = key
        if what == "cpu":
            return [_row(name, instance, host, "process.cpu.time", "s", {}, SUM, value, version=version, start=_start(instance))]
        if what == "memory":
            return [_row(name, instance, host, "process.memory.usage", "By", {}, GAUGE, value, version=version)]
        return [_row(name, instance, host, "db.client.connection.pending_requests", "{request}", {}, GAUGE, float(value), version=version)]
    if key[0] == "pool" and plan.services[key[1]].sends_metrics:
        _, name, _, instance, host, version, address = key
        labels = {"db.client.connection.pool.name": plan.stores[address].name or address}
        found = [
            _row(
                name,
                instance,
                host,
                "db.client.connection.count",
                "{connection}",
                labels | {"db.client.connection.state": "used"},
                GAUGE,
                float(value),
                version=version,
            )
        ]
        if plan.services[name].sends_limits:
            capacity = sim.instances[name][key[2]].pools[address].capacity
            found.append(_row(name, instance, host, "db.client.connection.max", "{connection}", labels, GAUGE, float(capacity), version=version))
        return found
    if key[0] == "store" and "databases" in plan.metrics and plan.stores[key[1]].kind == "database":
        host = plan.stores[key[1]].host
        metric = {"active": "postgresql.backends", "locks": "postgresql.lock.waits"}[key[2]]
        return [
            _row(
                "pg-exporter",
                host,
                host,
                metric,
                "1" if key[2] == "active" else "{lock}",
                {"postgresql.database.name": plan.stores[key[1]].name or ""},
                GAUGE,
                float(value),
            )
        ]
    if key[0] == "queue" and "brokers" in plan.metrics:
        labels = {"messaging.destination.name": key[1], "messaging.consumer.group.name": plan.topics[key[1]][0]}
        return [_row("bus-exporter", "bus-0", "bus-0", "rabbitmq.message.current", "{message}", labels, GAUGE, float(value))]
    if key[0] == "count" and plan.services[key[2]].sends_metrics:
        return _counted(sim, key, value)
    return []


def _start(instance: str) -> int:
    return 1 + sum(instance.encode())


def _counted(sim: Sim, key: tuple[Any, ...], value: tuple[float, float]) -> list[dict[str, Any]]:
    _, _kind, service, instance, host, shape, version, code, failed = key
    do, *what = shape
    labels: dict[str, str] = {}
    if do == "serve":
        metric, labels = "http.server.request.duration", {"http.request.method": "GET", "http.route": what[0], "http.response.status_code": str(code)}
    elif do in ("call", "ask"):
        metric, labels = "http.client.request.duration", {"http.request.method": "GET", "server.address": what[0], "http.response.status_code": str(code)}
    elif do in ("query", "lookup"):
        store = sim.plan.stores[what[0]]
        metric, labels = "db.client.operation.duration", {"db.system.name": store.system, "server.address": store.address, "db.namespace": store.name or "0"}
    elif do == "consume":
        metric, labels = "messaging.process.duration", {"messaging.system": "rabbitmq", "messaging.destination.name": what[0]}
    else:
        return []
    if failed:
        labels["error.type"] = "error"
    if do in ("query", "lookup"):
        labels["db.query.summary"] = " ".join(what[1].split()[:1])
    count, total = value
    return [
        _row(
            service, instance, host, metric, "s", labels | ({"x": what[1]} if do == "query" else {}), HISTOGRAM, None,
            version=version, start=_start(instance), count=int(count), total=total, bounds=BOUNDS, buckets=[0] * len(BOUNDS) + [int(count)],
        )
    ]  # fmt: skip
