"""Histograms as sent, against NumPy on the very values, and against the stock SDK's own exponential histogram."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from opentelemetry.sdk.metrics import MeterProvider
from opentelemetry.sdk.metrics.export import InMemoryMetricReader
from opentelemetry.sdk.metrics.view import ExponentialBucketHistogramAggregation, View

from tests.builders import NOW
from tests.core.test_otlp_metrics import decode, metric
from wirbel.core import sketch
from wirbel.core.signals import histograms, points

MINUTE = 60 * 10**9
BOUNDS = [0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 5.0, 10.0]
SHARES = [0.5, 0.9, 0.95, 0.99]


def explicit(values: np.ndarray, bounds: list[float] = BOUNDS, temporality: int = 1, **more: Any) -> Any:
    counts = np.bincount(np.searchsorted(bounds, values), minlength=len(bounds) + 1)
    return metric(
        "histogram",
        "d",
        "s",
        temporality,
        count=len(values),
        sum=float(values.sum()),
        min=float(values.min()),
        max=float(values.max()),
        explicit_bounds=bounds,
        bucket_counts=counts.tolist(),
        **more,
    )


def together(placed: histograms.Sketches, rows: int) -> list[float]:
    return placed.of_groups(np.zeros(rows, np.int64)).quantiles(1, SHARES)[0].tolist()


@settings(max_examples=60, deadline=None)
@given(st.integers(1, 2**31), st.floats(-5, 0.5), st.floats(0.1, 1.2))
def test_true_percentiles_lie_between_the_bounds_also_when_senders_have_different_buckets(seed: int, centre: float, spread: float) -> None:
    rng = np.random.default_rng(seed)
    one, two = rng.lognormal(centre, spread, 400), rng.lognormal(centre, spread, 300)
    table = points.combine([decode(explicit(one), explicit(two, [0.02, 0.3, 4.0], attributes={"pool": "b"})).table])
    placed = histograms.increases(table)
    true = np.quantile(np.r_[one, two], SHARES, method="inverted_cdf")
    low, middle, high = (together(part, table.num_rows) for part in (placed.low, placed.spread, placed.high))
    for at, share in enumerate(SHARES):
        assert low[at] <= true[at] * (1 + 2 * sketch.RELATIVE_ERROR), share
        assert high[at] >= true[at] * (1 - 2 * sketch.RELATIVE_ERROR), share
        assert low[at] <= middle[at] <= high[at]


def test_fine_buckets_give_fine_percentiles() -> None:
    values = np.random.default_rng(1).lognormal(-2, 0.6, 5000)
    bounds = np.geomspace(0.005, 5, 200).tolist()
    table = decode(explicit(values, bounds)).table
    placed = histograms.increases(table)
    assert together(placed.spread, 1) == pytest.approx(np.quantile(values, SHARES).tolist(), rel=0.05)


def sdk_exponential(values: np.ndarray, scale: int) -> Any:
    """What the stock SDK makes of the values, at most of one scale."""
    reader = InMemoryMetricReader()
    view = View(instrument_name="d", aggregation=ExponentialBucketHistogramAggregation(max_size=160, max_scale=scale))
    provider = MeterProvider([reader], views=[view], shutdown_on_exit=False)
    recorder = provider.get_meter("m").create_histogram("d", unit="s")
    for value in values:
        recorder.record(float(value))
    return reader.get_metrics_data().resource_metrics[0].scope_metrics[0].metrics[0].data.data_points[0]


def as_sent(point: Any, temporality: int = 1, **more: Any) -> Any:
    return metric(
        "exponential_histogram",
        "d",
        "s",
        temporality,
        count=point.count,
        sum=point.sum,
        min=point.min,
        max=point.max,
        scale=point.scale,
        zero_count=point.zero_count,
        positive=(point.positive.offset, list(point.positive.bucket_counts)),
        **more,
    )


@pytest.mark.parametrize("most", [5, 8, 20])
def test_an_exponential_histogram_of_the_sdk_is_the_sketch_of_its_values(most: int) -> None:
    values = np.r_[np.random.default_rng(2).lognormal(-3, 0.05, 2000), 0.0, 0.0625]  # narrow, so that the SDK keeps a fine scale
    point = sdk_exponential(values[values > 0.04], most)
    assert point.scale >= sketch.SCALE
    placed = histograms.increases(decode(as_sent(point)).table)
    bucket, count = np.unique(sketch.bucket_of(values[values > 0.04]), return_counts=True)
    for part in (placed.spread, placed.low, placed.high):
        assert part.buckets.tolist() == bucket.tolist()
        assert part.counts.tolist() == count.tolist()


def test_a_coarser_exponential_histogram_says_how_coarse_it_is() -> None:
    values = np.random.default_rng(3).lognormal(-1, 2.5, 4000)  # wide, so that the SDK must take a coarse scale
    point = sdk_exponential(values, 20)
    assert point.scale < sketch.SCALE
    placed = histograms.increases(decode(as_sent(point)).table)
    true = np.quantile(values, SHARES, method="inverted_cdf")
    low, high = together(placed.low, 1), together(placed.high, 1)
    base = 2.0 ** (2.0**-point.scale)
    for at in range(len(SHARES)):
        assert low[at] * (1 - sketch.RELATIVE_ERROR) <= true[at] <= high[at] * (1 + sketch.RELATIVE_ERROR)
        assert high[at] / low[at] <= base * (1 + 3 * sketch.RELATIVE_ERROR)


@pytest.mark.parametrize("kind", ["explicit", "exponential"])
def test_cumulative_histograms_count_what_was_added_and_begin_anew_after_a_restart(kind: str) -> None:
    rng = np.random.default_rng(4)
    batches = [rng.lognormal(-2, 0.5, 200) for _ in range(4)]

    def sent(values: np.ndarray, minute: int, start: int) -> Any:
        more = {"time_unix_nano": NOW + minute * MINUTE - 10 * MINUTE, "start_time_unix_nano": start}
        return explicit(values, temporality=2, **more) if kind == "explicit" else as_sent(sdk_exponential(values, 5), 2, **more)

    first, second = NOW - 20 * MINUTE, NOW - 7 * MINUTE
    rows = [
        sent(batches[0], 0, first),
        sent(np.r_[batches[0], batches[1]], 1, first),
        sent(np.r_[batches[0], batches[1], batches[2]], 2, first),
        sent(batches[3], 4, second),  # it was started again
    ]
    table = points.combine([decode(*rows).table])
    added = histograms.increases(table).spread
    counts = np.bincount(added.owners, added.counts, 4)
    assert counts.tolist() == pytest.approx([0, 200, 200, 200])
    assert points.increases(table, "count").tolist() == [0, 200, 200, 200]
    assert points.increases(table, "total").tolist() == pytest.approx([0, *(float(batch.sum()) for batch in batches[1:])])
    alone = histograms.increases(decode(explicit(batches[3]) if kind == "explicit" else as_sent(sdk_exponential(batches[3], 5))).table).spread
    last = added.owners == 3
    assert added.buckets[last].tolist() == alone.buckets.tolist()
    assert added.counts[last].tolist() == pytest.approx(alone.counts.tolist())


def test_a_histogram_without_buckets_or_without_a_value_adds_nothing() -> None:
    bare = metric("histogram", "d", "s", 1, count=3, sum=1.0)
    absent = metric("histogram", "d", "s", 1, count=0, flags=1, attributes={"n": 1})
    table = points.combine([decode(bare, absent).table])
    assert not len(histograms.increases(table).spread.owners)
    assert histograms.increases(pa.Table.from_batches([], table.schema)).spread.counts.tolist() == []
