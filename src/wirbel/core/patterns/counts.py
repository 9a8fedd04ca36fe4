"""How often each pattern of log records was said in two windows. Counts add: those of two parts of the records are those of all."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow
from wirbel.core.patterns.masks import masked

COLUMNS = ["time", "service", "severity", "body", "weight", "trace_id"]
"""Of log records, that are looked at."""
COUNTED = pa.schema(
    [
        ("service", pa.string()),
        ("template", pa.string()),
        ("severity", pa.int8()),  # the highest seen
        ("before", pa.float64()),  # records stood for, in the reference
        ("after", pa.float64()),  # in the focus
        ("traced", pa.float64()),  # of those in the focus, that belong to a trace
    ]
)
Window = tuple[int, int]
"""[start, end) ns."""


@dataclass(frozen=True)
class Count:
    """Counts the patterns in a table of log records, in two windows; a table as :data:`COUNTED`."""

    reference: Window
    focus: Window

    def __call__(self, table: pa.Table, window: Window | None = None) -> pa.Table:
        time = arrow.numbers(table["time"])
        before, after = ((time >= start) & (time < end) for start, end in (self.reference, self.focus))
        used = before | after
        table, after = table.filter(pa.array(used)), after[used]
        weight = arrow.numbers(table["weight"])
        counted = {
            "service": table["service"],
            "template": masked(table["body"]),
            "severity": table["severity"].fill_null(0),
            "before": pa.array(np.where(after, 0.0, weight)),
            "after": pa.array(np.where(after, weight, 0.0)),
            "traced": pa.array(np.where(after, weight, 0.0) * pc.is_valid(table["trace_id"]).to_numpy()),
        }
        return merge([pa.table(counted)])


def merge(parts: list[pa.Table]) -> pa.Table:
    """Counts of several parts as one: one row for each service and pattern."""
    whole = pa.concat_tables([part.cast(COUNTED) for part in parts]) if parts else COUNTED.empty_table()
    found = whole.group_by(["service", "template"], use_threads=False).aggregate(
        [("severity", "max"), *((name, "sum") for name in ("before", "after", "traced"))]
    )
    return found.rename_columns(COUNTED.names).cast(COUNTED)
