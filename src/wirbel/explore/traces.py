"""Lists of requests."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow, text
from wirbel.core.signals import spans
from wirbel.core.text import rfc3339
from wirbel.explore.schemas import TraceList, TraceRow
from wirbel.store import reading
from wirbel.store.models import Stream
from wirbel.store.retention import SHARE
from wirbel.store.scan import Where, scan

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
