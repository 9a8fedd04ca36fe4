"""Log records: what services say while they run, what they say when a request fails, and what a fault makes them say."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow
from wirbel.core.signals import logs, spans
from wirbel.demo.world.happenings import Happenings, LogLines
from wirbel.demo.world.state import State
from wirbel.demo.world.told import ENVIRONMENT
from wirbel.demo.world.topology import Topology

Ints = npt.NDArray[np.int64]
_RANGES = {"id": (100_000, 999_999), "ms": (40, 4_000), "small": (1, 12), "count": (2, 240), "percent": (88, 99), "code": (502, 505)}
_STACK = "  at {service}.handle(handler:{line})\n  at {service}.call(client:118)\n  at runtime.run(loop:77)"
EXCEPTION = ("log.s:exception.type", "log.s:exception.message", "log.s:exception.stacktrace")


def lines(state: State, happenings: Happenings, seed: int, start: int, end: int, kept: float = 1.0) -> pa.Table:
    """Records of [start, end) ns that belong to no recorded request; with ``kept``, a share of them that stands for all."""
    rng = np.random.default_rng([seed, 9, start // 10**6])
    usual = [LogLines(line.service, line.severity, line.template, line.per_second, start, end) for line in state.topology.lines]
    made = []
    for line in [*usual, *happenings.lines]:
        first, last = max(start, line.start), min(end, line.end)
        if last <= first:
            continue
        count = rng.poisson(line.per_second * (last - first) / 1e9 * kept)
        times = np.sort(rng.integers(first, last, count))
        spoken = rng.random(count) >= state.conditions.extra("silent", line.service)[state.conditions.step_of(times)]
        times = times[spoken]
        if len(times):
            instance = rng.integers(0, len(state.topology.instances[line.service]), len(times))
            body = _filled(line.template, len(times), rng)
            made.append(_records(state.topology, line, body, times, instance, happenings, 1 / kept))
    return logs.combine(made) if made else logs.LOG_SCHEMA.empty_table()


def _filled(template: str, count: int, rng: np.random.Generator) -> pa.Array:
    """The template with fresh values in each record."""
    pieces: list[pa.Array | pa.Scalar] = []
    rest = template
    while "{" in rest:
        before, _, rest = rest.partition("{")
        name, _, rest = rest.partition("}")
        low, high = _RANGES[name]
        pieces += [pa.scalar(before), pa.array(rng.integers(low, high, count)).cast(pa.string())]
    return pc.binary_join_element_wise(*pieces, pa.scalar(rest), "") if pieces else pa.repeat(pa.scalar(template), count)


def _records(topology: Topology, line: LogLines, body: pa.Array, times: Ints, instance: Ints, happenings: Happenings, weight: float) -> pa.Table:
    count, service, severity = len(times), line.service, line.severity
    here = topology.instances[service]
    return pa.table(
        {
            "time": pa.array(times),
            "observed": pa.array(times + 250 * 10**6),
            "environment": pa.repeat(pa.scalar(ENVIRONMENT), count),
            "service": pa.repeat(pa.scalar(service), count),
            "version": pa.array(happenings.versions(topology.services[service], times, instance), pa.string()),
            "instance": pa.array([i.name for i in here]).take(pa.array(instance)),
            "host": pa.array([i.host for i in here]).take(pa.array(instance)),
            "severity": pa.array(np.full(count, logs.SEVERITY_OF_NAME[severity], np.int8)),
            "severity_text": pa.repeat(pa.scalar(severity), count),
            "body": body,
            "structured": pa.array(np.zeros(count, np.bool_)),
            "scope": pa.repeat(pa.scalar(f"{service}.main"), count),
            "weight": pa.array(np.full(count, weight)),
        }
    )


def of_requests(topology: Topology, table: pa.Table, thinned: bool = False) -> pa.Table:
    """What services say of recorded requests: one error for each that failed there, and a line of each slow one at the front.

    OTLP has no weight for a log record, so each is one, whatever its request stands for, unless the store itself has ``thinned`` them.
    """
    if not thinned:
        table = table.set_column(table.schema.get_field_index("weight"), "weight", pa.array(np.ones(table.num_rows)))
    own = table.filter(pa.array(arrow.numbers(table["kind"]) == spans.SERVER))
    failed = own.filter(pc.equal(own["outcome"], spans.ERROR))
    slow = own.filter(pc.and_(pc.is_in(own["service"], value_set=pa.array(topology.fronts)), pc.greater(own["duration"], 10**9)))
    return logs.combine([part for part in (*_errors(failed), *_slow(slow)) if part.num_rows])


def _errors(failed: pa.Table) -> Iterator[pa.Table]:
    if not failed.num_rows:
        return
    body = pc.binary_join_element_wise(failed["operation"], pa.scalar(" failed: "), pc.coalesce(failed["status_message"], pa.scalar("unknown")), "")
    table = _of_spans(failed, "ERROR", body)
    kinds = pc.case_when(
        pc.make_struct(pc.match_substring(failed["status_message"], "connection became free"), pc.match_substring(failed["status_message"], "in time")),
        pa.scalar("PoolTimeoutError"),
        pa.scalar("TimeoutError"),
        pa.scalar("InternalError"),
    )
    stack = pc.replace_substring(pa.repeat(pa.scalar(_STACK), failed.num_rows), "{line}", "41")
    stack = pc.binary_join_element_wise(failed["service"], stack, "\n")
    for name, column in zip(EXCEPTION, (kinds, failed["status_message"], stack), strict=True):
        table = table.append_column(name, column)
    yield table


def _slow(slow: pa.Table) -> Iterator[pa.Table]:
    if slow.num_rows:
        ms = pc.cast(pc.divide(slow["duration"], 10**6), pa.string())
        yield _of_spans(slow, "WARN", pc.binary_join_element_wise(slow["operation"], pa.scalar(" took "), ms, pa.scalar(" ms"), ""))


def _of_spans(table: pa.Table, severity: str, body: pa.Array) -> pa.Table:
    at = pc.add(table["start"], table["duration"])
    count = table.num_rows
    same = {name: table[name] for name in ("environment", "service", "version", "instance", "host", "trace_id", "span_id", "weight")}
    return pa.table(
        {
            "time": at,
            "observed": pc.add(at, 250 * 10**6),
            **same,
            "severity": pa.array(np.full(count, logs.SEVERITY_OF_NAME[severity], np.int8)),
            "severity_text": pa.repeat(pa.scalar(severity), count),
            "body": body,
            "structured": pa.array(np.zeros(count, np.bool_)),
            "scope": pa.repeat(pa.scalar("requests"), count),
        }
    )
