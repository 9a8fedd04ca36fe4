"""Requests split by the values of an attribute: focus beside reference, what adds most to the change first."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pyarrow as pa

from wirbel.core import arrow
from wirbel.core.series import breakdown as split_of
from wirbel.core.series import cells as cell_series
from wirbel.explore.figures import figures, maybe
from wirbel.explore.schemas import Breakdown, BreakdownRow
from wirbel.explore.traces import COUNT_COLUMNS, Filter, Find, say_detail
from wirbel.store.models import Stream
from wirbel.store.scan import Where, scan

MOST_VALUES = 1_000  # shown


@dataclass(frozen=True)
class Split:
    """Work of a scan: the wanted requests counted by an attribute (columns of core.series.breakdown.COUNTED)."""

    wanted: Filter
    by: str

    def __call__(self, table: pa.Table, window: tuple[int, int] | None) -> pa.Table:
        rows = np.flatnonzero(Find(self.wanted, "newest", 0).meets(table, window, self.wanted.conditions(table)))
        needed = [name for name in table.column_names if name in (*split_of.COLUMNS, *arrow.columns_of(self.by))]
        return split_of.count(table.select(needed).take(pa.array(rows)), self.by)


def split(window: tuple[int, int], wanted: Filter, by: str, environment: str | None) -> pa.Table:
    """All requests of a window, counted by value, outcome and latency bucket."""
    where = Where(Stream.SPANS, *window, environment, wanted.services, fresh=True)
    columns = [*COUNT_COLUMNS, *wanted.columns(), *arrow.columns_of(by)]
    parts = scan(where, columns, Split(wanted, by), small=True)
    return pa.concat_tables(parts) if parts else split_of.COUNTED.empty_table()


def breakdown(focus: tuple[int, int], reference: tuple[int, int], wanted: Filter, by: str, environment: str | None, most: int) -> Breakdown:
    """The first ``most`` values of ``by`` by what they add to the change: seconds of waiting, then failures."""
    found = split_of.compare(*(split(window, wanted, by, environment) for window in (focus, reference)))
    seconds = [cell_series.window_seconds(window) for window in (focus, reference)]
    rows = [
        BreakdownRow(
            value=found.values[i],
            focus=figures(found.focus, i, seconds[0]),
            reference=figures(found.reference, i, seconds[1]),
            more_seconds=maybe(found.more_seconds[i]),
            more_failures=maybe(found.more_failures[i]),
        )
        for i in found.order[:most]
    ]
    return Breakdown(by=by, rows=rows, values=len(found.values), detail=say_detail(focus, environment))
