"""What a metric sample is to Wirbel: one row of an Arrow table with these columns.

Sums and histograms are kept as sent: a cumulative one says what was counted since its ``start``. The
labels of a series are JSON text with sorted keys, so that a series is told by equality.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from wirbel.core import arrow

GAUGE, SUM, HISTOGRAM, EXPONENTIAL, SUMMARY = 0, 1, 2, 3, 4
KIND_NAMES = ("gauge", "sum", "histogram", "exponential histogram", "summary")
NO_TEMPORALITY, DELTA, CUMULATIVE = 0, 1, 2

QUANTILE = pa.struct([("share", pa.float64()), ("value", pa.float64())])
EXEMPLAR = pa.struct([("at", pa.int64()), ("value", pa.float64()), ("trace_id", pa.binary(16)), ("span_id", pa.binary(8))])

SERIES = pa.schema(
    [
        ("environment", pa.string()),
        ("service", pa.string()),
        ("version", pa.string()),
        ("instance", pa.string()),
        ("host", pa.string()),
        ("resource", pa.string()),  # other resource attributes, JSON
        ("metric", pa.string()),
        ("unit", pa.string()),
        ("kind", pa.int8()),
        ("temporality", pa.int8()),
        ("monotonic", pa.bool_()),
        ("labels", pa.string()),  # attributes of the data point, JSON
    ]
)
"""What tells one series from another."""

IDENTITY = [*SERIES.names, "time"]
"""What tells one sample from another: the data model has a single writer for a series."""

POINT_SCHEMA = pa.unify_schemas(
    [
        SERIES,
        pa.schema(
            [
                ("time", pa.int64()),  # ns since 1970, UTC
                ("start", pa.int64()),  # of a sum or histogram; null for gauges
                ("value", pa.float64()),  # of gauges and sums; null: the sender says there is none now
                ("count", pa.int64()),  # of histograms and summaries
                ("total", pa.float64()),  # the sum of the values counted
                ("low", pa.float64()),
                ("high", pa.float64()),
                ("bounds", pa.list_(pa.float64())),  # histogram: inclusive upper bounds, without the last, open one
                ("buckets", pa.list_(pa.int64())),  # counts; exponential: of the indices offset, offset + 1 …
                ("scale", pa.int8()),
                ("offset", pa.int32()),
                ("zeros", pa.int64()),
                ("negative_offset", pa.int32()),
                ("negative_buckets", pa.list_(pa.int64())),
                ("quantiles", pa.list_(QUANTILE)),
                ("exemplars", pa.list_(EXEMPLAR)),
                ("scope", pa.string()),
            ]
        ),
    ]
)


def series_of(table: pa.Table) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]]:
    """Which series each row belongs to: numbers 0 … n−1 (shape (rows,)), and a row of each series (shape (n,))."""
    number = np.zeros(table.num_rows, np.int64)
    for name in SERIES.names:
        code, values = arrow.codes(table[name])
        if len(values) + bool(len(code) and code.min() < 0) > 1:  # most columns say the same of all rows
            _, number = np.unique(number * (len(values) + 1) + code + 1, return_inverse=True)
    _, first = np.unique(number, return_index=True)
    return number, first


def combine(tables: list[pa.Table]) -> pa.Table:
    """Several tables as one, series by series in order of time; a sample that is there twice is kept once.

    Two samples of one series at one time are one: the data model has a single writer for a series.
    """
    whole, number = _ordered(tables)
    if not whole.num_rows:
        return whole
    same = np.r_[False, (np.diff(number) == 0) & (np.diff(arrow.numbers(whole["time"])) == 0)]
    return whole.filter(pa.array(~same)) if same.any() else whole


def not_in(table: pa.Table, stored: list[pa.Table]) -> pa.Table:
    """The samples that ``stored`` (tables with :data:`IDENTITY` at least) do not hold: what is sent again, in whatever batches, counts once."""
    if not stored or not table.num_rows:
        return table
    whole = pa.concat_tables([part.select(IDENTITY).unify_dictionaries() for part in (table, *stored)], promote_options="permissive")
    number, _ = series_of(whole)
    times, when = np.unique(arrow.numbers(whole["time"]), return_inverse=True)
    sample = number * len(times) + when
    again = np.isin(sample[: table.num_rows], sample[table.num_rows :])
    return table.filter(pa.array(~again)) if again.any() else table


def _ordered(tables: list[pa.Table]) -> tuple[pa.Table, npt.NDArray[np.int64]]:
    """All rows, series by series in order of time, and the number of each row's series."""
    whole = arrow.conform(arrow.concat(tables, POINT_SCHEMA), POINT_SCHEMA)
    if not whole.num_rows:
        return whole, np.zeros(0, np.int64)
    number, first = series_of(whole)
    # Services lie together, and within one the metrics, so that a reader of one metric skips the rest.
    described = whole.select(SERIES.names).take(pa.array(first)).append_column("number", pa.array(np.arange(len(first))))
    placed = described.sort_by([("service", "ascending"), ("metric", "ascending"), ("instance", "ascending"), ("labels", "ascending")])
    rank = np.empty(len(first), np.int64)
    rank[arrow.numbers(placed["number"])] = np.arange(len(first))
    order = np.lexsort((arrow.numbers(whole["time"]), rank[number]))
    return arrow.in_order(whole, order), number[order]


def summarise(table: pa.Table, step_ns: int) -> pa.Table:
    """Samples of longer stretches, at most one a stretch and series but for restarts; done again, nothing changes.

    Gauges become their mean (``value``), with ``count``, ``total``, ``low`` and ``high``. Deltas add up. Of cumulative
    sums and histograms the last sample of a stretch is kept, and the last one before each restart:
    any increase over whole stretches is then what it was. The data model allows each
    ("Temporal alignment and re-aggregation").
    """
    return merge_summaries([combine([table])], step_ns)


def merge_summaries(tables: list[pa.Table], step_ns: int) -> pa.Table:
    """Summaries of different samples as one. Here equal times are different parts of a stretch: they add up."""
    whole, number = _ordered(tables)
    if not whole.num_rows:
        return whole
    kind, temporality = arrow.numbers(whole["kind"]), arrow.numbers(whole["temporality"])
    time = arrow.numbers(whole["time"])
    stretch = time // step_ns
    ends = np.r_[(number[1:] != number[:-1]) | (stretch[1:] != stretch[:-1]), True]
    gauge = kind == GAUGE
    adds = (temporality == DELTA) & (kind == SUM)
    # Delta histograms are kept as they are: bucket by bucket they are added when they are read.
    kept = (ends & ~gauge & ~adds) | before_restart(whole, number) | (temporality == DELTA) & (kind != SUM)
    parts = [whole.filter(pa.array(kept & ~gauge & ~adds))]
    for rows, merge in ((gauge, _mean), (adds, _total)):
        if rows.any():
            parts.append(merge(whole.take(pa.array(np.flatnonzero(rows))), number[rows], stretch[rows], step_ns))
    return combine(parts)


def before_restart(whole: pa.Table, number: npt.NDArray[np.int64]) -> npt.NDArray[np.bool_]:
    """Rows of cumulative samples whose next one of the same series (numbers as of :func:`series_of`) counts from a later start, or counts less."""
    start = whole["start"].fill_null(0).to_numpy()
    amount = np.where(arrow.numbers(whole["kind"]) == SUM, whole["value"].fill_null(0.0).to_numpy(), whole["count"].fill_null(0).to_numpy().astype(np.float64))
    monotonic = whole["monotonic"].fill_null(False).to_numpy() | (arrow.numbers(whole["kind"]) != SUM)
    follows = np.r_[number[1:] == number[:-1], False]
    restarts = np.r_[(start[1:] != start[:-1]) | ((amount[1:] < amount[:-1]) & monotonic[1:]), False]
    counts_on = np.isin(arrow.numbers(whole["temporality"]), (CUMULATIVE, NO_TEMPORALITY))  # summaries have none, and count on
    return (follows & restarts & counts_on)[: whole.num_rows]


def _runs(number: npt.NDArray[np.int64], stretch: npt.NDArray[np.int64]) -> npt.NDArray[np.int64]:
    """First rows of runs of one series and stretch."""
    return np.flatnonzero(np.r_[True, (number[1:] != number[:-1]) | (stretch[1:] != stretch[:-1])])


def _replaced(rows: pa.Table, columns: dict[str, pa.Array]) -> pa.Table:
    for name, values in columns.items():
        rows = rows.set_column(rows.schema.get_field_index(name), rows.schema.field(name), values)
    return rows


def _mean(rows: pa.Table, number: npt.NDArray[np.int64], stretch: npt.NDArray[np.int64], step_ns: int) -> pa.Table:
    first = _runs(number, stretch)
    value = rows["value"].to_numpy()
    known = np.isfinite(value)
    count = np.where(known, rows["count"].fill_null(1).to_numpy(), 0)
    total = np.where(known, np.where(rows["total"].is_valid().to_numpy(), rows["total"].fill_null(0.0).to_numpy(), value), 0.0)
    low = np.where(known, np.where(rows["low"].is_valid().to_numpy(), rows["low"].fill_null(0.0).to_numpy(), value), np.inf)
    high = np.where(known, np.where(rows["high"].is_valid().to_numpy(), rows["high"].fill_null(0.0).to_numpy(), value), -np.inf)
    counts, totals = np.add.reduceat(count, first), np.add.reduceat(total, first)
    empty = counts == 0
    columns = {
        "time": pa.array(stretch[first] * step_ns),
        "value": pa.array(totals / np.maximum(counts, 1), mask=empty),
        "count": pa.array(counts.astype(np.int64), mask=empty),
        "total": pa.array(totals, mask=empty),
        "low": pa.array(np.minimum.reduceat(low, first), mask=empty),
        "high": pa.array(np.maximum.reduceat(high, first), mask=empty),
    }
    return _replaced(rows.take(pa.array(first)), columns)


def _total(rows: pa.Table, number: npt.NDArray[np.int64], stretch: npt.NDArray[np.int64], step_ns: int) -> pa.Table:
    first = _runs(number, stretch)
    value = rows["value"].fill_null(0.0).to_numpy()
    start = np.where(rows["start"].is_valid().to_numpy(), rows["start"].fill_null(0).to_numpy(), arrow.numbers(rows["time"]))
    columns = {
        "time": pa.array(stretch[first] * step_ns),
        "start": pa.array(np.minimum(np.minimum.reduceat(start, first), stretch[first] * step_ns)),
        "value": pa.array(np.add.reduceat(value, first)),
    }
    return _replaced(rows.take(pa.array(first)), columns)


def increases(table: pa.Table, column: str = "value") -> npt.NDArray[np.float64]:
    """What each row adds to its series since the row before it: the value of a delta, the step of a cumulative one.

    ``column`` is ``value`` for sums, ``count`` or ``total`` for histograms and summaries. After a restart (another
    ``start``, or a smaller count) the count begins at zero; the first row of a cumulative series
    adds nothing, because it may have counted for long. Shape (rows,); ``table`` in the order of :func:`combine`.

    Source: OpenTelemetry metrics data model, "Resets and gaps".
    """
    number, _ = series_of(table)
    value = table[column].fill_null(0).to_numpy().astype(np.float64)
    same = np.r_[False, number[1:] == number[:-1]][: len(value)]
    restarted = np.r_[False, before_restart(table, number)[:-1]]
    cumulative = np.where(same, np.where(restarted, value, np.diff(value, prepend=0.0)), 0.0)
    return np.where(arrow.numbers(table["temporality"]) == DELTA, value, cumulative)
