"""Cells: one minute of one service/operation/kind/outcome/version/instance, with its latency sketch.

Cells add: deriving them from two halves of the spans and merging gives the same as from all.
"""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow, sketch
from wirbel.core.signals import spans

MINUTE_NS = 60 * 10**9

KEYS = pa.schema(
    [
        ("minute", pa.int64()),  # start of the minute, ns since 1970
        ("environment", pa.string()),
        ("service", pa.string()),
        ("version", pa.string()),
        ("instance", pa.string()),
        ("host", pa.string()),
        ("operation", pa.string()),
        ("kind", pa.int8()),
        ("entry", pa.bool_()),  # work of the service begins here
        ("outcome", pa.int8()),
        ("status_code", pa.int16()),
        ("peer", pa.string()),
        ("peer_kind", pa.string()),
    ]
)
SUMS = pa.schema(
    [
        ("rows", pa.int64()),  # spans seen: the sample size
        ("count", pa.float64()),  # spans stood for: Σ weight
        ("total", pa.float64()),  # Σ weight × duration, s
        ("lowest", pa.float64()),  # s
        ("highest", pa.float64()),  # s
        ("buckets", pa.list_(pa.int16())),
        ("bucket_counts", pa.list_(pa.float64())),
    ]
)
CELL_SCHEMA = pa.unify_schemas([KEYS, SUMS])


def derive(table: pa.Table, step_ns: int = MINUTE_NS) -> pa.Table:
    """Cells of a table of spans; ``minute`` is the start of a stretch of ``step_ns``."""
    if not table.num_rows:
        return CELL_SCHEMA.empty_table()
    start, duration = arrow.numbers(table["start"]), arrow.numbers(table["duration"])
    weight, seconds = arrow.numbers(table["weight"]), duration / 1e9
    columns: dict[str, pa.Array | pa.ChunkedArray] = {name: arrow.decoded(table[name]) for name in KEYS.names if name in table.column_names}
    columns["minute"] = pa.array(start - start % step_ns)
    columns["entry"] = pa.array(spans.is_entry(table))
    columns |= {
        "bucket": pa.array(sketch.bucket_of(seconds).astype(np.int16)),
        "rows": pa.array(np.ones(len(start), np.int64)),
        "count": pa.array(weight),
        "total": pa.array(weight * seconds),
        "lowest": pa.array(seconds),
        "highest": pa.array(seconds),
    }
    return added_up(pa.table(columns))


def merge(tables: list[pa.Table]) -> pa.Table:
    """One cell per key, sums added and sketches merged."""
    whole = pa.concat_tables(tables) if tables else CELL_SCHEMA.empty_table()
    if not whole.num_rows:
        return CELL_SCHEMA.empty_table()
    buckets = pc.list_flatten(whole["buckets"])
    owner = pc.list_parent_indices(whole["buckets"].combine_chunks())
    exploded = whole.select(KEYS.names).take(owner)
    # A cell's sums ride on its first bucket; the others add nothing.
    positions = owner.to_numpy(zero_copy_only=False)
    first = np.r_[True, np.diff(positions) != 0]
    share = pc.list_flatten(whole["bucket_counts"])

    def on_first(name: str, otherwise: float) -> pa.Array:
        return pa.array(np.where(first, arrow.numbers(whole[name])[positions], otherwise))

    exploded = exploded.append_column("bucket", buckets).append_column("count", share)
    exploded = exploded.append_column("rows", on_first("rows", 0))
    exploded = exploded.append_column("total", on_first("total", 0.0))
    exploded = exploded.append_column("lowest", on_first("lowest", np.inf))
    exploded = exploded.append_column("highest", on_first("highest", -np.inf))
    return added_up(exploded)


def summarise(table: pa.Table, step_ns: int) -> pa.Table:
    """Cells of longer stretches: ``minute`` is the start of the stretch. Counts, sums and sketches stay what they were."""
    minute = arrow.numbers(table["minute"])
    longer = pa.array(minute - minute % step_ns)
    return merge([table.set_column(table.schema.get_field_index("minute"), "minute", longer)])


def added_up(exploded: pa.Table) -> pa.Table:
    """Rows of (key, bucket, count and other sums) to cells, service by service: so that few parts of a long table hold one. Two groupings: by bucket, then by cell.

    Grouping keeps the order but of one row in some thousands, so what was sorted for the buckets is sorted once more.
    """
    keys = KEYS.names
    sums = [("count", "sum"), ("rows", "sum"), ("total", "sum"), ("lowest", "min"), ("highest", "max")]
    by_bucket = exploded.group_by([*keys, "bucket"], use_threads=False).aggregate(sums)
    by_bucket = by_bucket.rename_columns([*keys, "bucket", "count", "rows", "total", "lowest", "highest"])
    by_bucket = by_bucket.sort_by([("service", "ascending"), ("minute", "ascending"), ("bucket", "ascending")])
    cells = by_bucket.group_by(keys, use_threads=False).aggregate([*sums, ("bucket", "list"), ("count", "list")])
    renamed = [*keys, "count", "rows", "total", "lowest", "highest", "buckets", "bucket_counts"]
    return cells.rename_columns(renamed).select(CELL_SCHEMA.names).cast(CELL_SCHEMA).sort_by([("service", "ascending"), ("minute", "ascending")])
