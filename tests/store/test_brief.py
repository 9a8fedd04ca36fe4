"""What is kept of a block in brief says what the block says, also of blocks that were made before there was any."""

from __future__ import annotations

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from django.db import transaction

from tests.core.test_cells import as_set
from tests.store.test_store import WIDE, some_spans, store
from wirbel.core import cells, served
from wirbel.explore.health import overview
from wirbel.store import blocks, packer, partitions, reading
from wirbel.store.models import Block, Stream

pytestmark = pytest.mark.django_db


def brief(**asked: object) -> set:
    return as_set(served.merge([reading.served(*WIDE, **asked)]))  # type: ignore[arg-type]


def expected() -> set:
    return as_set(served.merge([served.of_cells(reading.cells(*WIDE))]))


def test_it_is_what_the_cells_say_before_and_after_merging_and_of_older_blocks() -> None:
    for part in range(9):
        store(some_spans(range(40 * part, 40 * part + 40), at_ms=7_000.0 * part), f"part {part}")
        packer.pack_all()
    assert brief() == expected()
    assert packer.merge_once()
    whole = expected()
    assert brief() == whole
    of_cells = Block.objects.filter(stream=Stream.CELLS).order_by("id")
    assert of_cells.count() > 1
    for older in (of_cells[:1], of_cells):  # some of them, then all
        Block.objects.filter(id__in=[block.id for block in older]).update(brief=None, brief_rest=None)
        blocks._briefs.__init__(1)  # type: ignore[misc]
        assert brief() == whole


def test_nothing_is_nothing() -> None:
    assert reading.headlines(*WIDE).num_rows == 0
    assert reading.serving(*WIDE) == {}
    found = overview(*WIDE, WIDE, WIDE, None)
    assert (found.services, found.found, found.sentence) == ([], 0, "Nothing has been sent in this time.")


def test_some_services_and_columns_of_it() -> None:
    store(some_spans(range(30)), "a")
    packer.pack_all()
    assert {row["service"] for row in reading.served(*WIDE, services=["back"]).to_pylist()} == {"back"}
    some = reading.served(*WIDE, columns=served.SUMS)
    assert some.column_names == [*served.KEYS, *served.SUMS]
    everything = reading.served(*WIDE, together=True)
    assert sum(everything["rows"].to_pylist()) == sum(some["rows"].to_pylist())
    assert set(everything["service"].to_pylist()) == {""}
    assert reading.serving(*WIDE) == {"front": True, "back": True}
    assert set(reading.serving(*WIDE, services=["back"])) == {"back"}


def test_a_service_is_not_cut_by_the_end_of_a_block(monkeypatch: pytest.MonkeyPatch) -> None:
    """Its minutes then have one row each, and their percentiles need no sketch."""
    derived = [cells.derive(some_spans(range(20), at_ms=60_000.0 * minute)) for minute in range(4)]
    table = cells.merge(derived)
    mine = table.filter(pa.compute.equal(table["service"], "back")).num_rows
    monkeypatch.setattr(blocks, "MAX_ROWS", mine + 1)
    with transaction.atomic():
        partitions.insert(blocks.make(Stream.CELLS, table, 1))
    assert Block.objects.count() > 1
    assert all(len(services) == 1 for services in Block.objects.values_list("services", flat=True)[:1])
    assert as_set(reading.cells(*WIDE)) == as_set(table)
    light = reading.headlines(*WIDE, services=["back"])
    assert "buckets" not in light.column_names


def test_of_a_large_block_only_the_parts_are_read_that_may_hold_a_service(monkeypatch: pytest.MonkeyPatch) -> None:
    one = cells.derive(some_spans(range(20)))
    names = [f"service-{number:02d}" for number in range(30)]
    table = cells.merge([one.set_column(one.schema.get_field_index("service"), "service", pa.repeat(name, one.num_rows)) for name in names])
    each = table.num_rows // len(names)
    monkeypatch.setattr(blocks, "GROUP_ROWS", 4 * each)
    with transaction.atomic():
        partitions.insert(blocks.make(Stream.CELLS, table, 1))
    asked = ["service-05", "service-21"]
    mine = table.filter(pa.compute.is_in(table["service"], pa.array(asked)))
    assert as_set(reading.cells(*WIDE, services=asked)) == as_set(mine)
    assert as_set(reading.cells(*WIDE)) == as_set(table)
    assert as_set(reading.cells(*WIDE, services=["service-22"])) != as_set(mine)

    (data,) = Block.objects.values_list("data", flat=True)
    parts = blocks._read_parquet(data, None, services=asked)
    assert parts.num_rows == 8 * each
    assert blocks._read_parquet(data, ("service", "rows"), services=["zebra"]).num_rows == 0
    plain = pa.BufferOutputStream()  # of a block from before first and last names were kept
    pq.write_table(table, plain, write_statistics=False, row_group_size=4 * each)
    assert blocks._read_parquet(plain.getvalue().to_pybytes(), None, services=asked).num_rows == table.num_rows
