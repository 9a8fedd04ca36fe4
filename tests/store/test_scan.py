"""One way to ask many blocks: the same answer whoever does the work, bounded, and stopped when nobody waits."""

from __future__ import annotations

import os
import subprocess
import sys
import threading
import time
from dataclasses import dataclass, replace

import pyarrow as pa
import pytest

from tests.conftest import ROOT, make_database
from tests.store.test_store import WIDE, some_spans
from tests.store.test_streams import accept, some_logs
from wirbel.core.errors import QuestionStopped, QuestionTooLarge
from wirbel.store import block_work, blocks, packer, query_limits, reading, scan, segments
from wirbel.store.models import Block, Segment, Stream

pytestmark = pytest.mark.django_db


@dataclass(frozen=True)
class CountByService:
    """Work whose partial results add."""

    def __call__(self, table: pa.Table, window: tuple[int, int] | None) -> pa.Table:
        return table.group_by("service").aggregate([("service", "count")])


def counted(parts: list[pa.Table]) -> dict[str, int]:
    total: dict[str, int] = {}
    for part in parts:
        for row in part.to_pylist():
            total[row["service"]] = total.get(row["service"], 0) + row["service_count"]
    return total


def several_blocks(count: int = 6) -> dict[str, int]:
    expected: dict[str, int] = {}
    for part in range(count):
        service = f"s{part % 3}"
        accept("logs", some_logs(5 + part, service=service), f"part {part}")
        packer.pack_all()
        expected[service] = expected.get(service, 0) + 5 + part
    return expected


EVERYWHERE = scan.Where(Stream.LOGS, *WIDE, fresh=True)


def test_partial_results_of_all_blocks_and_of_what_is_fresh_add_up() -> None:
    expected = several_blocks()
    accept("logs", some_logs(4, service="fresh"), "not packed")
    assert Segment.objects.count() == 1
    assert counted(scan.scan(EVERYWHERE, ["service"], CountByService())) == expected | {"fresh": 4}


def test_a_small_partial_result_is_used_again(monkeypatch: pytest.MonkeyPatch) -> None:
    expected = several_blocks()
    first = counted(scan.scan(EVERYWHERE, ["service"], CountByService(), small=True))
    accept("logs", some_logs(2, service="new"), "later")
    packer.pack_all()
    opened = []
    real = blocks._read_parquet
    monkeypatch.setattr(blocks, "_read_parquet", lambda *asked: opened.append(1) or real(*asked))
    again = counted(scan.scan(EVERYWHERE, ["service"], CountByService(), small=True))
    assert first == expected
    assert again == expected | {"new": 2}
    assert len(opened) == 1  # the new block's


def test_a_question_is_stopped_between_two_blocks() -> None:
    several_blocks()
    bounds = query_limits.Bounds(60.0)
    seen = []

    def work(table: pa.Table, window: tuple[int, int] | None) -> int:
        seen.append(table.num_rows)
        bounds.stopped.set()
        return 0

    with query_limits.bounded(bounds), pytest.raises(QuestionStopped):
        scan.scan(EVERYWHERE, ["service"], work)
    assert len(seen) <= block_work.THREADS + 2


def test_a_question_that_takes_too_long_says_how_far_it_came() -> None:
    several_blocks()
    with (
        query_limits.bounded(query_limits.Bounds(0.0, began=time.monotonic() - 1)),
        pytest.raises(QuestionTooLarge, match=r"0 of 45 records .* shorter window"),
    ):
        scan.scan(EVERYWHERE, ["service"], CountByService())


@pytest.mark.parametrize("packed", [True, False])
def test_a_question_does_not_wait_for_the_end_of_one_block(packed: bool) -> None:
    accept("logs", some_logs(5), "one")
    if packed:
        packer.pack_all()
    asked = replace(EVERYWHERE, fresh=True)
    held = threading.Event()
    began = time.monotonic()
    try:
        with query_limits.bounded(query_limits.Bounds(0.3)), pytest.raises(QuestionTooLarge, match="0 of 5 records"):
            scan.scan(asked, ["service"], lambda table, window: held.wait(30))
        assert time.monotonic() - began < 10
    finally:
        held.set()


def test_few_tables_exist_at_a_time() -> None:
    several_blocks(12)
    alive, most, guard = 0, 0, threading.Lock()

    def work(table: pa.Table, window: tuple[int, int] | None) -> int:
        nonlocal alive, most
        with guard:
            alive += 1
            most = max(most, alive)
        time.sleep(0.01)
        with guard:
            alive -= 1
        return 0

    assert len(scan.scan(EVERYWHERE, ["service"], work)) == 12
    assert most <= block_work.THREADS


def test_blocks_without_a_searched_word_are_not_opened(monkeypatch: pytest.MonkeyPatch) -> None:
    for part in range(10):
        accept("logs", some_logs(3 + part, service="shop", step_ns=3600 * 10**9), f"part {part}")
        packer.pack_all()
    while packer.merge_once(WIDE[1]):
        pass
    filters = Block.objects.filter(stream="logs").exclude(word_filter=None).count()
    assert filters == Block.objects.filter(stream="logs").count() > 5
    blocks._cache.__init__(blocks.CACHE_BYTES)  # type: ignore[misc]
    opened = []
    real = blocks._read_parquet
    monkeypatch.setattr(blocks, "_read_parquet", lambda *asked: opened.append(1) or real(*asked))
    found = reading.logs(*WIDE, containing="Line 11")
    assert found["body"].to_pylist() == ["line 11"]
    assert 1 <= len(opened) <= 3  # of more than five; the filter may be wrong once in a hundred
    assert reading.logs(*WIDE, containing="lin").num_rows == 0  # words, not parts of them
    assert reading.logs(*WIDE, containing="LINE").num_rows == sum(3 + part for part in range(10))


def test_spans_say_whether_they_are_roots_without_their_parents_ids() -> None:
    segments.append_once(Stream.SPANS, some_spans(range(1, 9)), segments.digest_of(b"some"))
    parents = reading.window_spans(*WIDE, columns=["parent_id", "is_root"])
    packer.pack_all()
    packed = reading.window_spans(*WIDE, columns=["is_root"])
    assert "parent_id" not in packed.column_names
    expected = {r["span_id"]: r["parent_id"] is None for r in parents.to_pylist()}
    assert {r["span_id"]: r["is_root"] for r in packed.to_pylist()} == expected
    assert len(set(expected.values())) == 2


ON_DASK = """
import os
from distributed import LocalCluster
from wirbel.runtime import environment
if __name__ == "__main__":
    with environment.database():
        from tests.store.test_scan import CountByService, EVERYWHERE, counted
        from tests.store.test_streams import accept, some_logs
        from wirbel.store import packer, scan
        for part in range(12):
            accept("logs", some_logs(5 + part, service=f"s{part % 3}"), f"part {part}")
            packer.pack_all()
        accept("logs", some_logs(4, service="fresh"), "not packed")
        here = counted(scan.scan(EVERYWHERE, ["service"], CountByService()))
        with LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address=None) as cluster:
            os.environ["WIRBEL_DASK"] = cluster.scheduler_address
            there = counted(scan.scan(EVERYWHERE, ["service"], CountByService()))
            ran = scan._client(cluster.scheduler_address).run(lambda: __import__("sys").modules.get("wirbel.store.block_work") is not None)
            scan._client(cluster.scheduler_address).close()
        assert here == there, (here, there)
        assert all(ran.values()), ran
        print("same", sum(here.values()))
"""


def test_a_dask_cluster_gives_the_same_answer(tmp_path) -> None:  # type: ignore[no-untyped-def]
    """Two worker processes read the blocks themselves, in the snapshot of whoever asks."""
    script = tmp_path / "on_dask.py"
    script.write_text(ON_DASK)
    environment = {**os.environ, "WIRBEL_DATABASE_URL": make_database("wirbel_dask"), "WIRBEL_HOME": str(tmp_path), "PYTHONPATH": f"{ROOT}:{ROOT / 'src'}"}
    run = subprocess.run([sys.executable, str(script)], env=environment, capture_output=True, text=True, timeout=120)
    assert run.stdout.strip() == f"same {sum(range(5, 17)) + 4}", run.stderr[-3000:]
