"""The same drill with its reference at another time: what was known of the hour before is known of an hour days before, or after, and of nothing between.

Whatever the answer rests on is the same, so the answer should be.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pyarrow as pa

from wirbel.core import arrow
from wirbel.core.diagnosis.case import Records
from wirbel.core.diagnosis.choose import ONSET_BEFORE_NS
from wirbel.core.diagnosis.model import Window
from wirbel.core.signals import points
from wirbel.core.topology.parents import trace_keys
from wirbel.demo.drill.prepared import Prepared

MINUTE_NS = 60 * 10**9
LEAST_NS = 10 * MINUTE_NS  # of a reference


def moved(found: Prepared, by_ns: int) -> Prepared | None:
    """The reference so much earlier (ns, whole minutes; later where negative); None where too little of it lies before the quarter hour that is read with the focus."""
    question, records = found.question, found.records
    if question is None or records is None:
        return None
    cut = min(question.reference.end, question.focus.start - ONSET_BEFORE_NS) // MINUTE_NS * MINUTE_NS
    if cut - question.reference.start < LEAST_NS:
        return None
    first = question.reference.start
    asked = replace(question, reference=Window(first - by_ns, cut - by_ns))
    return replace(found, question=asked, records=_records(records, first, cut, by_ns))


def _records(records: Records, first: int, cut: int, by_ns: int) -> Records:
    return replace(
        records,
        spans=_spans(records.spans, first, cut, by_ns),
        cells=None if records.cells is None else _shifted(records.cells, "minute", first - first % MINUTE_NS, cut, by_ns),
        points=points.combine([_shifted(records.points, "time", first, cut, by_ns)]),
    )


def _spans(table: pa.Table, first: int, cut: int, by_ns: int) -> pa.Table:
    """Whole traces go with their first span."""
    if not table.num_rows:
        return table
    trace = np.unique(trace_keys(arrow.ids(table["trace_id"], 16)), return_inverse=True)[1].reshape(-1)
    start = arrow.numbers(table["start"])
    begins = np.full(int(trace.max()) + 1, np.iinfo(np.int64).max)
    np.minimum.at(begins, trace, start)
    begins = begins[trace]
    table = table.set_column(table.schema.get_field_index("start"), "start", pa.array(np.where(begins < cut, start - by_ns, start)))
    return table.filter(pa.array(begins >= first))


def _shifted(table: pa.Table, name: str, first: int, cut: int, by_ns: int) -> pa.Table:
    time = arrow.numbers(table[name])
    table = table.set_column(table.schema.get_field_index(name), name, pa.array(np.where(time < cut, time - by_ns, time)))
    return table.filter(pa.array(time >= first))
