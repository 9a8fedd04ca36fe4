"""One trace as it is read: its spans, channels, critical path, runs of like calls, beside a normal one."""

from __future__ import annotations

import json

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow
from wirbel.core.diagnosis import critical_path as cp
from wirbel.core.diagnosis import requests as rq
from wirbel.core.diagnosis.parts import DEPENDENCY, OWN, TRANSFER
from wirbel.core.diagnosis.sentences import short_part_name
from wirbel.core.errors import NotFound
from wirbel.core.oddities import oddities
from wirbel.core.outline import Outline
from wirbel.core.signals import spans
from wirbel.core.text import rfc3339
from wirbel.core.topology.trace_set import TraceSet
from wirbel.explore.schemas import AlikeOut, EventOut, PathPart, Run, SpanColumns, SpanOut, Steps, TracePair, TraceView
from wirbel.store import reading

MOST_SPANS = 100_000  # of one trace that are sent to a screen
MOST_RUNS = 30  # that are bracketed
ALIKE = ("service", "operation", "peer")


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


def _stored(trace: str) -> pa.Table:
    table = reading.trace(parse_id(trace, 16))
    if not table.num_rows:
        raise NotFound(f"Trace {trace} is not stored. It may not have arrived yet, or retention has dropped it.")
    return table


def trace_view(trace: str, span: str | None) -> TraceView:
    """A trace, drawn from its root or from one span of it. Raises NotFound if it is not stored."""
    traces = TraceSet(_stored(trace))
    root = _root(traces, parse_id(span, 8) if span else None)
    built = rq.build(traces, np.array([root]), (0, 2**62))
    drawn = Outline(traces, root, MOST_SPANS)
    steps, runs = drawn.steps(built.path), list(drawn.runs())
    zero, operations = int(traces.start[root]), traces.codes("operation")[1]
    return TraceView(
        trace=trace,
        root=int(drawn.place[root]),
        at=rfc3339(zero),
        service=traces.text("service", root) or "",
        operation=traces.text("operation", root) or "",
        seconds=traces.duration[root] / 1e9,
        outcome=spans.OUTCOME_NAMES[traces.table["outcome"][root].as_py()],
        channels=drawn.channels,
        spans=_columns(drawn, built.path, zero),
        steps=Steps(at_ms=((np.r_[steps.start, steps.end[-1:]] - zero) / 1e6).tolist(), span=drawn.place[steps.row].tolist()),
        runs=[
            Run(
                channel=int(drawn.channel[run.row]),
                count=run.count,
                from_ms=_ms(run.start - zero),
                to_ms=_ms(run.end - zero),
                total_ms=_ms(run.total),
                label=operations[traces.codes("operation")[0][run.row]],
                sequential=run.sequential,
            )
            for run in runs[:MOST_RUNS]
        ],
        more_runs=max(len(runs) - MOST_RUNS, 0),
        parts=path_parts(built),
        left_out=drawn.left_out,
        beside=drawn.beside,
        levels=drawn.levels,
        notes=oddities(drawn),
    )


def _ms(ns: int) -> float:
    return ns / 1e6


def _root(traces: TraceSet, span: bytes | None) -> int:
    """The span asked for, else the longest span without a parent here."""
    if span is not None:
        rows = np.flatnonzero(pc.equal(traces.table["span_id"], pa.scalar(span, pa.binary(8))).to_numpy())
        if len(rows):
            return int(rows[0])
    tops = np.flatnonzero(traces.parent < 0)
    tops = tops if len(tops) else np.arange(len(traces))
    return int(tops[np.argmax(traces.duration[tops])])


def _columns(drawn: Outline, path: cp.Path, zero: int) -> SpanColumns:
    traces, order = drawn.traces, drawn.order
    codes = [traces.codes(name) for name in ALIKE]
    kind, outcome = traces.kind[order], arrow.numbers(traces.table["outcome"])[order].astype(np.int64)
    # −1, which is none, counts as the last of each.
    shape = (*(len(values) + 1 for _, values in codes), len(spans.KIND_NAMES), len(spans.OUTCOME_NAMES), len(drawn.channels))
    parts = (*(np.where(code[order] < 0, len(values), code[order]) for code, values in codes), kind, outcome, drawn.channel[order])
    distinct, of = np.unique(np.ravel_multi_index(parts, shape), return_inverse=True)
    alike = [
        AlikeOut(
            **{name: [*values, None][code] for name, (_, values), code in zip(ALIKE, codes, one, strict=False)},
            kind=spans.KIND_NAMES[one[-3]],
            outcome=spans.OUTCOME_NAMES[one[-2]],
            channel=one[-1],
        )
        for one in zip(*(part.tolist() for part in np.unravel_index(distinct, shape)), strict=True)
    ]
    return SpanColumns(
        span=[one.hex() for one in traces.table["span_id"].take(pa.array(order)).to_pylist()],
        parent=drawn.parents.tolist(),
        depth=drawn.depth.tolist(),
        alike=alike,
        of=of.tolist(),
        start_ms=((drawn.start[order] - zero) / 1e6).tolist(),
        moved=np.flatnonzero(drawn.moved[order]).tolist(),
        moved_ms=(drawn.moved[order][drawn.moved[order] != 0] / 1e6).tolist(),
        duration_ms=(traces.duration[order] / 1e6).tolist(),
        self_ms=(path.self_time[order] / 1e6).tolist(),
        on_path=np.flatnonzero(path.high[order] > path.low[order]).tolist(),
        missing_parent=np.flatnonzero(traces.lost_parent[order]).tolist(),
        events=pc.fill_null(pc.list_value_length(traces.table["events"]), 0).take(pa.array(order)).to_pylist(),
    )


def span_view(trace: str, span: str) -> SpanOut:
    """All that was sent about one span. Raises NotFound."""
    table, wanted = _stored(trace), parse_id(span, 8)
    found = table.filter(pc.equal(table["span_id"], pa.scalar(wanted, pa.binary(8))))
    if not found.num_rows:
        raise NotFound(f"Span {span} is not stored with trace {trace}.")
    names = ("name", "kind", "outcome", "status_message", "service", "peer", "start", "duration", "events")
    r = {name: found[name][0].as_py() for name in names}
    attributes = arrow.attributes_of(found, 0)
    return SpanOut(
        span=span,
        service=r["service"],
        name=r["name"],
        kind=spans.KIND_NAMES[r["kind"]],
        outcome=spans.OUTCOME_NAMES[r["outcome"]],
        status_message=r["status_message"],
        peer=r["peer"],
        attributes=attributes["span"],
        resource=attributes["resource"],
        events=[EventOut(at_ms=_ms(e["at"] - r["start"]), name=e["name"], attributes=json.loads(e["attributes"] or "{}")) for e in r["events"] or []],
    )


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
        add(short_part_name(one) + IN_OPERATION[one.kind].format(one.operation), one.kind, int(calls[number]), float(time[number]))
        if pause[number]:
            add(f"{one.service}, {PAUSE} to {one.peer}", PAUSE, 0, float(pause[number]))
    return sorted(found.values(), key=lambda p: -p.here_ms)
