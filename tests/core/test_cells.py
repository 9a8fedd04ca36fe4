from __future__ import annotations

import numpy as np
import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.builders import NOW, table
from wirbel.core import cells, sketch

ROWS = st.lists(
    st.tuples(
        st.sampled_from("ab"), st.sampled_from(["x", "y"]), st.integers(0, 2), st.integers(0, 200_000), st.floats(0, 5000), st.sampled_from([1.0, 2.0, 16.0])
    ),
    min_size=1,
    max_size=60,
)


def build(rows: list) -> pa.Table:
    return table(
        *(
            {"span": n + 1, "service": s, "operation": o, "outcome": out, "start": at, "duration": ms, "weight": w}
            for n, (s, o, out, at, ms, w) in enumerate(rows)
        )
    )


def as_set(found: pa.Table) -> set:
    def freeze(row: dict) -> tuple:
        return tuple(tuple(v) if isinstance(v, list) else round(v, 6) if isinstance(v, float) else v for v in row.values())

    return {freeze(row) for row in found.to_pylist()}


@settings(max_examples=60, deadline=None)
@given(ROWS, st.data())
def test_cells_of_parts_merge_to_the_cells_of_the_whole(rows: list, data: st.DataObject) -> None:
    whole = cells.derive(build(rows))
    mark = data.draw(st.lists(st.booleans(), min_size=len(rows), max_size=len(rows)))
    spans_table = build(rows)
    parts = [cells.derive(spans_table.filter(pa.array([m == side for m in mark]))) for side in (True, False)]
    assert as_set(cells.merge(parts)) == as_set(whole)
    assert as_set(cells.merge([whole])) == as_set(whole)


@settings(max_examples=60, deadline=None)
@given(ROWS)
def test_cells_count_what_was_sent(rows: list) -> None:
    found = cells.derive(build(rows)).to_pylist()
    assert sum(cell["rows"] for cell in found) == len(rows)
    assert abs(sum(cell["count"] for cell in found) - sum(row[5] for row in rows)) < 1e-9
    for cell in found:
        mine = [
            r
            for r in rows
            if r[0] == cell["service"]
            and r[1] == cell["operation"]
            and r[2] == cell["outcome"]
            and (NOW + r[3] * 10**6) // cells.MINUTE_NS * cells.MINUTE_NS == cell["minute"]
        ]
        assert cell["rows"] == len(mine)
        seconds = np.array([round(r[4] * 10**6) / 1e9 for r in mine])
        assert abs(cell["total"] - float(sum(r[5] * s for r, s in zip(mine, seconds, strict=True)))) < 1e-6
        assert set(cell["buckets"]) == set(sketch.bucket_of(seconds).tolist())
