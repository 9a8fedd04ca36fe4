"""Requests split by the values of an attribute: focus beside reference, what adds most to the change first."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from wirbel.core import arrow, sketch
from wirbel.core.errors import InvalidQuestion
from wirbel.core.series import cells as cell_series
from wirbel.core.signals import spans
from wirbel.explore.figures import figures, maybe
from wirbel.explore.schemas import Breakdown, BreakdownRow
from wirbel.explore.traces import COUNT_COLUMNS, Filter, Find, say_detail
from wirbel.store.models import Stream
from wirbel.store.scan import Where, scan

Floats = npt.NDArray[np.float64]
MOST_VALUES = 50  # shown
MOST_VALUES_HELD = 2_000  # of one block; an attribute with more is an id, and splits nothing
_OUTCOMES = len(spans.OUTCOME_NAMES)
_COUNTED = ("duration", "outcome", "weight")
PARTIAL = pa.schema(
    [
        ("value", pa.string()),  # null: the request does not carry the attribute
        ("outcome", pa.int8()),
        ("bucket", pa.int16()),
        ("rows", pa.int64()),
        ("count", pa.float64()),
        ("total", pa.float64()),
    ]
)


@dataclass(frozen=True)
class Split:
    """Work of a scan: requests counted by value, outcome and latency bucket (columns of :data:`PARTIAL`)."""

    wanted: Filter
    by: str

    def __call__(self, table: pa.Table, window: tuple[int, int] | None) -> pa.Table:
        find = Find(self.wanted, "newest", 0)
        rows = np.flatnonzero(find.meets(table, window, self.wanted.conditions(table)))
        kept = table.select([name for name in table.column_names if name in (*_COUNTED, *arrow.columns_of(self.by))]).take(pa.array(rows))
        code, values = arrow.codes(arrow.values_of(kept, self.by))
        if len(values) > MOST_VALUES_HELD:
            raise InvalidQuestion(f"{self.by} has more than {MOST_VALUES_HELD} values here; it names single requests and cannot split them.")
        seconds, weight = arrow.numbers(kept["duration"]) / 1e9, arrow.numbers(kept["weight"])
        bucket = sketch.bucket_of(seconds)
        key = ((code + 1) * _OUTCOMES + arrow.numbers(kept["outcome"])) * 2**16 + bucket + 2**15
        distinct, group = np.unique(key, return_inverse=True)
        head, bucket = distinct // 2**16, distinct % 2**16 - 2**15
        return pa.table(
            {
                "value": pa.array([None, *values], pa.string()).take(pa.array(head // _OUTCOMES)),
                "outcome": pa.array((head % _OUTCOMES).astype(np.int8)),
                "bucket": pa.array(bucket.astype(np.int16)),
                "rows": pa.array(np.bincount(group, minlength=len(distinct))),
                "count": pa.array(np.bincount(group, weight, len(distinct))),
                "total": pa.array(np.bincount(group, weight * seconds, len(distinct))),
            },
            schema=PARTIAL,
        )


def split(window: tuple[int, int], wanted: Filter, by: str, environment: str | None) -> pa.Table:
    """All requests of a window, counted by value, outcome and latency bucket."""
    where = Where(Stream.SPANS, *window, environment, (wanted.service,) if wanted.service else None, fresh=True)
    columns = [*COUNT_COLUMNS, *wanted.columns(), *arrow.columns_of(by)]
    parts = scan(where, columns, Split(wanted, by), small=True)
    return pa.concat_tables(parts) if parts else PARTIAL.empty_table()


def _totals(table: pa.Table, values: list[str | None]) -> cell_series.Totals:
    place = {value: index for index, value in enumerate(values)}
    code, names = arrow.codes(table["value"])
    group = np.array([*(place[name] for name in names), place.get(None, 0)])[code]
    one_each = np.arange(table.num_rows + 1, dtype=np.int32)
    cells = {
        **{name: table[name] for name in ("rows", "count", "outcome", "total")},
        "buckets": pa.ListArray.from_arrays(pa.array(one_each), table["bucket"].combine_chunks()),
        "bucket_counts": pa.ListArray.from_arrays(pa.array(one_each), table["count"].combine_chunks()),
    }
    return cell_series.totals(pa.table(cells), group, len(values), bounded=True)


def _usual(total: Floats, count: Floats) -> Floats:
    """The reference's mean of each value; a value that the reference lacks is held against the mean of all."""
    overall = total.sum() / count.sum() if count.sum() else np.nan
    return np.where(count > 0, total / np.where(count > 0, count, 1.0), overall)


def breakdown(focus: tuple[int, int], reference: tuple[int, int], wanted: Filter, by: str, environment: str | None) -> Breakdown:
    """The values of ``by`` by what they add to the change: seconds of waiting, then failures."""
    tables = [split(window, wanted, by, environment) for window in (focus, reference)]
    values: list[str | None] = pa.concat_tables(tables)["value"].unique().to_pylist()
    if not values:
        return Breakdown(by=by, rows=[], values=0, detail=say_detail(focus, environment))
    now, before = (_totals(table, values) for table in tables)
    slower = (now.mean - _usual(before.total, before.count)) * now.count
    failing = now.failed - _usual(before.failed, before.count) * now.count
    order = np.lexsort((-now.count, -np.nan_to_num(failing), -np.nan_to_num(slower)))
    seconds = [cell_series.window_seconds(window) for window in (focus, reference)]
    rows = [
        BreakdownRow(
            value=values[i],
            focus=figures(now, i, seconds[0]),
            reference=figures(before, i, seconds[1]),
            more_seconds=maybe(slower[i]),
            more_failures=maybe(failing[i]),
        )
        for i in order[:MOST_VALUES]
    ]
    return Breakdown(by=by, rows=rows, values=len(values), detail=say_detail(focus, environment))
