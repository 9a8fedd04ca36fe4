"""One service: its charts, operations, what it asks and who asks it."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow
from wirbel.core.expected.band import Band, expected_band
from wirbel.core.expected.health import judge
from wirbel.core.series import cells as cell_series
from wirbel.core.series.percentiles import HEADLINE, SHARES
from wirbel.core.signals import spans
from wirbel.core.text import rfc3339
from wirbel.core.topology.graph import EntityId
from wirbel.explore import read_series
from wirbel.explore.figures import figures, listed, maybe
from wirbel.explore.schemas import CallRow, Figures, InstanceRow, OperationRow, OutcomeSeries, PercentileLine, ServiceCharts, ServiceView, change_out
from wirbel.store import reading
from wirbel.store.models import Stream

Window = tuple[int, int]
MOST_ROWS = 100  # operations, peers or instances of one service


def service_view(service: str, start: int, end: int, focus: Window, reference: Window, environment: str | None) -> ServiceView:
    focus, reference = (read_series.aligned(window, environment) for window in (focus, reference))
    grid = read_series.grid_of(Stream.CELLS, min(start, reference[0], focus[0]), end, environment)
    drawn, table = read_series.read(grid, (focus, reference), environment, [*cell_series.CELL_COLUMNS, "version", "instance", "host"])
    mine = table.filter(pc.equal(table["service"], service))
    served = cell_series.entries(mine)
    asked = cell_series.of_kind(mine, spans.CALL_KINDS)
    askers = table.filter(pc.and_(pc.equal(table["peer"], service), pc.equal(table["peer_kind"], "service")))
    found = cell_series.by_point(cell_series.entries(drawn.filter(pc.equal(drawn["service"], service))), grid, [EntityId("service", service)])
    latency = expected_band(found.latency())
    now, before = (_whole(served, window) for window in (focus, reference))
    verdict = judge(0, (focus, reference), now, before, latency, expected_band(found.rate()))
    own = EntityId("service", service)
    asked_of = {own, *reading.entity_graph(grid.first, end, environment).beneath(own, "calls")}
    changes = [c for c in reading.changes(grid.first, end, environment) if c.service is None or EntityId("service", c.service) in asked_of]
    return ServiceView(
        service=service,
        health=verdict.word,
        since=rfc3339(verdict.since) if verdict.since else None,
        versions=_versions(served, focus),
        charts=_charts(found, latency),
        operations=_operations(served, focus, reference, now, before),
        calls=_calls(asked, "peer", focus, reference, now, before),
        called_by=_calls(askers, "service", focus, reference, now, before),
        instances=_instances(served, focus, reference),
        changes=[change_out(c) for c in changes],
        focus=figures(now, 0, cell_series.window_seconds(focus)),
        reference=figures(before, 0, cell_series.window_seconds(reference)),
    )


def _whole(table: pa.Table, window: Window) -> cell_series.Totals:
    inside = cell_series.in_window(table, window)
    return cell_series.totals(inside, np.zeros(inside.num_rows, np.int64), 1, bounded=True)


def _versions(served: pa.Table, focus: Window) -> list[str]:
    return sorted(v for v in cell_series.in_window(served, focus)["version"].unique().to_pylist() if v)[:10]


def _charts(found: cell_series.OverTime, latency: Band) -> ServiceCharts:
    return ServiceCharts(
        start=rfc3339(found.grid.first),
        step_s=found.grid.step,
        # Failures first: they are drawn from the axis upward, so that a few among many can be seen.
        outcomes=[OutcomeSeries(name=outcome, values=listed(found.rate(outcome).values[0])) for outcome in reversed(spans.OUTCOME_NAMES)],
        latency=[PercentileLine(name=name, is_headline=name == HEADLINE, values=listed(found.latency(name).values[0])) for name in SHARES],
        expected=listed(latency.expected[0]),
        low=listed(latency.low[0]),
        high=listed(latency.high[0]),
        failed_share=listed(found.failed_share().values[0]),
        samples=[int(n) for n in latency.series.sample_size[0]],
    )


def _grouped(table: pa.Table, key: str, focus: Window, reference: Window) -> list[tuple[str, Figures, Figures, cell_series.Totals, cell_series.Totals, int]]:
    """Figures of both windows for each value of a column, busiest first."""
    group, names = arrow.codes(table[key])
    both = []
    for window in (focus, reference):
        rows = cell_series.window_rows(table, window)
        rows = rows[group[rows] >= 0]
        both.append(cell_series.totals(table.take(pa.array(rows)), group[rows], len(names), bounded=True))
    order = np.argsort(-(both[0].count + both[1].count), kind="stable")[:MOST_ROWS]
    return [
        (names[i], figures(both[0], i, cell_series.window_seconds(focus)), figures(both[1], i, cell_series.window_seconds(reference)), both[0], both[1], int(i))
        for i in order
        if both[0].sample_size[i] + both[1].sample_size[i] > 0
    ]


def _operations(served: pa.Table, focus: Window, reference: Window, now: cell_series.Totals, before: cell_series.Totals) -> list[OperationRow]:
    """Each operation's part of the change of the service's mean: the parts add up to it."""
    found = _grouped(served, "operation", focus, reference)
    if not found:
        return []
    shares = cell_series.shares_of_rise(found[0][3], found[0][4], now, before)
    rows = [OperationRow(operation=name, share_of_added_latency=maybe(shares[i]), focus=f, reference=r) for name, f, r, _, _, i in found]
    return sorted(rows, key=lambda row: -(row.share_of_added_latency or 0.0))


def _calls(table: pa.Table, key: str, focus: Window, reference: Window, now: cell_series.Totals, before: cell_series.Totals) -> list[CallRow]:
    """Who is asked (or asks), how often for each request served, and how long it takes."""
    kinds = {r["peer"]: r["peer_kind"] for r in table.group_by(["peer", "peer_kind"]).aggregate([]).to_pylist()} if key == "peer" else {}
    return [
        CallRow(
            name=name,
            kind=kinds.get(name) or "service",
            calls_focus=float(tf.count[i] / now.count[0]) if now.count[0] else None,
            calls_reference=float(tr.count[i] / before.count[0]) if before.count[0] else None,
            focus=f,
            reference=r,
        )
        for name, f, r, tf, tr, i in _grouped(table, key, focus, reference)
    ]


def _instances(served: pa.Table, focus: Window, reference: Window) -> list[InstanceRow]:
    described = {}
    for row in served.group_by(["instance", "version", "host"]).aggregate([("minute", "max")]).sort_by("minute_max").to_pylist():
        described[row["instance"]] = row
    return [
        InstanceRow(instance=name, version=described[name]["version"], host=described[name]["host"], focus=f, reference=r)
        for name, f, r, *_ in _grouped(served, "instance", focus, reference)
    ]
