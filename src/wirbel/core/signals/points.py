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
        _, number = np.unique(number * (len(values) + 1) + code + 1, return_inverse=True)
    _, first = np.unique(number, return_index=True)
    return number, first


def combine(tables: list[pa.Table]) -> pa.Table:
    """Several tables as one, series by series in order of time; a sample that is there twice is kept once.

    Two samples of one series at one time are one: the data model has a single writer for a series.
    """
    whole = arrow.conform(arrow.concat(tables, POINT_SCHEMA), POINT_SCHEMA)
    if not whole.num_rows:
        return whole
    number, first = series_of(whole)
    time = arrow.numbers(whole["time"])
    # Services lie together, and within one the metrics, so that a reader of one metric skips the rest.
    described = whole.select(SERIES.names).take(pa.array(first)).append_column("number", pa.array(np.arange(len(first))))
    placed = described.sort_by([("service", "ascending"), ("metric", "ascending"), ("instance", "ascending"), ("labels", "ascending")])
    rank = np.empty(len(first), np.int64)
    rank[arrow.numbers(placed["number"])] = np.arange(len(first))
    order = np.lexsort((time, rank[number]))
    same = np.r_[False, (np.diff(number[order]) == 0) & (np.diff(time[order]) == 0)]
    return whole.take(pa.array(order[~same]))
