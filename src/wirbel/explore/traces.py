"""Lists of requests, and one trace as it is read: channels, critical path, runs of like calls."""

from __future__ import annotations

import json
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow, text
from wirbel.core.diagnosis import critical_path as cp
from wirbel.core.diagnosis import requests as rq
from wirbel.core.diagnosis.parts import DEPENDENCY, OWN, TRANSFER
from wirbel.core.diagnosis.sentences import part_name
from wirbel.core.errors import NotFound
from wirbel.core.signals import spans
from wirbel.core.text import rfc3339
from wirbel.core.topology.trace_set import TraceSet
from wirbel.explore.schemas import EventOut, PathPart, Run, SpanOut, Step, TraceList, TracePair, TraceRow, TraceView
from wirbel.store import reading
from wirbel.store.models import Stream
from wirbel.store.retention import SHARE
from wirbel.store.scan import Where, scan

MOST_SPANS = 3_000  # of one trace that are sent to a screen
LEAST_RUN = 3  # like calls that make a run
LIST_COLUMNS = [
    "trace_id",
    "span_id",
    "is_root",
    "service",
    "operation",
    "kind",
    "start",
    "duration",
    "outcome",
    "status_code",
    "version",
    "instance",
    "weight",
]
COUNT_COLUMNS = ["is_root", "service", "kind", "start", "duration", "outcome", "weight"]


@dataclass(frozen=True)
class Filter:
    """Which requests; each condition may be left open."""

    service: str | None = None
    operation: str | None = None
    version: str | None = None
    instance: str | None = None
    outcome: str | None = None
    status: int | None = None  # exact
    slower_than_s: float | None = None
    faster_than_s: float | None = None
    attributes: tuple[tuple[str, str], ...] = ()  # names and the values they must have
    among: tuple[str, ...] | None = None  # services: those of a scope

    @property
    def services(self) -> tuple[str, ...] | None:
        """Whose requests may be meant; None: anybody's."""
        return self.among if self.service is None else (self.service,)

    def columns(self) -> list[str]:
        """Which the conditions are about, beyond COUNT_COLUMNS."""
        own = [name for name in ("operation", "version", "instance") if getattr(self, name) is not None]
        own += [] if self.status is None else ["status_code"]
        return own + [column for key, _ in self.attributes for column in arrow.columns_of(key)]

    def conditions(self, table: pa.Table) -> dict[str, pa.ChunkedArray]:
        """Each set condition's name and the rows that meet it."""
        found = {name: pc.equal(table[name], value) for name in ("service", "operation", "version", "instance") if (value := getattr(self, name)) is not None}
        if self.among is not None:
            found["scope"] = pc.is_in(table["service"], value_set=pa.array(self.among, pa.string()))
        if self.outcome is not None:
            found["outcome"] = pc.equal(table["outcome"], pa.scalar(spans.OUTCOME_NAMES.index(self.outcome), pa.int8()))
        if self.status is not None:
            found["status"] = pc.equal(table["status_code"], pa.scalar(self.status, pa.int16()))
        if self.slower_than_s is not None:
            found["slower than"] = pc.greater_equal(table["duration"], int(self.slower_than_s * 1e9))
        if self.faster_than_s is not None:
            found["faster than"] = pc.less_equal(table["duration"], int(self.faster_than_s * 1e9))
        for key, value in self.attributes:
            found[key] = pc.equal(arrow.values_of(table, key), value)
        return found


@dataclass(frozen=True)
class Found:
    """What a part of the store has of a list: how many requests, and the first of them in the list's order."""

    rows: pa.Table
    count: int
    stand_for: float

    @property
    def nbytes(self) -> int:
        return int(self.rows.nbytes)


_ORDERS = {"slowest": ("duration", -1), "fastest": ("duration", 1), "newest": ("start", -1), "oldest": ("start", 1)}


@dataclass(frozen=True)
class Find:
    """Work of a scan: the requests (entry spans; roots where no services are named) that meet all conditions."""

    wanted: Filter
    order: str
    most: int

    def __call__(self, table: pa.Table, window: tuple[int, int] | None) -> Found:
        rows = np.flatnonzero(self.meets(table, window, self.wanted.conditions(table)))
        shown = rows[_places(table, self.order)[rows].argsort(kind="stable")[: self.most]]
        found = table.take(pa.array(shown))
        spans_of, services_of = _sizes(table, found)
        found = found.append_column("spans", pa.array(spans_of)).append_column("services", pa.array(services_of))
        return Found(found, len(rows), float(arrow.numbers(table["weight"])[rows].sum()))

    def meets(self, table: pa.Table, window: tuple[int, int] | None, conditions: dict[str, pa.ChunkedArray], without: str | None = None) -> np.ndarray:
        keep = pa.chunked_array([pa.array(spans.is_entry(table))]) if self.wanted.services is not None else pa.chunked_array([pa.array(spans.is_root(table))])
        if window is not None:
            keep = pc.and_(keep, pc.and_(pc.greater_equal(table["start"], window[0]), pc.less(table["start"], window[1])))
        for name, condition in conditions.items():
            keep = keep if name == without else pc.and_(keep, condition)
        return pc.fill_null(keep, False).to_numpy()


@dataclass(frozen=True)
class Hiding:
    """Work of a scan: the conditions without any one of which something would be found."""

    find: Find

    def __call__(self, table: pa.Table, window: tuple[int, int] | None) -> set[str]:
        conditions = self.find.wanted.conditions(table)
        return {name for name in conditions if self.find.meets(table, window, conditions, without=name).any()}


def _places(table: pa.Table, order: str) -> np.ndarray:
    column, sign = _ORDERS[order]
    return sign * arrow.numbers(table[column])


def list_traces(window: tuple[int, int], wanted: Filter, order: str, most: int, environment: str | None) -> TraceList:
    """Requests of a window that meet all conditions."""
    find = Find(wanted, order, most)
    where = Where(Stream.SPANS, *window, environment, wanted.services, fresh=True)
    columns = [*LIST_COLUMNS, *wanted.columns()]
    parts = scan(where, columns, find, small=True)
    found = sum(part.count for part in parts)
    hidden_by = {name for part in scan(where, columns, Hiding(find)) for name in part} if not found else set()
    table = pa.concat_tables([part.rows.select(_no_rows().column_names) for part in parts if part.count] or [_no_rows()])
    shown = table.take(pa.array(_places(table, order).argsort(kind="stable")[:most])).to_pylist()
    return TraceList(
        rows=[
            TraceRow(
                trace=r["trace_id"].hex(),
                span=r["span_id"].hex(),
                at=rfc3339(r["start"]),
                seconds=r["duration"] / 1e9,
                service=r["service"],
                operation=r["operation"],
                outcome=spans.OUTCOME_NAMES[r["outcome"]],
                status_code=r["status_code"],
                version=r["version"],
                instance=r["instance"],
                spans=r["spans"],
                services=r["services"],
            )
            for r in shown
        ],
        found=found,
        stand_for=sum(part.stand_for for part in parts),
        detail=say_detail(window, environment),
        shown=len(shown),
        hidden_by=[name for name in wanted.conditions(_no_rows()) if name in hidden_by],
    )


def _no_rows() -> pa.Table:
    counted = [pa.field("spans", pa.int64()), pa.field("services", pa.int64())]
    return pa.schema([*(field for field in spans.SPAN_SCHEMA if field.name in LIST_COLUMNS), *counted]).empty_table()


def say_detail(window: tuple[int, int], environment: str | None) -> str | None:
    """What of the window is not kept in full, in a sentence; None if all is."""
    kept = reading.detail(Stream.SPANS, *window, environment)
    told = []
    if kept.nothing_before is not None:
        told.append(f"No traces are kept from before {text.time(kept.nothing_before)}.")
    if kept.thinned_until is not None:
        told.append(
            f"Before {text.time(kept.thinned_until)} ordinary requests are a sample of one in {round(1 / SHARE)}, weighted; failed, slowest and rare ones are all kept."
        )
    return " ".join(told) or None


def _sizes(table: pa.Table, shown: pa.Table) -> tuple[list[int], list[int]]:
    """How many spans and services the trace of each shown request has."""
    ids = table["trace_id"].cast(pa.binary())
    wanted = shown["trace_id"].cast(pa.binary())
    part = pa.table({"trace": ids, "service": table["service"]}).filter(pc.is_in(ids, value_set=wanted))
    counted = {r["trace"]: r for r in part.group_by("trace").aggregate([("service", "count"), ("service", "count_distinct")]).to_pylist()}
    found = [counted[trace] for trace in wanted.to_pylist()]
    return [r["service_count"] for r in found], [r["service_count_distinct"] for r in found]


def trace_pair(trace: str, span: str | None, against: str | None) -> TracePair:
    """One trace beside a normal one. ``span`` is where to start (default: the root)."""
    this = trace_view(trace, span)
    normal = trace_view(against.partition(":")[0], against.partition(":")[2] or None) if against else None
    if normal:
        _compare(this, normal)
    return TracePair(this=this, normal=normal, ratio=this.seconds / normal.seconds if normal and normal.seconds else None)


def _compare(this: TraceView, normal: TraceView) -> None:
    usual = {(part.label, part.kind): part for part in normal.parts}
    for part in this.parts:
        other = usual.pop((part.label, part.kind), None)
        part.normal_calls, part.normal_ms = (other.calls, other.here_ms) if other else (0, 0.0)
        part.more_ms = part.here_ms - part.normal_ms
    this.parts += [
        PathPart(label=p.label, kind=p.kind, calls=0, here_ms=0.0, normal_calls=p.calls, normal_ms=p.here_ms, more_ms=-p.here_ms) for p in usual.values()
    ]
    this.parts.sort(key=lambda part: -(part.more_ms or 0.0))


def parse_id(text: str, width: int) -> bytes:
    """The bytes of an id in hexadecimal digits. Raises NotFound if it is none."""
    try:
        found = bytes.fromhex(text)
    except ValueError:
        found = b""
    if len(found) != width:
        raise NotFound(f"{text[:40]!r} is not an id of {width * 2} hexadecimal digits.")
    return found


def trace_view(trace: str, span: str | None) -> TraceView:
    """A trace, drawn from its root or from one span of it. Raises NotFound if it is not stored."""
    table = reading.trace(parse_id(trace, 16))
    if not table.num_rows:
        raise NotFound(f"Trace {trace} is not stored. It may not have arrived yet, or retention has dropped it.")
    traces = TraceSet(table)
    parent, start, duration = traces.parent, traces.start, traces.duration
    root = _root(traces, parse_id(span, 8) if span else None)
    built = rq.build(traces, np.array([root]), (0, 2**62))
    path = built.path
    order, depth = _reading_order(parent, start, root)
    left_out = max(len(order) - MOST_SPANS, 0)
    order = order[:MOST_SPANS]
    place = {row: index for index, row in enumerate(order)}
    services = table["service"].to_pylist()
    channel_of, channels = _channels(table, order, services)
    zero = int(start[root])
    shown = [_span(table, row, place, parent, depth, channel_of[row], path, zero, services) for row in order]
    orphans = sum(s.missing_parent for s in shown)
    return TraceView(
        trace=trace,
        root=place[root],
        at=rfc3339(zero),
        service=services[root],
        operation=table["operation"][root].as_py(),
        seconds=duration[root] / 1e9,
        outcome=spans.OUTCOME_NAMES[table["outcome"][root].as_py()],
        channels=channels,
        spans=shown,
        steps=_steps(path, parent, order, place, channel_of, zero),
        runs=_runs(traces, order, channel_of, zero),
        parts=path_parts(built),
        left_out=left_out,
        notes=[f"{orphans} spans name a parent that has not arrived."] if orphans else [],
    )


def _root(traces: TraceSet, span: bytes | None) -> int:
    """The span asked for, else the longest span without a parent here."""
    if span is not None:
        rows = np.flatnonzero(pc.equal(traces.table["span_id"], pa.scalar(span, pa.binary(8))).to_numpy())
        if len(rows):
            return int(rows[0])
    tops = np.flatnonzero(traces.parent < 0)
    tops = tops if len(tops) else np.arange(len(traces))
    return int(tops[np.argmax(traces.duration[tops])])


def _reading_order(parent: np.ndarray, start: np.ndarray, root: int) -> tuple[list[int], dict[int, int]]:
    """Rows as an outline: the tree under the root, then other fragments; siblings in order of time."""
    children: dict[int, list[int]] = {}
    for row in np.argsort(start, kind="stable"):
        children.setdefault(int(parent[row]), []).append(int(row))
    order: list[int] = []
    depth: dict[int, int] = {}
    above = set()
    at = int(parent[root])
    while at >= 0 and at not in above:  # spans above the chosen one are not part of this drawing
        above.add(at)
        at = int(parent[at])
    tops = [root] + [row for row in children.get(-1, []) if row != root and row not in above]
    stack = [(row, 0) for row in reversed(tops)]
    while stack:
        row, level = stack.pop()
        if row in depth:
            continue
        depth[row] = level
        order.append(row)
        stack += [(child, level + 1) for child in reversed(children.get(row, []))]
    return order, depth


def _channels(table: pa.Table, order: list[int], services: list[str]) -> tuple[dict[int, int], list[str]]:
    """A channel a service, in call order; what sends no spans of its own is the channel of its calls."""
    peer, peer_kind = table["peer"].to_pylist(), table["peer_kind"].to_pylist()
    names: dict[str, int] = {}
    found = {}
    for row in order:
        name = peer[row] if peer[row] and peer_kind[row] != "service" else services[row]
        found[row] = names.setdefault(name, len(names))
    return found, list(names)


def _span(
    table: pa.Table, row: int, place: dict[int, int], parent: np.ndarray, depth: dict[int, int], channel: int, path: cp.Path, zero: int, services: list[str]
) -> SpanOut:
    r = {
        name: table[name][row].as_py()
        for name in ("span_id", "parent_id", "operation", "name", "kind", "outcome", "status_message", "peer", "start", "duration", "events")
    }
    attributes = arrow.attributes_of(table, row)
    own, resource = attributes["span"], attributes["resource"]
    on_path = bool(path.high[row] > path.low[row])
    above = int(parent[row])
    return SpanOut(
        index=place[row],
        span=r["span_id"].hex(),
        parent=place.get(above) if above >= 0 else None,
        missing_parent=r["parent_id"] is not None and above < 0,
        depth=depth[row],
        service=services[row],
        operation=r["operation"],
        name=r["name"],
        kind=spans.KIND_NAMES[r["kind"]],
        outcome=spans.OUTCOME_NAMES[r["outcome"]],
        status_message=r["status_message"],
        peer=r["peer"],
        channel=channel,
        start_ms=(r["start"] - zero) / 1e6,
        duration_ms=r["duration"] / 1e6,
        self_ms=float(path.self_time[row]) / 1e6,
        path_from_ms=(path.low[row] - zero) / 1e6 if on_path else None,
        path_to_ms=(path.high[row] - zero) / 1e6 if on_path else None,
        attributes=own,
        resource=resource,
        events=[EventOut(at_ms=(e["at"] - zero) / 1e6, name=e["name"], attributes=json.loads(e["attributes"] or "{}")) for e in r["events"] or []],
    )


def _steps(path: cp.Path, parent: np.ndarray, order: list[int], place: dict[int, int], channel_of: dict[int, int], zero: int) -> list[Step]:
    """The path in order of time: at each instant the deepest span on it. Steps touch and cover the root."""
    on_path = [row for row in order if path.high[row] > path.low[row]]
    inner: dict[int, list[int]] = {}
    for row in on_path:
        inner.setdefault(int(parent[row]), []).append(row)
    steps = []
    for row in on_path:
        at = int(path.low[row])
        for child in sorted(inner.get(row, []), key=lambda c: int(path.low[c])):
            if path.low[child] > at:
                steps.append((at, int(path.low[child]), row))
            at = int(path.high[child])
        if path.high[row] > at:
            steps.append((at, int(path.high[row]), row))
    return [Step(channel=channel_of[row], from_ms=(a - zero) / 1e6, to_ms=(b - zero) / 1e6, span=place[row]) for a, b, row in sorted(steps)]


def _runs(traces: TraceSet, order: list[int], channel_of: dict[int, int], zero: int) -> list[Run]:
    operation, names = traces.codes("operation")
    start, duration = traces.start, traces.duration
    groups: dict[tuple[int, int, int], list[int]] = {}
    for row in order:
        groups.setdefault((int(traces.parent[row]), channel_of[row], int(operation[row])), []).append(row)
    runs = []
    for (above, channel, name), rows in groups.items():
        if len(rows) >= LEAST_RUN and above >= 0:
            rows.sort(key=lambda row: int(start[row]))
            ends = [int(start[row] + duration[row]) for row in rows]
            sequential = all(int(start[b]) >= end for end, b in zip(ends, rows[1:], strict=False))
            runs.append(
                Run(
                    channel=channel,
                    count=len(rows),
                    from_ms=(int(start[rows[0]]) - zero) / 1e6,
                    to_ms=(max(ends) - zero) / 1e6,
                    total_ms=float(sum(duration[row] for row in rows)) / 1e6,
                    label=names[name],
                    sequential=sequential,
                )
            )
    return runs


IN_OPERATION = {OWN: " in {}", DEPENDENCY: ", {}", TRANSFER: ""}
PAUSE = "pause before a repeat"


def path_parts(built: rq.Requests) -> list[PathPart]:
    """Where this request's time passed; the parts add up to its duration. Repeats count as calls here: they happened."""
    rows = np.flatnonzero(built.part >= 0)
    part, count = built.part[rows], len(built.parts)
    pause = np.bincount(part, built.pause[rows] / 1e6, count)
    time = np.bincount(part, built.self_time[rows] / 1e6, count) - pause
    calls = np.bincount(part, built.is_call[rows], count)
    found: dict[tuple[str, str], PathPart] = {}

    def add(label: str, kind: str, calls: int, ms: float) -> None:
        into = found.setdefault((label, kind), PathPart(label=label, kind=kind, calls=0, here_ms=0.0))
        into.calls += calls
        into.here_ms += ms

    for number, one in enumerate(built.parts):
        add(part_name(one) + IN_OPERATION[one.kind].format(one.operation), one.kind, int(calls[number]), float(time[number]))
        if pause[number]:
            add(f"{one.service}, {PAUSE} to {one.peer}", PAUSE, 0, float(pause[number]))
    return sorted(found.values(), key=lambda p: -p.here_ms)
