from __future__ import annotations

import tracemalloc

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from wirbel.core import sketch

DURATIONS = st.lists(st.floats(1e-9, 1e5), min_size=1, max_size=300)


def test_bucket_bounds_are_inclusive_above() -> None:
    """OpenTelemetry metrics data model, ExponentialHistogram: bucket i holds (base**i, base**(i+1)]."""
    powers = 2.0 ** np.arange(-20, 20)
    assert (sketch.bucket_of(powers) == np.arange(-20, 20) * 32 - 1).all()
    just_above = np.nextafter(powers, np.inf)
    assert (sketch.bucket_of(just_above) == np.arange(-20, 20) * 32).all()


@given(st.floats(1e-9, 1e6))
def test_a_value_lies_in_its_bucket(value: float) -> None:
    index = int(sketch.bucket_of(value))
    assert sketch.BASE**index < value * (1 + 1e-12)
    assert value <= sketch.BASE ** (index + 1) * (1 + 1e-12)


def test_negative_and_infinite_latencies_are_refused() -> None:
    for bad in (-1.0, float("nan"), float("inf")):
        with pytest.raises(ValueError, match="finite"):
            sketch.bucket_of([bad])


@given(DURATIONS, st.floats(0.001, 1.0))
def test_quantiles_are_within_the_stated_error(values: list[float], share: float) -> None:
    buckets = sketch.bucket_of(values)
    found = sketch.quantiles(np.zeros(len(values), int), buckets, np.ones(len(values)), 1, [share])[0, 0]
    exact = np.quantile(values, share, method="inverted_cdf")
    assert abs(found - exact) <= sketch.RELATIVE_ERROR * exact * (1 + 1e-9)
    assert sketch.RELATIVE_ERROR < 0.011


@given(DURATIONS, st.randoms(use_true_random=False))
def test_merging_in_any_order_gives_the_same_sketch(values: list[float], random: object) -> None:
    buckets = sketch.bucket_of(values)
    owners = np.zeros(len(values), int)
    whole = sketch.merge(owners, buckets, np.ones(len(values)))
    order = list(range(len(values)))
    random.shuffle(order)  # type: ignore[attr-defined]
    cut = len(order) // 2
    halves = [sketch.merge(owners[p], buckets[p], np.ones(len(p))) for p in (order[:cut], order[cut:])]
    joined = sketch.merge(*(np.concatenate(parts) for parts in zip(*halves, strict=True)))
    for one, other in zip(whole, joined, strict=True):
        assert (one == other).all()


def test_groups_are_read_apart_and_zero_is_zero() -> None:
    owners = np.array([0, 0, 2, 2])
    buckets = sketch.bucket_of([0.0, 0.0, 1.0, 4.0])
    found = sketch.quantiles(owners, buckets, np.ones(4), 3, [0.5, 1.0])
    assert found[0].tolist() == [0.0, 0.0]
    assert np.isnan(found[1]).all()
    assert found[2] == pytest.approx([1.0, 4.0], rel=0.011)


def test_a_thousand_services_take_little_memory_and_answer_as_few_do() -> None:
    """1,000 services × 360 minutes: a table of groups and buckets would take 860 MB; the same answers come from what is filled."""
    rng = np.random.default_rng(2)
    groups = 1000 * 360
    owners = np.repeat(np.arange(groups), 6)
    buckets = sketch.bucket_of(rng.lognormal(-3, 1.5, len(owners)))
    counts = rng.integers(1, 9, len(owners)).astype(float)
    tracemalloc.start()
    found = sketch.quantiles(owners, buckets, counts, groups, [0.5, 0.95, 0.99])
    peak = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert peak < 200 * 2**20
    some = 2000
    few = owners < some
    assert np.array_equal(found[:some], sketch.quantiles(owners[few], buckets[few], counts[few], some, [0.5, 0.95, 0.99]))
