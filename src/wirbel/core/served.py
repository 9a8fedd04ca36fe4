"""What services served: cells of work that begins in a service, added up to one row a service and minute.

Most questions want no more of cells than this, and it is far fewer rows. It adds like cells do.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow, sketch
from wirbel.core.series import cells as cell_series
from wirbel.core.series.percentiles import HEADLINE, SHARES
from wirbel.core.signals import spans

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]

KEYS = ("minute", "environment", "service")
SERVED_SCHEMA = pa.schema(
    [
        ("minute", pa.int64()),  # start of the minute or longer stretch, ns since 1970
        ("environment", arrow.ENCODED),
        ("service", arrow.ENCODED),
        ("answers", pa.bool_()),  # somebody waits for it: not only messages and jobs
        ("rows", pa.int64()),  # requests seen: the sample size
        ("count", pa.float64()),  # requests stood for: Σ weight
        ("client_errors", pa.float64()),  # of those
        ("failed", pa.float64()),
        ("headline", pa.int16()),  # the bucket that the headline percentile lies in
        ("total", pa.float64()),  # Σ weight × duration, s
        ("buckets", pa.list_(pa.int16())),
        ("bucket_counts", pa.list_(pa.float64())),
    ]
)
SKETCH = ("buckets", "bucket_counts")
SUMS = ("rows", "count", "client_errors", "failed")
REST = ("total", *SKETCH)  # which are six times as many bytes as all the others together
OF_HEADLINE = ("rows", "count", "headline")


def of_cells(cells: pa.Table) -> pa.Table:
    """What services served by a table of cells, in the order of environment, service and minute: see :data:`SERVED_SCHEMA`."""
    mine = cells.filter(cells["entry"])
    outcome, count = arrow.numbers(mine["outcome"]), arrow.numbers(mine["count"])
    columns = {name: mine[name] for name in (*KEYS, "rows", "count", "total", *SKETCH)}
    columns |= {
        "answers": pc.equal(mine["kind"], spans.SERVER),
        "client_errors": pa.array(np.where(outcome == spans.CLIENT_ERROR, count, 0.0)),
        "failed": pa.array(np.where(outcome == spans.ERROR, count, 0.0)),
    }
    return _added_up(pa.table(columns))


def repeated(table: pa.Table) -> list[str]:
    """Services that have several rows of a minute, in one environment or in several."""
    service, names = arrow.codes(table["service"])
    minutes, minute = np.unique(arrow.numbers(table["minute"]), return_inverse=True)
    several = np.bincount(service * len(minutes) + minute, minlength=len(names) * len(minutes)) > 1
    return [names[place] for place in np.flatnonzero(several.reshape(len(names), len(minutes)).any(axis=1))]


def merge(tables: list[pa.Table]) -> pa.Table:
    """One row for each environment, service and minute: sums added, sketches merged."""
    kept = [table for table in tables if table.num_rows]
    return _added_up(arrow.widest(kept)) if kept else SERVED_SCHEMA.empty_table()


def together(table: pa.Table) -> pa.Table:
    """What all services of a table served as if they were one without a name, minute by minute."""
    return _added_up(table.set_column(table.schema.get_field_index("service"), "service", pa.repeat("", table.num_rows)))


def _added_up(table: pa.Table) -> pa.Table:
    if not table.num_rows:
        return SERVED_SCHEMA.empty_table()
    minutes, minute = np.unique(arrow.numbers(table["minute"]), return_inverse=True)
    (environment, environments), (service, services) = (arrow.codes(table[name]) for name in ("environment", "service"))
    keys, group = np.unique((environment * len(services) + service) * len(minutes) + minute, return_inverse=True)
    groups = len(keys)

    def added(name: str) -> Floats:
        return np.bincount(group, weights=arrow.numbers(table[name]), minlength=groups).astype(float)

    owner, buckets, counts = sketch.filled(*cell_series.exploded(table, group), groups)
    offsets = pa.array(np.searchsorted(owner, np.arange(groups + 1)), pa.int32())
    headline = sketch.bucket_of(sketch.quantiles(owner, buckets, counts, groups, SHARES[HEADLINE])[:, 0])
    pair, minute = np.divmod(keys, len(minutes))
    environment, service = np.divmod(pair, len(services))
    return pa.table(
        {
            "minute": minutes[minute],
            "environment": pa.DictionaryArray.from_arrays(pa.array(environment, pa.int32()), pa.array(environments, pa.string())),
            "service": pa.DictionaryArray.from_arrays(pa.array(service, pa.int32()), pa.array(services, pa.string())),
            "answers": added("answers") > 0,
            **{name: added(name) for name in SUMS},
            "headline": headline,
            "total": added("total"),
            "buckets": pa.ListArray.from_arrays(offsets, pa.array(buckets, pa.int16())),
            "bucket_counts": pa.ListArray.from_arrays(offsets, pa.array(counts)),
        }
    ).cast(SERVED_SCHEMA)
