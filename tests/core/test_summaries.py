"""Fewer rows that answer the same: thinned records and summaries of longer stretches."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.builders import NOW, table
from tests.core import test_otlp_logs as log_requests
from tests.core import test_otlp_metrics as metric_requests
from wirbel.core import arrow, cells, sketch, thinning
from wirbel.core.signals import points, spans

STEP = 600 * 10**9
BASE = NOW - NOW % (3600 * 10**9)

NOBODY = np.zeros(0, np.uint64)  # traces that are kept whole elsewhere


def traces(count: int, seed: int = 1, failing: float = 0.02, every_ms: float = 3.0) -> pa.Table:
    """``count`` traces of two spans, of three operations, some failed."""
    rng = np.random.default_rng(seed)
    rows = []
    for n in range(1, count + 1):
        operation = ("GET /a", "GET /b", "POST /rare")[int(rng.choice(3, p=[0.7, 0.28, 0.02]))]
        failed = spans.ERROR if rng.random() < failing else spans.OK
        length = float(rng.lognormal(3, 0.8))
        rows.append({"trace": n, "span": 2 * n, "operation": operation, "start": n * every_ms, "duration": length, "outcome": failed})
        rows.append({"trace": n, "span": 2 * n + 1, "parent": 2 * n, "service": "b", "start": n * every_ms + 1, "duration": length / 2})
    return spans.combine([table(*rows)])


def roots(given_spans: pa.Table) -> pa.Table:
    return given_spans.filter(given_spans["parent_id"].is_null())


def weights_by(given_spans: pa.Table, key: str) -> dict[str, float]:
    return {row[key]: row["weight_sum"] for row in roots(given_spans).group_by(key).aggregate([("weight", "sum")]).to_pylist()}


@settings(max_examples=30, deadline=None)
@given(st.integers(1, 900), st.integers(0, 10**6), st.floats(0.02, 0.6))
def test_weights_of_every_operation_add_up_to_what_they_did(count: int, seed: int, share: float) -> None:
    before = traces(count, seed)
    after = thinning.thin_spans(before, share, NOBODY)
    assert weights_by(after, "operation") == pytest.approx(weights_by(before, "operation"))
    # Whole traces only.
    assert after.num_rows == 2 * roots(after).num_rows
    # Again, of what is left: still the same sums.
    assert weights_by(thinning.thin_spans(after, share, NOBODY), "operation") == pytest.approx(weights_by(before, "operation"))


def test_failed_slow_and_rare_traces_are_all_kept_as_they_are() -> None:
    before = traces(3000)
    after = thinning.thin_spans(before, 0.1, NOBODY)
    kept = {row["trace_id"]: row["weight"] for row in roots(after).to_pylist()}
    assert 0.1 < len(kept) / 3000 < 0.2
    slowest = sorted((row for row in roots(before).to_pylist() if row["operation"] == "GET /a"), key=lambda row: -row["duration"])[:15]
    failed = [row for row in roots(before).to_pylist() if row["outcome"] == spans.ERROR]
    for row in slowest + failed:
        assert kept[row["trace_id"]] == 1.0
    few = thinning.thin_spans(traces(15), 0.1, NOBODY)
    assert few.num_rows == 30


def test_the_share_of_errors_and_percentiles_survive() -> None:
    before, after = roots(traces(6000)), roots(thinning.thin_spans(traces(6000), 0.1, NOBODY))
    for share in (0.5, 0.9, 0.99):
        pair = [
            np.quantile(arrow.numbers(t["duration"]).astype(float), share, method="inverted_cdf", weights=arrow.numbers(t["weight"])) for t in (before, after)
        ]
        assert pair[1] == pytest.approx(pair[0], rel=0.03)
    errors = [float(arrow.numbers(t["weight"])[arrow.numbers(t["outcome"]) == spans.ERROR].sum()) for t in (before, after)]
    assert errors[0] == errors[1]


def test_logs_keep_errors_and_sums() -> None:
    records = [{"body": f"{n}", "severity_number": 17 if n % 50 == 0 else 9, "time_unix_nano": NOW - n * 10**9} for n in range(1000)]
    before = log_requests.decode(*records).table
    after = thinning.thin_logs(before, 0.05, NOBODY)
    assert after.num_rows < 100
    assert sum(after["weight"].to_pylist()) == pytest.approx(1000)
    assert [row["body"] for row in after.to_pylist() if row["severity"] == 17] == [f"{n}" for n in range(0, 1000, 50)]
    assert after["time"].to_pylist() == [row["time"] for row in before.to_pylist() if row["body"] in set(after["body"].to_pylist())]


def test_a_trace_is_kept_or_dropped_by_its_id_in_every_block_and_its_log_records_with_it() -> None:
    """One trace's spans in two blocks, and its log records in a third: the parts that are thinned apart hold the same traces."""
    rng = np.random.default_rng(3)
    first = traces(3000, 1)
    second = traces(3000, 2)  # the same ids, other durations: what is slow here is not slow there
    logs = log_requests.decode(
        *[
            {"body": "said", "severity_number": 9, "time_unix_nano": NOW - int(n) * 10**6, "trace_id": int(n).to_bytes(16, "big")}
            for n in rng.integers(1, 3001, 4000)
        ]
    ).table
    kept_whole = [thinning.traces_kept_whole(one, 0.1) for one in (first, second)]
    thinned = [thinning.thin_spans(first, 0.1, kept_whole[1]), thinning.thin_spans(second, 0.1, kept_whole[0])]
    told = thinning.thin_logs(logs, 0.1, np.union1d(*kept_whole))
    left = [set(one["trace_id"].to_pylist()) for one in thinned]
    assert left[0] == left[1]
    assert 300 < len(left[0]) < 900
    assert set(told["trace_id"].to_pylist()) == left[0] & set(logs["trace_id"].to_pylist())
    for before, after in zip((first, second), thinned, strict=True):
        assert weights_by(after, "operation") == pytest.approx(weights_by(before, "operation"))
    assert sum(told["weight"].to_pylist()) == pytest.approx(4000)


def test_nothing_thinned_is_nothing() -> None:
    assert thinning.thin_spans(spans.empty(), 0.1, NOBODY).num_rows == 0


def test_cells_of_longer_stretches_count_the_same() -> None:
    fine = cells.derive(traces(4000, every_ms=900))
    coarse = cells.summarise(fine, STEP)
    assert coarse.num_rows < fine.num_rows
    assert all(minute % STEP == 0 for minute in coarse["minute"].to_pylist())
    for name in ("rows", "count", "total"):
        assert sum(coarse[name].to_pylist()) == pytest.approx(sum(fine[name].to_pylist()))

    def quantiles(given_cells: pa.Table) -> list[float]:
        owner = np.zeros(sum(map(len, given_cells["buckets"].to_pylist())), np.int64)
        buckets = np.concatenate(given_cells["buckets"].to_pylist()).astype(np.int64)
        return sketch.quantiles(owner, buckets, np.concatenate(given_cells["bucket_counts"].to_pylist()), 1, (0.5, 0.95, 0.99))[0].tolist()

    assert quantiles(coarse) == quantiles(fine)
    assert cells.summarise(coarse, STEP).sort_by("total").equals(coarse.sort_by("total"))


def gauge(values: list[tuple[int, float]]) -> pa.Table:
    return metric_requests.decode(*[metric_requests.metric("gauge", as_double=v, time_unix_nano=BASE - t * 10**9) for t, v in values]).table


def counter(values: list[float], restarts: list[int], every_s: int = 60, temporality: int = 2) -> pa.Table:
    """A sum sampled at a fixed distance, that begins anew at the given places."""
    made, start = [], BASE - 10**12
    for n, value in enumerate(values):
        at = BASE + n * every_s * 10**9
        start = at - 1 if n in restarts else start
        one = metric_requests.metric("sum", temporality=temporality, as_double=value, time_unix_nano=at, start_time_unix_nano=start)
        one.sum.is_monotonic = True
        made.append(one)
    return otlp_at(made)


def otlp_at(made: list) -> pa.Table:
    from wirbel.core.signals import otlp

    return otlp.metrics.decode([metric_requests.request(*made)], BASE + 10**15).table


@settings(max_examples=60, deadline=None)
@given(st.lists(st.tuples(st.integers(0, 4000), st.floats(-1e6, 1e6)), min_size=1, max_size=40, unique_by=lambda pair: pair[0]), st.integers(0, 40))
def test_gauges_keep_mean_extremes_and_count(values: list[tuple[int, float]], cut: int) -> None:
    whole = points.combine([gauge(values)])
    coarse = points.summarise(whole, STEP)
    by_stretch: dict[int, list[float]] = {}
    for at, value in values:
        by_stretch.setdefault((BASE - at * 10**9) // STEP * STEP, []).append(value)
    found = {row["time"]: row for row in coarse.to_pylist()}
    assert set(found) == set(by_stretch)
    for at, inside in by_stretch.items():
        row = found[at]
        assert (row["count"], row["low"], row["high"]) == (len(inside), min(inside), max(inside))
        assert row["value"] == pytest.approx(np.mean(inside), rel=1e-9, abs=1e-6)
    # Two parts, each summarised, then together, are the summary of the whole.
    halves = [points.summarise(part, STEP) for part in (whole.slice(0, cut), whole.slice(cut))]
    together = {row["time"]: row["total"] for row in points.merge_summaries(halves, STEP).to_pylist()}
    assert together == pytest.approx({at: row["total"] for at, row in found.items()}, rel=1e-9, abs=1e-6)


@settings(max_examples=60, deadline=None)
@given(st.lists(st.floats(0, 100), min_size=2, max_size=50), st.sets(st.integers(1, 49), max_size=3), st.sampled_from([1, 2]))
def test_increases_of_sums_survive_restarts_and_summaries(steps: list[float], restarts: set[int], temporality: int) -> None:
    values: list[float] = []
    for n, step in enumerate(steps):
        values.append(step if temporality == points.DELTA or n in restarts or not values else values[-1] + step)
    whole = points.combine([counter(values, sorted(restarts), temporality=temporality)])
    total = sum(steps) if temporality == points.DELTA else sum(steps[1:])
    assert points.increases(whole).sum() == pytest.approx(total, rel=1e-9, abs=1e-6)
    coarse = points.summarise(whole, STEP)
    if temporality == points.DELTA:
        assert points.increases(coarse).sum() == pytest.approx(total, rel=1e-9, abs=1e-6)
        assert coarse.num_rows == len({n * 60 // 600 for n in range(len(steps))})
    else:
        # From the last sample of the first stretch on; what came before it in that stretch is in its value.
        first = min(9, *(n - 1 for n in restarts if n <= 9), len(steps) - 1) if any(n <= 9 for n in restarts) else min(9, len(steps) - 1)
        assert points.increases(coarse).sum() == pytest.approx(sum(steps[first + 1 :]), rel=1e-9, abs=1e-6)
    assert points.summarise(coarse, STEP).to_pylist() == coarse.to_pylist()


def test_cumulative_histograms_keep_the_last_of_each_stretch() -> None:
    made = [
        metric_requests.metric(
            "histogram", temporality=2, count=n, sum=float(n), explicit_bounds=[1], bucket_counts=[n, 0], time_unix_nano=BASE + n * 60 * 10**9
        )
        for n in range(1, 25)
    ]
    coarse = points.summarise(otlp_at(made), STEP)
    assert coarse["count"].to_pylist() == [9, 19, 24]
