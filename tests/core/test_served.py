"""What services served, in brief: the same as their cells say, however they were cut."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.builders import NOW, table
from tests.core.test_cells import ROWS, as_set, build
from wirbel.core import arrow, cells, served
from wirbel.core.series import cells as cell_series
from wirbel.core.series import served as served_series
from wirbel.core.series.grid import Grid
from wirbel.core.topology.graph import EntityId

START = NOW - NOW % cells.MINUTE_NS
GRID = Grid(START, START + 5 * cells.MINUTE_NS)
BOTH = [EntityId("service", name) for name in "ab"]


def of(found: pa.Table) -> np.ndarray:
    return arrow.place_in(found["service"], ["a", "b"])


@settings(max_examples=60, deadline=None)
@given(ROWS, st.data())
def test_it_says_what_cells_say(rows: list, data: st.DataObject) -> None:
    whole = cells.derive(build(rows))
    brief = served.of_cells(whole)
    mine = cell_series.entries(whole)
    expected = cell_series.by_point(mine, GRID, BOTH, of(mine)).totals
    found = cell_series.by_point(brief, GRID, BOTH, of(brief)).totals
    for name in ("sample_size", "count", "client_errors", "failed", "total", "quantiles"):
        np.testing.assert_allclose(getattr(found, name), getattr(expected, name), rtol=1e-9, err_msg=name)
    latency, rate = served_series.over_time(brief, GRID, BOTH, of(brief))
    np.testing.assert_array_equal(latency.values, cell_series.by_point(mine, GRID, BOTH, of(mine)).latency().values)
    np.testing.assert_allclose(rate.values, cell_series.by_point(mine, GRID, BOTH, of(mine)).rate().values)
    assert not served.repeated(brief)
    # The same from two halves, as blocks that were packed one after the other have them.
    mark = pa.array(data.draw(st.lists(st.booleans(), min_size=whole.num_rows, max_size=whole.num_rows)))
    halves = [served.of_cells(whole.filter(mark)), served.of_cells(whole.filter(pa.compute.invert(mark)))]
    assert as_set(served.merge(halves)) == as_set(served.merge([brief]))
    cut = arrow.widest(halves).unify_dictionaries()
    np.testing.assert_array_equal(served_series.over_time(cut, GRID, BOTH, of(cut))[0].values, latency.values)


def test_a_percentile_of_several_rows_is_not_that_of_one_of_them() -> None:
    """Of 100 quick and 100 slow requests, that came in two parts, the 95th of a hundred is slow: no part's p95 would do."""
    parts = [served.of_cells(cells.derive(build([("a", "x", 0, 1000, ms, 1.0)] * 100))) for ms in (10.0, 1000.0)]
    cut = arrow.widest(parts).unify_dictionaries()
    assert served.repeated(cut) == ["a"]
    assert served_series.over_time(cut, GRID, BOTH, of(cut))[0].values[0, 0] == pytest.approx(1.0, rel=0.02)
    assert np.isnan(served_series.over_time(cut, GRID, BOTH, np.full(2, -1))[0].values).all()


def test_nobody_asked_is_known_of_who_was_seen_before() -> None:
    nothing = served.SERVED_SCHEMA.empty_table()
    assert not served.repeated(nothing)
    _, rate = served_series.over_time(nothing, GRID, BOTH, of(nothing), np.array([True, False]))
    assert (rate.values[0] == 0).all()
    assert np.isnan(rate.values[1]).all()


def test_only_work_that_begins_in_a_service_counts_and_whether_somebody_waits_for_it_is_known() -> None:
    made = cells.derive(table({"span": 1, "service": "a", "kind": 3, "peer": "b", "peer_kind": "service", "parent": 9}, {"span": 2, "service": "b", "kind": 5}))
    found = served.of_cells(made).to_pylist()
    assert [(row["service"], row["answers"]) for row in found] == [("b", False)]


@settings(max_examples=60, deadline=None)
@given(
    st.lists(st.one_of(st.floats(-1e300, 1e300), st.integers(-(2**40), 2**40).map(float), st.just(0.1)), max_size=8),
    st.lists(st.integers(-(2**62), 2**62), max_size=8),
)
def test_narrowing_changes_no_number(floats: list[float], integers: list[int]) -> None:
    wide = pa.table({"f": [floats], "i": [integers]}, pa.schema({"f": pa.list_(pa.float64()), "i": pa.list_(pa.int64())}))
    narrow = arrow.narrowed(wide)
    assert narrow.to_pylist() == wide.to_pylist()
    assert arrow.widest([narrow, wide]).to_pylist() == [*wide.to_pylist()] * 2


def test_a_small_number_takes_half() -> None:
    assert arrow.narrowed(pa.table({"f": [1.0, 2.5], "i": [1, 2]})).schema.types == [pa.float32(), pa.int32()]


def test_tables_of_one_kind_are_put_together_whatever_the_order_of_their_columns() -> None:
    """Where nothing was found an empty table stands, in an order of its own."""
    some = pa.table({"minute": pa.array([7], pa.int32()), "service": ["a"]})
    none = pa.schema([("service", pa.string()), ("minute", pa.int64())]).empty_table()
    for tables, names in (([some, none], ["minute", "service"]), ([none, some], ["service", "minute"])):
        found = arrow.widest(tables)
        assert (found.column_names, found.to_pylist()) == (names, [{"minute": 7, "service": "a"}])
        assert found.schema.field("minute").type == pa.int64()
