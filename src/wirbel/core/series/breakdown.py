"""Requests of two windows split by the values of an attribute, and what each value adds to the change."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from wirbel.core import arrow, sketch
from wirbel.core.errors import InvalidQuestion
from wirbel.core.series import cells as cell_series
from wirbel.core.series.cells import Totals
from wirbel.core.signals import spans

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
MOST_VALUES_HELD = 2_000  # of one table; an attribute with more is an id, and splits nothing
COLUMNS = ("duration", "outcome", "weight")
COUNTED = pa.schema(
    [
        ("value", pa.string()),  # null: the request does not carry the attribute
        ("outcome", pa.int8()),
        ("bucket", pa.int16()),
        ("rows", pa.int64()),
        ("count", pa.float64()),
        ("total", pa.float64()),
    ]
)
_OUTCOMES = len(spans.OUTCOME_NAMES)


def count(table: pa.Table, by: str) -> pa.Table:
    """Spans of ``table`` (:data:`COLUMNS` and those of the attribute ``by``) counted by value, outcome and latency bucket: see :data:`COUNTED`.

    Counts add: those of two halves are those of the whole. Raises InvalidQuestion if the attribute has too many values.
    """
    code, values = arrow.codes(arrow.values_of(table, by))
    if len(values) > MOST_VALUES_HELD:
        raise InvalidQuestion(f"{by} has more than {MOST_VALUES_HELD} values here; it names single requests and cannot split them.")
    seconds, weight = arrow.numbers(table["duration"]) / 1e9, arrow.numbers(table["weight"])
    key = ((code + 1) * _OUTCOMES + arrow.numbers(table["outcome"])) * 2**16 + sketch.bucket_of(seconds) + 2**15
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
        schema=COUNTED,
    )


@dataclass(frozen=True)
class Comparison:
    """Values of an attribute (None: not carried), what adds most to the change first: seconds of waiting, then failures.

    ``more_seconds`` (NaN where nothing is known) and ``more_failures`` of the focus, beyond what as many requests of this value had in the reference; shape (values,).
    """

    values: list[str | None]
    focus: Totals
    reference: Totals
    more_seconds: Floats
    more_failures: Floats
    order: Ints


def compare(focus: pa.Table, reference: pa.Table) -> Comparison:
    """Two windows' counts (of :func:`count`) beside each other."""
    values: list[str | None] = pa.concat_tables([focus, reference])["value"].unique().to_pylist()
    now, before = (_totals(table, values) for table in (focus, reference))
    slower = (now.mean - _usual(before.total, before.count)) * now.count
    failing = now.failed - _usual(before.failed, before.count) * now.count
    order = np.lexsort((-now.count, -np.nan_to_num(failing), -np.nan_to_num(slower)))
    return Comparison(values, now, before, slower, failing, order)


def _totals(table: pa.Table, values: list[str | None]) -> Totals:
    place = {value: index for index, value in enumerate(values)}
    code, names = arrow.codes(table["value"])
    group = np.array([*(place[name] for name in names), place.get(None, 0)], np.int64)[code]
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
