"""Shares of requests by duration."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from wirbel.core import sketch
from wirbel.core.series.durations import distribution


def counted(seconds: list[float], weight: float = 1.0) -> pa.Table:
    return pa.table({"bucket": pa.array(sketch.bucket_of(seconds).astype(np.int16)), "count": pa.array([weight] * len(seconds), pa.float64())})


@settings(deadline=None)
@given(st.lists(st.floats(1e-6, 1e4), min_size=1, max_size=60), st.lists(st.floats(1e-6, 1e4), max_size=60))
def test_every_request_is_in_the_step_that_holds_it(first: list[float], second: list[float]) -> None:
    found = distribution([counted(first), counted(second, 7.0)])
    for seconds, shares in zip((first, second), found.shares, strict=True):
        assert shares.sum() == pytest.approx(1.0 if seconds else 0.0)
        # Bounds are inclusive above (OpenTelemetry's exponential histogram), as numpy's are below: values on a bound are left out.
        inside = [value for value in seconds if not np.isclose(value, found.edges, rtol=1e-9).any()]
        if len(inside) == len(seconds) > 0:
            assert shares * len(seconds) == pytest.approx(np.histogram(seconds, found.edges)[0])
    assert found.edges[1:] / found.edges[:-1] == pytest.approx(2 ** (1 / 4))


def test_zeros_and_nothing() -> None:
    found = distribution([counted([0.0, 1.5]), counted([])])
    assert found.shares[0].sum() == pytest.approx(1.0)
    assert found.shares[1].sum() == 0.0
    assert distribution([counted([]), counted([])]).edges.size == 0
    assert distribution([counted([0.0])]).edges.size == 0
