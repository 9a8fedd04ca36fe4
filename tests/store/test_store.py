from __future__ import annotations

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.builders import NOW, table
from wirbel.core import arrow
from wirbel.core import cells as cell_model
from wirbel.core.signals import spans
from wirbel.store import blocks, bloom, packer, reading, segments
from wirbel.store.models import Block, Segment, Service, Stream

pytestmark = pytest.mark.django_db
HOUR_MS = 3_600_000
WIDE = (NOW - 10**15, NOW + 10**15)


def some_spans(traces: range, at_ms: float = 0.0, **more: object) -> pa.Table:
    """Three spans a trace: front calls back, back asks a database."""
    rows = []
    for trace in traces:
        first = trace * 10
        rows += [
            {"trace": trace, "span": first, "service": "front", "start": at_ms + trace, "duration": 30, **more},
            {
                "trace": trace,
                "span": first + 1,
                "parent": first,
                "service": "front",
                "kind": spans.CLIENT,
                "peer": "10.0.0.7",
                "peer_kind": "external",
                "start": at_ms + trace + 1,
                "duration": 20,
            },
            {
                "trace": trace,
                "span": first + 2,
                "parent": first + 1,
                "service": "back",
                "start": at_ms + trace + 2,
                "duration": 10,
                "span.s:color": "red" if trace % 2 else None,
            },
        ]
    return table(*rows)


def store(part: pa.Table, name: str) -> bool:
    return segments.append_once("spans", part, segments.digest_of(name.encode()))


def by_id(found: pa.Table) -> dict:
    return {(r["trace_id"], r["span_id"]): r for r in found.to_pylist()}


def test_what_was_accepted_can_be_read_before_and_after_packing() -> None:
    given_spans = some_spans(range(1, 40))
    assert store(given_spans, "a")
    before = reading.window_spans(*WIDE)
    assert packer.pack() == 117
    after = reading.window_spans(*WIDE)
    assert by_id(before).keys() == by_id(after).keys() == by_id(given_spans).keys()
    stored = by_id(after)
    for key, row in by_id(given_spans).items():
        assert {name: stored[key][name] for name in ("parent_id", "start", "duration", "service", "span.s:color")} == {
            name: row[name] for name in ("parent_id", "start", "duration", "service", "span.s:color")
        }
    assert not Segment.objects.exists()
    assert packer.pack() == 0


def test_the_same_request_again_changes_nothing() -> None:
    assert store(some_spans(range(1, 9)), "a")
    assert not store(some_spans(range(1, 9)), "a")
    packer.pack_all()
    assert not store(some_spans(range(1, 9)), "a")
    assert packer.pack_all() == 0
    assert reading.window_spans(*WIDE).num_rows == 24


def test_the_same_span_in_two_requests_of_one_pack_is_stored_once() -> None:
    store(some_spans(range(1, 9)), "a")
    store(some_spans(range(5, 12)), "b")
    packer.pack_all()
    assert reading.window_spans(*WIDE).num_rows == 33
    assert sum(reading.cells(*WIDE)["rows"].to_pylist()) == 33


def test_merging_blocks_changes_no_answer() -> None:
    for n in range(packer.FAN_IN + 1):
        store(some_spans(range(n * 20 + 1, n * 20 + 21)), f"part {n}")
        packer.pack_all()
    spans_before, cells_before = by_id(reading.window_spans(*WIDE)), recount(reading.cells(*WIDE))
    blocks_before = Block.objects.count()
    while packer.merge_once():
        pass
    assert Block.objects.count() < blocks_before / 4
    after = by_id(reading.window_spans(*WIDE))
    assert after.keys() == spans_before.keys()
    assert all(after[key]["parent_id"] == row["parent_id"] for key, row in spans_before.items())
    assert recount(reading.cells(*WIDE)) == cells_before


def recount(found: pa.Table) -> dict:
    return {tuple(r[k] for k in cell_model.KEYS.names): (r["rows"], round(r["total"], 9), tuple(r["buckets"])) for r in cell_model.merge([found]).to_pylist()}


def test_cells_equal_a_recount_of_the_spans() -> None:
    for n in range(4):
        store(some_spans(range(n * 30 + 1, n * 30 + 31), at_ms=n * HOUR_MS / 2), f"part {n}")
        packer.pack_all()
    assert recount(reading.cells(*WIDE)) == recount(cell_model.derive(spans.conform(reading.window_spans(*WIDE))))


def test_an_address_is_read_as_the_service_that_answered_there() -> None:
    store(some_spans(range(1, 9)), "a")
    packer.pack_all()
    # A later call whose answer has not arrived: the address is known by now.
    store(some_spans(range(100, 102)).slice(0, 2), "b")
    packer.pack_all()
    asked = [r for r in reading.cells(*WIDE).to_pylist() if r["kind"] == spans.CLIENT]
    assert {(r["peer"], r["peer_kind"]) for r in asked} == {("back", "service")}


def test_a_trace_is_found_by_its_id_alone_even_over_hours() -> None:
    store(some_spans(range(1, 30)), "a")
    packer.pack_all()
    store(some_spans(range(30, 60), at_ms=5 * HOUR_MS), "b")
    packer.pack_all()
    store(some_spans(range(60, 90), at_ms=9 * HOUR_MS), "still a segment")
    for trace in (7, 45, 75):
        found = reading.trace(trace.to_bytes(16, "big"))
        assert found["span_id"].to_pylist() == [(trace * 10 + n).to_bytes(8, "big") for n in range(3)]
    assert reading.trace(b"\x01" * 16).num_rows == 0
    assert Block.objects.filter(stream=Stream.SPANS).count() == 2


def test_windows_services_and_environments_skip_what_is_not_asked_for() -> None:
    store(some_spans(range(1, 5)), "a")
    store(some_spans(range(5, 9), at_ms=4 * HOUR_MS, environment="test"), "b")
    packer.pack_all()
    early = reading.window_spans(NOW, NOW + HOUR_MS * 10**6)
    assert set(early["trace_id"].to_pylist()) == {n.to_bytes(16, "big") for n in range(1, 5)}
    assert reading.window_spans(*WIDE, environment="test").num_rows == 4
    assert reading.window_spans(*WIDE, service="nobody").num_rows == 0
    assert set(reading.cells(*WIDE, services=["back"])["service"].to_pylist()) == {"back"}
    assert set(Service.objects.values_list("environment", "name")) == {("default", "front"), ("default", "back"), ("test", "front")}


def test_only_the_columns_asked_for_are_read() -> None:
    store(some_spans(range(1, 5)), "a")
    packer.pack_all()
    found = reading.window_spans(*WIDE, columns=["parent_id", "start"])
    assert "service" not in found.column_names
    assert found["parent_id"].null_count == 4


@given(st.integers(1, 400), st.integers(0, 2**32))
def test_the_filter_never_denies_what_it_holds(count: int, seed: int) -> None:
    rng = np.random.default_rng(seed)
    traces = rng.integers(0, 2**63, (count, 2), dtype=np.uint64)
    made = bloom.build(traces)
    assert all(bloom.may_contain(made, traces[n : n + 1]) for n in range(0, count, 7))


@pytest.mark.parametrize("counted_up", [False, True])
def test_the_filter_rarely_lets_strangers_in(counted_up: bool) -> None:
    """Ten bits an id and seven hashes: 0.8 % false answers (Broder and Mitzenmacher 2004), for counted ids too."""
    rng = np.random.default_rng(1)
    ids = (
        np.stack([np.zeros(6000, np.uint64), np.arange(6000, dtype=np.uint64).byteswap()], axis=1)
        if counted_up
        else rng.integers(0, 2**63, (6000, 2), dtype=np.uint64)
    )
    made = bloom.build(ids[:2000])
    assert sum(bloom.may_contain(made, ids[n : n + 1]) for n in range(2000, 6000)) / 4000 < 0.02


def test_of_a_stored_filter_one_segment_says_what_all_of_it_says() -> None:
    """More traces than one segment holds: the one that the database cuts out is where the filter has the id."""
    packer.write("spans", some_spans(range(1, 3_000)))
    stored = Block.objects.filter(stream="spans").get()
    assert len(stored.trace_filter) > 10 * bloom.SEGMENT
    ids = arrow.ids(spans.deduplicate(some_spans(range(1, 6_000, 37)))["trace_id"], 16)
    known = bloom.may_contain(bytes(stored.trace_filter), ids)
    assert 0.3 < known.mean() < 0.7
    for one, expected in zip(ids, known, strict=True):
        assert bool(reading.blocks_of_trace(one.tobytes())) == expected


def test_parquet_and_back() -> None:
    given_spans = spans.deduplicate(some_spans(range(1, 200)))
    [block] = blocks.make("spans", blocks.with_parent_rows(given_spans), 0)
    again = blocks._read_parquet(block.data, None)
    assert again.select(given_spans.column_names).equals(given_spans)
    assert block.rows == 597
