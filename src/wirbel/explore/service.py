"""One service: its charts, operations, what it asks and who asks it."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow
from wirbel.core.expected.band import Band, expected_band
from wirbel.core.expected.health import judge
from wirbel.core.series import cells as cell_series
from wirbel.core.series import percentiles
from wirbel.core.series.grid import Grid
from wirbel.core.series.percentiles import HEADLINE
from wirbel.core.signals import spans
from wirbel.core.signals.spans import Outcome
from wirbel.core.text import rfc3339
from wirbel.explore import read_series
from wirbel.explore.figures import figures, listed
from wirbel.explore.schemas import CallRow, Figures, InstanceRow, OperationRow, OutcomeSeries, Series, ServiceCharts, ServiceView, change_out
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
    found = cell_series.by_point(cell_series.entries(drawn.filter(pc.equal(drawn["service"], service))), grid)
    latency = expected_band(found.percentile(HEADLINE), found.rows, grid.step)
    traffic = expected_band(found.count / grid.covered_s, found.rows, grid.step)
    now, before = (_whole(served, window) for window in (focus, reference))
    verdict = judge(0, grid, (focus, reference), now, before, found, latency, traffic)
    beneath = _beneath(table, service)
    changes = [c for c in reading.changes(grid.first, end, environment) if c.service is None or c.service in beneath]
    return ServiceView(
        service=service,
        health=verdict.word,
        since=rfc3339(verdict.since) if verdict.since else None,
        versions=_versions(served, focus),
        charts=_charts(found, grid, latency),
        operations=_operations(served, focus, reference, now, before),
        calls=_calls(asked, "peer", focus, reference, now, before),
        called_by=_calls(askers, "service", focus, reference, now, before),
        instances=_instances(served, focus, reference),
        changes=[change_out(c) for c in changes],
        focus=figures(now, 0, cell_series.window_seconds(focus)),
        reference=figures(before, 0, cell_series.window_seconds(reference)),
    )


def _beneath(table: pa.Table, service: str) -> set[str]:
    """The service and all that it asks, directly or through others."""
    asked: dict[str, set[str]] = {}
    for edge in table.filter(pc.equal(table["peer_kind"], "service")).group_by(["service", "peer"]).aggregate([]).to_pylist():
        asked.setdefault(edge["service"], set()).add(edge["peer"])
    found, fresh = {service}, {service}
    while fresh:
        fresh = {peer for name in fresh for peer in asked.get(name, set())} - found
        found |= fresh
    return found


def _whole(table: pa.Table, window: Window) -> cell_series.Totals:
    inside = cell_series.in_window(table, window)
    return cell_series.totals(inside, np.zeros(inside.num_rows, np.int64), 1, bounded=True)


def _versions(served: pa.Table, focus: Window) -> list[str]:
    return sorted(v for v in cell_series.in_window(served, focus)["version"].unique().to_pylist() if v)[:10]


def _charts(found: cell_series.Totals, grid: Grid, latency: Band) -> ServiceCharts:
    count, covered = found.count[0], grid.covered_s
    with np.errstate(divide="ignore", invalid="ignore"):
        failed_share = found.failed[0] / count
    # Failures first: they are drawn from the axis upward, so that a few among many can be seen.
    per_outcome: list[tuple[Outcome, npt.NDArray[np.float64]]] = [
        ("error", found.failed[0]),
        ("client error", found.client_errors[0]),
        ("ok", count - found.failed[0] - found.client_errors[0]),
    ]
    return ServiceCharts(
        start=rfc3339(grid.first),
        step_s=grid.step,
        outcomes=[OutcomeSeries(name=name, values=listed(values / covered)) for name, values in per_outcome],
        latency=[Series(name=name, values=listed(found.percentile(name)[0])) for name in percentiles.SHARES],
        expected=listed(latency.expected[0]),
        low=listed(latency.low[0]),
        high=listed(latency.high[0]),
        failed_share=listed(failed_share),
        samples=[int(n) for n in found.rows[0]],
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
        if both[0].rows[i] + both[1].rows[i] > 0
    ]


def _operations(served: pa.Table, focus: Window, reference: Window, now: cell_series.Totals, before: cell_series.Totals) -> list[OperationRow]:
    """Each operation's part of the change of the service's mean: the parts add up to it."""
    rise = float(now.mean[0] - before.mean[0]) if now.count[0] and before.count[0] else 0.0
    rows = []
    for name, f, r, totals_f, totals_r, i in _grouped(served, "operation", focus, reference):
        share = None
        if rise > 0:
            share = float(totals_f.total[i] / now.count[0] - totals_r.total[i] / before.count[0]) / rise
        rows.append(OperationRow(operation=name, share_of_added_latency=share, focus=f, reference=r))
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
