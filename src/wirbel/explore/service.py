"""One service: its charts, operations, what it asks and who asks it."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass
from typing import Generic, TypeVar

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow
from wirbel.core.expected.band import Band
from wirbel.core.series import cells as cell_series
from wirbel.core.series.percentiles import HEADLINE, SHARES
from wirbel.core.signals import spans
from wirbel.core.text import rfc3339
from wirbel.core.topology.graph import EntityId
from wirbel.explore import read_series
from wirbel.explore.earlier import earlier, shifted
from wirbel.explore.figures import figures, listed, maybe
from wirbel.explore.fleet import fleet
from wirbel.explore.schemas import (
    Before,
    CallRow,
    EarlierCharts,
    Figures,
    InAll,
    InstanceRow,
    OperationRow,
    OutcomeSeries,
    PartRow,
    PercentileLine,
    ServiceCharts,
    ServiceView,
    StatusRow,
    change_out,
)
from wirbel.store import reading
from wirbel.store.scan import snapshot
from wirbel.watch import bands

Window = tuple[int, int]
Row = TypeVar("Row")


@snapshot()
def service_view(
    service: str, start: int, end: int, focus: Window, reference: Window, environment: str | None, most: int, beside: Sequence[Before]
) -> ServiceView:
    focus, reference = (read_series.aligned(window, environment) for window in (focus, reference))
    first = min(start, reference[0], focus[0])
    verdict = fleet(start, end, focus, reference, environment, [service]).verdict(service)
    own, graph = EntityId("service", service), reading.graph_of_hours(first, end, environment)
    found, past = read_series.read_together(first, end, environment, [service]).over_time(own)
    latency = bands.drawn(found.latency(), past.latency(), HEADLINE, environment)
    table = _cells((focus, reference), environment, {service, *_services(graph.subjects(own, "calls"))})
    mine = table.filter(pc.equal(table["service"], service))
    served = cell_series.entries(mine)
    asked = cell_series.of_kind(mine, spans.CALL_KINDS)
    askers = table.filter(pc.and_(pc.equal(table["peer"], service), pc.equal(table["peer_kind"], "service")))
    now, before = (_whole(served, window) for window in (focus, reference))
    changes = reading.changes(found.grid.first, end, environment, sorted({service, *_services(graph.beneath(own, "calls"))}))
    compared = _Compared(focus, reference, now, before, most)
    operations, calls, called_by = compared.operations(served), compared.calls(asked, "peer"), compared.calls(askers, "service")
    instances, versions, hosts = (compared.grouped(served, key) for key in ("instance", "version", "host"))
    return ServiceView(
        service=service,
        health=verdict.word,
        signal=verdict.signal,
        since=rfc3339(verdict.since) if verdict.since else None,
        versions=_versions(served, focus),
        charts=_charts(found, latency, [_charts_before(service, start, end, environment, before) for before in beside]),
        operations=operations.rows,
        calls=calls.rows,
        called_by=called_by.rows,
        instances=_instances(served, instances.rows),
        by_version=_parts(versions.rows),
        by_host=_parts(hosts.rows),
        statuses=_statuses(served, focus, reference),
        in_all=InAll(
            operations=operations.in_all,
            calls=calls.in_all,
            called_by=called_by.in_all,
            instances=instances.in_all,
            versions=versions.in_all,
            hosts=hosts.in_all,
        ),
        changes=[change_out(c) for c in changes],
        focus=figures(now, 0, cell_series.window_seconds(focus)),
        reference=figures(before, 0, cell_series.window_seconds(reference)),
    )


def _services(entities: Iterable[EntityId]) -> list[str]:
    return [one.name for one in entities if one.kind == "service"]


def _cells(windows: tuple[Window, Window], environment: str | None, services: Collection[str]) -> pa.Table:
    columns = [*cell_series.CELL_COLUMNS, "version", "instance", "host", "status_code"]
    return read_series.in_windows(windows, environment, lambda start, end, step: reading.cells(start, end, environment, sorted(services), columns, step))


def _whole(table: pa.Table, window: Window) -> cell_series.Totals:
    inside = cell_series.in_window(table, window)
    return cell_series.totals(inside, np.zeros(inside.num_rows, np.int64), 1, bounded=True)


def _versions(served: pa.Table, focus: Window) -> list[str]:
    return sorted(v for v in cell_series.in_window(served, focus)["version"].unique().to_pylist() if v)[:10]


def _charts_before(service: str, start: int, end: int, environment: str | None, before: Before) -> EarlierCharts:
    grid, table = read_series.read_past(*shifted(start, end, before), environment, [service])
    found = cell_series.by_point(table, grid, [EntityId("service", service)])
    return EarlierCharts(
        rate=earlier(found.rate(), before), latency=earlier(found.latency(), before, HEADLINE), failed_share=earlier(found.failed_share(), before)
    )


def _charts(found: cell_series.OverTime, latency: Band, before: list[EarlierCharts]) -> ServiceCharts:
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
        earlier=before,
    )


@dataclass(frozen=True)
class _Cut(Generic[Row]):
    """The busiest rows of a table, and how many there are."""

    rows: list[Row]
    in_all: int


@dataclass(frozen=True)
class _Grouped:
    """One value of a column in both windows."""

    name: str
    place: int  # in the totals of all values
    focus: Figures
    reference: Figures
    totals: tuple[cell_series.Totals, cell_series.Totals]


@dataclass(frozen=True)
class _Compared:
    """Tables of a service's cells, focus beside reference."""

    focus: Window
    reference: Window
    now: cell_series.Totals
    before: cell_series.Totals
    most: int

    def grouped(self, table: pa.Table, key: str) -> _Cut[_Grouped]:
        """Figures of both windows for each value of a column, busiest first."""
        group, names = arrow.codes(table[key])
        both = []
        for window in (self.focus, self.reference):
            rows = cell_series.window_rows(table, window)
            rows = rows[group[rows] >= 0]
            both.append(cell_series.totals(table.take(pa.array(rows)), group[rows], len(names), bounded=True))
        now, before = both
        order = [int(i) for i in np.argsort(-(now.count + before.count), kind="stable") if now.sample_size[i] + before.sample_size[i] > 0]
        seconds = [cell_series.window_seconds(window) for window in (self.focus, self.reference)]
        found = [_Grouped(names[i], i, figures(now, i, seconds[0]), figures(before, i, seconds[1]), (now, before)) for i in order[: self.most]]
        return _Cut(found, len(order))

    def operations(self, served: pa.Table) -> _Cut[OperationRow]:
        """Each operation's part of the change of the service's mean: the parts add up to it."""
        found = self.grouped(served, "operation")
        if not found.rows:
            return _Cut([], 0)
        shares = cell_series.shares_of_rise(*found.rows[0].totals, self.now, self.before)
        rows = [
            OperationRow(operation=one.name, share_of_added_latency=maybe(shares[one.place]), focus=one.focus, reference=one.reference) for one in found.rows
        ]
        return _Cut(sorted(rows, key=lambda row: -(row.share_of_added_latency or 0.0)), found.in_all)

    def calls(self, table: pa.Table, key: str) -> _Cut[CallRow]:
        """Who is called (or calls), how often for each request served, and how long it takes."""
        kinds = {r["peer"]: r["peer_kind"] for r in table.group_by(["peer", "peer_kind"]).aggregate([]).to_pylist()} if key == "peer" else {}
        found = self.grouped(table, key)
        rows = [
            CallRow(
                name=one.name,
                kind=kinds.get(one.name) or "service",
                calls_focus=float(one.totals[0].count[one.place] / self.now.count[0]) if self.now.count[0] else None,
                calls_reference=float(one.totals[1].count[one.place] / self.before.count[0]) if self.before.count[0] else None,
                focus=one.focus,
                reference=one.reference,
            )
            for one in found.rows
        ]
        return _Cut(rows, found.in_all)


def _parts(rows: list[_Grouped]) -> list[PartRow]:
    return [PartRow(name=one.name, focus=one.focus, reference=one.reference) for one in rows]


def _instances(served: pa.Table, rows: list[_Grouped]) -> list[InstanceRow]:
    described = {}
    for row in served.group_by(["instance", "version", "host"]).aggregate([("minute", "max")]).sort_by("minute_max").to_pylist():
        described[row["instance"]] = row
    return [
        InstanceRow(instance=one.name, version=described[one.name]["version"], host=described[one.name]["host"], focus=one.focus, reference=one.reference)
        for one in rows
    ]


def _statuses(served: pa.Table, focus: Window, reference: Window) -> list[StatusRow]:
    """How requests ended, by exact status code, failures first."""
    rates: dict[tuple[int, int | None], list[float]] = defaultdict(lambda: [0.0, 0.0])
    for place, window in enumerate((focus, reference)):
        ended = cell_series.in_window(served, window).group_by(["outcome", "status_code"]).aggregate([("count", "sum")])
        for row in ended.to_pylist():
            rates[row["outcome"], row["status_code"]][place] = row["count_sum"] / cell_series.window_seconds(window)
    return [
        StatusRow(outcome=spans.OUTCOME_NAMES[outcome], code=code or None, focus_rate=rate[0], reference_rate=rate[1])
        for (outcome, code), rate in sorted(rates.items(), key=lambda item: (-item[0][0], -item[1][0], item[0][1] or 0))
    ]
