"""Makes the demo world's requests: whole batches of one kind of request at a time, with NumPy.

A request is a tree of steps. Own work is log-normal; a backend is an M/M/c queue: with the
utilisation of the minute, a call waits with Erlang C's probability, exponentially long. A
caller waits for what it calls, so times add up the tree.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from wirbel.core import arrow
from wirbel.core.signals import spans
from wirbel.core.signals.operations import Columns, derive
from wirbel.demo.queues import erlang_c
from wirbel.demo.world import BACKENDS, ENTRIES, INSTANCES, OPERATIONS, VERSIONS, Backend, Call, History, Operation

Ints = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]
NETWORK_MS = 0.35  # one way between services, median
DAY_NS = 24 * 3600 * 10**9
HOUR_NS = 3600 * 10**9
ENVIRONMENT = "production"


def load_at(times: Floats | Ints) -> Floats:
    """Relative load (mean about 1) at times in ns: commuter peaks, and a burst before each full hour."""
    day = (np.asarray(times, float) % DAY_NS) / HOUR_NS
    hour = (np.asarray(times, float) % HOUR_NS) / HOUR_NS
    commuters = 0.25 * np.exp(-(((day - 8) / 1.6) ** 2)) + 0.25 * np.exp(-(((day - 17) / 1.8) ** 2))
    burst = 0.3 * np.clip((hour - 0.72) / 0.08, 0, 1) * np.clip((1.0 - hour) / 0.04, 0, 1)
    return 0.85 + commuters + burst


@dataclass
class _Columns:
    """Spans of one batch, column by column; every piece is an array or one value for all its rows."""

    pieces: list[tuple[int, dict[str, object]]] = field(default_factory=list)

    def add(self, count: int, **columns: object) -> None:
        if count:
            self.pieces.append((count, columns))


class World:
    """A seeded world with a history. ``requests`` makes all spans of a stretch of time."""

    def __init__(self, seed: int, history: History, rate: float) -> None:
        self.history, self.rate = history, rate
        self.seed = seed

    def requests(self, start: int, end: int) -> pa.Table:
        """All spans of requests that begin in [start, end) ns; the same for the same seed and stretch."""
        rng = np.random.default_rng([self.seed, start // 10**6])
        out = _Columns()
        seconds = (end - start) / 1e9
        for key, share in ENTRIES.items():
            peak = 1.7
            count = rng.poisson(self.rate * share * seconds * peak)
            times = np.sort(rng.uniform(start, end, count)).astype(np.int64)
            times = times[rng.uniform(0, peak, count) < load_at(times)]
            if len(times):
                trace = rng.integers(0, 2**63, (len(times), 2), dtype=np.uint64) * np.uint64(2) + np.uint64(1)
                self._serve(OPERATIONS[key], times, trace, np.zeros(len(times), np.uint64), rng, out)
        return self._table(out)

    def _versions(self, service: str, times: Ints, instance: Ints) -> npt.NDArray[np.object_]:
        version = np.full(len(times), VERSIONS[service], object)
        for rollout in self.history.rollouts:
            if rollout.service == service:
                since = rollout.begins + (instance * rollout.step_s * 1e9).astype(np.int64)
                version[times >= since] = rollout.version
        return version

    def _serve(
        self, operation: Operation, begin: Ints, trace: npt.NDArray[np.uint64], parent: npt.NDArray[np.uint64], rng: np.random.Generator, out: _Columns
    ) -> tuple[Ints, npt.NDArray[np.bool_]]:
        """Serves requests that arrive at ``begin``; returns when each ends and whether it failed."""
        count = len(begin)
        instances = INSTANCES[operation.service]
        instance = rng.integers(0, len(instances), count)
        version = self._versions(operation.service, begin, instance)
        span = _ids(rng, count)
        at = begin.copy()
        previous = begin.copy()
        failed = rng.random(count) < operation.failing
        for call in operation.calls:
            made = rng.random(count) < call.share
            work = (_lognormal(rng, call.work_ms, operation.spread, count) * 1e6).astype(np.int64)
            issued = previous.copy() if call.beside else at + work
            previous = np.where(made, issued, previous)
            rows = np.flatnonzero(made)
            if not len(rows):
                continue
            done, broken = self._call(operation, call, version, issued, trace, span, instance, rows, rng, out)
            at[rows] = np.maximum(at[rows], done)
            failed[rows] |= broken
        end = at + (_lognormal(rng, operation.work_ms, operation.spread, count) * 1e6).astype(np.int64)
        refused = ~failed & (rng.random(count) < operation.refused)
        status = np.where(failed, 500, np.where(refused, 404, 200))
        self._server_span(operation, begin, end, trace, span, parent, instance, version, failed, refused, status, rng, out)
        return end, failed

    def _server_span(self, operation, begin, end, trace, span, parent, instance, version, failed, refused, status, rng, out) -> None:  # type: ignore[no-untyped-def]
        count = len(begin)
        http = operation.method not in ("CONSUME", "RUN")
        columns: dict[str, object] = {
            "name": f"{operation.method} {operation.route}" if http else operation.route,
            "kind": spans.SERVER if http else spans.CONSUMER if operation.method == "CONSUME" else spans.INTERNAL,
        }
        if http:
            columns |= {"span.s:http.request.method": operation.method, "span.s:http.route": operation.route, "span.i:http.response.status_code": status}
            if operation.service == "quay-web":
                columns["span.s:app.version"] = np.array(["7.3", "7.4", "web"], object)[rng.integers(0, 3, count)]
        elif operation.method == "CONSUME":
            columns |= {"span.s:messaging.system": "events", "span.s:messaging.destination.name": operation.route}
        out.add(
            count,
            trace=trace,
            span=span,
            parent=parent,
            start=begin,
            duration=end - begin,
            service=operation.service,
            instance=instance,
            version=version,
            outcome=np.where(failed, spans.FAILED, np.where(refused, spans.REFUSED, spans.DONE)).astype(np.int8),
            **columns,
        )

    def _call(
        self, caller: Operation, call: Call, version, issued: Ints, trace, span, instance, rows: Ints, rng: np.random.Generator, out: _Columns
    ) -> tuple[Ints, npt.NDArray[np.bool_]]:  # type: ignore[no-untyped-def]
        """Makes a call (or several, one after another) for the given rows; returns ends and failures."""
        at = issued[rows].copy()
        broken = np.zeros(len(rows), np.bool_)
        times = np.full(len(rows), call.times)
        statement = np.full(len(rows), call.statement, object)
        fault = self.history.fault
        if fault and caller.service == fault.service and call.statement == fault.statement:
            hit = version[rows] == fault.version
            times = np.where(hit, rng.integers(fault.times[0], fault.times[1] + 1, len(rows)), times)
            statement[hit] = fault.instead
        for turn in range(int(times.max(initial=0))):
            now = np.flatnonzero(times > turn)
            who = rows[now]
            client = _ids(rng, len(now))
            begun = at[now] + (rng.exponential(0.15, len(now)) * 1e6).astype(np.int64)
            if call.to in BACKENDS:
                done, bad = self._backend(BACKENDS[call.to], begun, rng)
                extra = _backend_columns(BACKENDS[call.to], statement[now])
            else:
                target = OPERATIONS[call.to]
                there = begun + (_lognormal(rng, NETWORK_MS, 0.3, len(now)) * 1e6).astype(np.int64)
                end, bad = self._serve(target, there, trace[who], client, rng, out)
                done = end + (_lognormal(rng, NETWORK_MS, 0.3, len(now)) * 1e6).astype(np.int64)
                extra = {
                    "name": target.method,
                    "span.s:http.request.method": target.method,
                    "span.s:server.address": target.service,
                    "span.s:url.full": _url(target, len(now), rng),
                }
            out.add(
                len(now),
                trace=trace[who],
                span=client,
                parent=span[who],
                start=begun,
                duration=done - begun,
                service=caller.service,
                instance=instance[who],
                version=version[who],
                outcome=np.where(bad, spans.FAILED, spans.DONE).astype(np.int8),
                kind=spans.CLIENT,
                **extra,
            )
            at[now] = done
            broken[now] |= bad
        return at, broken

    def _backend(self, backend: Backend, at: Ints, rng: np.random.Generator) -> tuple[Ints, npt.NDArray[np.bool_]]:
        service = _lognormal(rng, backend.median_ms, backend.spread, len(at))
        busy = np.clip(0.35 * load_at(at), 0.0, 0.95)
        waits = rng.random(len(at)) < erlang_c(backend.servers, busy * backend.servers)
        waiting = np.where(waits, rng.exponential(backend.median_ms / (backend.servers * (1 - busy))), 0.0)
        return at + ((service + waiting) * 1e6).astype(np.int64), rng.random(len(at)) < (0.01 if backend.kind == "external" else 0.0001)

    def _table(self, out: _Columns) -> pa.Table:
        """All pieces as one table of the spans schema; rows in order of start."""
        if not out.pieces:
            return spans.empty()
        total = sum(count for count, _ in out.pieces)
        offsets = np.cumsum([0] + [count for count, _ in out.pieces])
        names = sorted({name for _, columns in out.pieces for name in columns})
        order = np.argsort(_gather(out, "start", offsets, np.zeros(total, np.int64)), kind="stable")
        columns: dict[str, pa.Array] = {}
        for name in names:
            if name in ("trace", "span", "parent", "instance"):
                continue
            columns[name] = _arrow_column(out, name, offsets, total, order)
        trace, span, parent = (_gather(out, name, offsets, np.zeros((total, width), np.uint64)) for name, width in (("trace", 2), ("span", 1), ("parent", 1)))
        columns["trace_id"] = _binary(trace[order])
        columns["span_id"] = _binary(span[order])
        columns["parent_id"] = _binary(parent[order], parent[order][:, 0] == 0)
        columns |= _places(columns["service"], _gather(out, "instance", offsets, np.zeros(total, np.int64))[order])
        columns["environment"] = pa.repeat(pa.scalar(ENVIRONMENT), total)
        columns["weight"] = pa.array(np.ones(total))
        kind, outcome = arrow.numbers(columns["kind"]), arrow.numbers(columns["outcome"])
        # Read as intake would read them, so that history and live feed look the same.
        columns |= derive(Columns(columns, total), columns["name"], kind, np.where(outcome == spans.FAILED, 2, 0))
        return spans.conform(pa.table(columns))


def _ids(rng: np.random.Generator, count: int) -> npt.NDArray[np.uint64]:
    return rng.integers(1, 2**63, count, dtype=np.uint64)


def _url(target: Operation, count: int, rng: np.random.Generator) -> npt.NDArray[np.object_]:
    """Full addresses with ids in their paths, as clients send them."""
    head, _, rest = target.route.partition("{")
    tail = rest.partition("}")[2]
    urls = np.array(
        [f"http://{target.service}:8080{head}{number}{tail}" if rest else f"http://{target.service}:8080{head}" for number in range(100, 160)], object
    )
    return urls[rng.integers(0, len(urls), count)]


def _lognormal(rng: np.random.Generator, median: float, sigma: float, count: int) -> Floats:
    return median * np.exp(sigma * rng.standard_normal(count))


def _backend_columns(backend: Backend, statement: npt.NDArray[np.object_]) -> dict[str, object]:
    if backend.system == "http":
        return {
            "name": "GET",
            "span.s:http.request.method": "GET",
            "span.s:server.address": backend.name,
            "span.s:url.full": f"https://{backend.name}/v1/lookup",
        }
    columns: dict[str, object] = {
        "name": np.array([text.split(" ")[0] for text in statement], object),
        "span.s:db.system.name": backend.system,
        "span.s:db.namespace": backend.namespace,
        "span.s:db.query.text": statement,
        "span.s:server.address": backend.name,
    }
    return columns


def _gather(out: _Columns, name: str, offsets: Ints, into: npt.NDArray[np.uint64] | Ints) -> npt.NDArray[np.uint64]:
    for (count, columns), at in zip(out.pieces, offsets, strict=False):
        value = np.asarray(columns[name])
        into[at : at + count] = value.reshape(count, -1) if into.ndim == 2 and value.ndim < 2 else value
    return into  # type: ignore[return-value]


def _arrow_column(out: _Columns, name: str, offsets: Ints, total: int, order: Ints) -> pa.Array:
    """One column; strings as a dictionary, because few distinct ones repeat."""
    sample = next(columns[name] for _, columns in out.pieces if name in columns)
    is_text = isinstance(sample, str) or (isinstance(sample, np.ndarray) and sample.dtype == object)
    if not is_text:
        values = np.zeros(total, np.asarray(sample).dtype)
        missing = np.ones(total, np.bool_)
        for (count, columns), at in zip(out.pieces, offsets, strict=False):
            if name in columns:
                values[at : at + count] = columns[name]
                missing[at : at + count] = False
        return pa.array(values[order], mask=missing[order])
    words: dict[str, int] = {}
    codes = np.full(total, -1, np.int32)
    for (count, columns), at in zip(out.pieces, offsets, strict=False):
        value = columns.get(name)
        if isinstance(value, str):
            codes[at : at + count] = words.setdefault(value, len(words))
        elif value is not None:
            encoded = pa.array(value, pa.string()).dictionary_encode()
            mapped = np.array([words.setdefault(word, len(words)) for word in encoded.dictionary.to_pylist()], np.int32)
            codes[at : at + count] = mapped[encoded.indices.to_numpy()]
    codes = codes[order]
    return pa.DictionaryArray.from_arrays(pa.array(codes, mask=codes < 0), pa.array(list(words), pa.string())).cast(pa.string())


def _binary(words: npt.NDArray[np.uint64], missing: npt.NDArray[np.bool_] | None = None) -> pa.Array:
    width = words.shape[1] * 8
    data = pa.py_buffer(np.ascontiguousarray(words).tobytes())
    if missing is None or not missing.any():
        return pa.FixedSizeBinaryArray.from_buffers(pa.binary(width), len(words), [None, data])
    valid = pa.array(~missing).buffers()[1]
    return pa.FixedSizeBinaryArray.from_buffers(pa.binary(width), len(words), [valid, data])


def _places(service: pa.Array, instance: Ints) -> dict[str, pa.Array]:
    """Instance, host and zone names for rows of (service, instance number)."""
    code, names = arrow.codes(service)
    most = max(len(found) for found in INSTANCES.values())
    table = {name: np.full((len(names), most), None, object) for name in ("name", "host", "zone")}
    for row, name in enumerate(names):
        for column, found in enumerate(INSTANCES[name]):
            for key in table:
                table[key][row, column] = getattr(found, key)

    def named(key: str) -> pa.Array:
        flat = pa.array(table[key].ravel(), pa.string())
        return flat.take(pa.array(code * most + instance))

    return {"instance": named("name"), "host": named("host"), "resource.s:cloud.availability_zone": named("zone"), "resource.s:k8s.pod.name": named("name")}
