"""What is not known is not zero, whichever signal a series is made of."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pytest

from tests.builders import NOW, table
from wirbel.core import arrow, cells
from wirbel.core.expected.band import SURPRISED, expected_band
from wirbel.core.series import cells as cell_series
from wirbel.core.series import events, logs
from wirbel.core.series.cells import OverTime
from wirbel.core.series.grid import Grid, fewer
from wirbel.core.series.series import Series
from wirbel.core.signals import spans
from wirbel.core.topology.graph import EntityId

MINUTE_NS = 60 * 10**9
START = NOW - NOW % MINUTE_NS
SHOP = EntityId("service", "shop")


def over_ten_minutes() -> OverTime:
    """Nothing for three minutes, then requests in minutes 3 and 7, of which one in ten fails."""
    rows = [
        {"trace": n, "span": n, "start": (minute * 60 + n % 10) * 1000.0, "duration": 5 + n, "outcome": spans.ERROR if n % 10 == 0 else spans.OK}
        for minute in (3, 7)
        for n in range(minute * 100, minute * 100 + 30)
    ]
    return cell_series.by_point(cell_series.entries(cells.derive(table(*rows))), Grid(START, START + 10 * MINUTE_NS), [SHOP])


def test_rates_are_zero_between_requests_and_unknown_before_the_first() -> None:
    rate = over_ten_minutes().rate()
    assert np.isnan(rate.values[0, :3]).all()
    assert rate.values[0, 3:].tolist() == pytest.approx([0.5, 0, 0, 0, 0.5, 0, 0])
    assert rate.known[0].tolist() == [False] * 3 + [True] * 7
    assert (rate.sample_size[0, 4:7] > 0).all()


def test_silence_is_a_surprise() -> None:
    """Fifty minutes of a request a second, then none."""
    rows = [{"trace": n + 1, "span": n + 1, "start": n * 1000.0, "duration": 5} for n in range(3000)]
    grid = Grid(START, START + 60 * MINUTE_NS)
    found = cell_series.by_point(cell_series.entries(cells.derive(table(*rows))), grid, [SHOP])
    band = expected_band(found.rate())
    assert (band.surprise[0, 55:] > SURPRISED).all()
    assert (band.surprise[0, 25:50] < SURPRISED).all()
    assert (expected_band(found.latency()).surprise[0, 55:] == 0).all()  # of nothing there is no latency


def test_latencies_and_shares_are_unknown_where_nothing_was_asked_for() -> None:
    found = over_ten_minutes()
    for series in (found.latency("p50"), found.failed_share()):
        assert np.flatnonzero(series.known[0]).tolist() == [3, 7]
    assert found.failed_share().values[0, 3] == pytest.approx(0.1)


def test_rates_of_outcomes_add_up_to_the_rate() -> None:
    found = over_ten_minutes()
    parts = [found.rate(outcome).values for outcome in spans.OUTCOME_NAMES]
    assert np.nansum(parts, axis=0)[0].tolist() == pytest.approx(np.nan_to_num(found.rate().values[0]).tolist())


def test_means_of_windows_leave_out_what_is_unknown() -> None:
    rate = over_ten_minutes().rate()
    assert rate.mean((START, START + 10 * MINUTE_NS)).tolist() == pytest.approx([1 / 7])
    assert np.isnan(rate.mean((START, START + 3 * MINUTE_NS))).all()


def test_shapes_must_agree() -> None:
    with pytest.raises(ValueError, match="is the shape"):
        Series([SHOP], "p95", "s", "quantile", Grid(START, START + 3 * MINUTE_NS), np.zeros((1, 4)), np.ones((1, 4)))


def test_events_are_counted_and_averaged_by_minute() -> None:
    times = START + np.array([65, 70, 200, 700]) * 10**9  # the last one lies beyond the grid
    weight, grid = np.array([1.0, 3.0, 2.0, 9.0]), Grid(START, START + 5 * MINUTE_NS)
    count = events.counted(SHOP, times, weight, grid)
    assert np.isnan(count.values[0, 0])
    assert count.values[0, 1:].tolist() == [4, 0, 2, 0]
    mean = events.mean(SHOP, "duration", "s", times, np.array([1.0, 2.0, 5.0, 9.0]), weight, grid)
    assert mean.values[0, [1, 3]].tolist() == pytest.approx([1.75, 5.0])
    assert mean.known[0].tolist() == [False, True, False, True, False]


def test_log_records_are_counted_by_how_serious_they_are_and_counts_add() -> None:
    severities = [17, 24, 13, 16, 9, 0, None, 12]  # None: the sender did not say
    records = pa.table(
        {
            "time": pa.array([START + (60 + n % 2 * 120) * 10**9 for n in range(len(severities))]),
            "severity": pa.array(severities, pa.int8()),
            "weight": pa.array([1.0] * 7 + [10.0]),
        }
    )
    grid = Grid(START, START + 5 * MINUTE_NS)
    whole = logs.rates(logs.count(records, grid.step_ns), grid, SHOP)
    halves = logs.rates(pa.concat_tables([logs.count(records.slice(0, 3), grid.step_ns), logs.count(records.slice(3), grid.step_ns)]), grid, SHOP)
    counts = {series.name: (series.values[0] * 60).round(6).tolist() for series in whole}
    assert [values[0] for values in counts.values()] == pytest.approx([np.nan] * 3, nan_ok=True)  # nothing had been sent yet
    assert {name: values[1:] for name, values in counts.items()} == {"error": [1, 0, 1, 0], "warning": [1, 0, 1, 0], "lower": [2, 0, 11, 0]}
    for one, other in zip(whole, halves, strict=True):
        np.testing.assert_array_equal(one.values, other.values)


def test_fewer_points_are_lower_medians_up_to_the_last() -> None:
    assert fewer(np.array([9.0, 1, 5, 3, np.nan, np.nan, np.nan, 7, 8, 6]), 3).tolist() == pytest.approx([3, np.nan, 7], nan_ok=True)
    assert fewer(np.arange(4.0), 1).tolist() == [0, 1, 2, 3]
    assert fewer(np.array([[9.0, 1, 2], [9, np.nan, 4]]), 2).tolist() == [[1], [4]]


def test_operations_shares_of_a_rise_add_up_to_one() -> None:
    rows = [
        {"trace": n, "span": n, "operation": ("GET /a", "GET /b", "GET /c")[n % 3], "start": n * 1000.0, "duration": 10 + (n % 3) * (30 if n > 60 else 5)}
        for n in range(1, 121)
    ]
    made = cell_series.entries(cells.derive(table(*rows)))
    sides = [cell_series.in_window(made, (NOW + low * 10**9, NOW + high * 10**9)) for low, high in ((60, 200), (-60, 60))]
    groups = [arrow.codes(side["operation"]) for side in sides]
    names = sorted(groups[0][1])
    found = [cell_series.totals(side, np.array([names.index(n) for n in of])[code], 3) for side, (code, of) in zip(sides, groups, strict=True)]
    whole = [cell_series.totals(side, np.zeros(side.num_rows, np.int64), 1) for side in sides]
    shares = cell_series.shares_of_rise(*found, *whole)
    assert shares.sum() == pytest.approx(1.0)
    assert np.isnan(cell_series.shares_of_rise(found[1], found[0], whole[1], whole[0])).all()  # it fell


def test_a_pause_is_where_none_came_though_many_were_to_be_expected() -> None:
    counts = np.random.default_rng(2).poisson(6.0, 90).astype(float)
    assert not events.paused(counts).any()
    counts[30:50] = 0
    assert np.flatnonzero(events.paused(counts)).tolist() == list(range(30, 50))
    seldom = np.random.default_rng(2).poisson(0.1, 600).astype(float)
    assert not events.paused(seldom).any()
    assert not events.paused(np.zeros(5)).any()
