"""History is written as tables, because encoding it would take minutes; so it must be what the doors would have made of it."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pytest

from wirbel.core import arrow
from wirbel.core.signals import otlp, spans
from wirbel.demo.drill import scene
from wirbel.demo.making import Telemetry
from wirbel.demo.world.skerry import SKERRY
from wirbel.store.streams import LAYOUTS, STREAM_OF

MINUTE_NS = 60 * 10**9


@pytest.fixture(scope="module", params=["provider-failing", "disk-full"])
def told(request: pytest.FixtureRequest) -> Telemetry:
    """Two minutes of a fault that makes requests fail."""
    made = scene.make(SKERRY, request.param, 1, history_ns=20 * MINUTE_NS)
    onset = made.fault.truth.onset
    return made.world.telemetry(onset + 10 * MINUTE_NS, onset + 12 * MINUTE_NS)


def plain(column: pa.ChunkedArray) -> pa.Array:
    column = column.combine_chunks()
    return column.cast(column.type.value_type) if pa.types.is_dictionary(column.type) else column


@pytest.mark.parametrize("signal", otlp.SIGNALS)
def test_what_history_stores_is_what_the_doors_make_of_it(told: Telemetry, signal: str) -> None:
    combine = LAYOUTS[STREAM_OF[signal]].combine
    table = {"traces": told.spans, "logs": told.logs, "metrics": told.points}[signal]
    assert table.num_rows > 100
    if signal == "traces":
        assert (arrow.numbers(table["outcome"]) == spans.ERROR).any()
    decoded = otlp.DECODERS[signal]([otlp.ENCODERS[signal](table)], 2**62)
    assert decoded.refused == [{}]
    stored, sent = combine([table]), combine([decoded.table])
    assert set(stored.column_names) == set(sent.column_names)
    for name in stored.column_names:
        if name == "weight":  # a sampling threshold has 56 bits
            np.testing.assert_allclose(stored[name].to_numpy(), sent[name].to_numpy(), rtol=1e-12)
        else:
            assert plain(stored[name]).equals(plain(sent[name])), name
