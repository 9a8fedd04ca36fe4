"""A worker that is killed while it packs loses nothing and doubles nothing."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys

import numpy as np

from tests.conftest import ROOT, make_database

KILLS = 20

# The worker's own loop, and a writer that acknowledges what is durable on its standard output.
WORKER = """
from wirbel.runtime import environment
with environment.database():
    from wirbel.store import packer
    print("ready", flush=True)
    while True:
        packer.pack_all()
        packer.merge_once()
"""
WRITER = """
import itertools, sys
from wirbel.runtime import environment
with environment.database():
    from tests.store.test_store import some_spans
    from wirbel.store import segments
    for n in itertools.count():
        part = some_spans(range(n * 50 + 1, n * 50 + 51))
        segments.append_once("spans", part, segments.digest_of(str(n).encode()))
        print(n, flush=True)
"""
COUNT = """
import json
from wirbel.runtime import environment
with environment.database():
    from tests.store.test_store import WIDE, recount
    from wirbel.core import cells
    from wirbel.core.signals import spans
    from wirbel.store import blocks, packer, reading
    from wirbel.store.models import Block
    packer.pack_all()
    tables = blocks.read(Block.objects.filter(stream="spans"))
    ids = [i.hex() for t in tables for i in t["span_id"].to_pylist()]
    whole = cells.derive(spans.conform(spans.concat(tables)))
    # Learned addresses may name a peer differently in early cells; counts must agree all the same.
    def sums(found):
        return sorted((r["service"], r["kind"], r["rows_sum"], round(r["total_sum"], 6)) for r in found.group_by(["service", "kind"]).aggregate([("rows", "sum"), ("total", "sum")]).to_pylist())
    print(json.dumps({"ids": ids, "same": sums(whole) == sums(reading.cells(*WIDE))}))
"""


def test_kill_9_at_random_moments_loses_and_doubles_nothing(tmp_path) -> None:
    environment = {
        **os.environ,
        "WIRBEL_DATABASE_URL": make_database("wirbel_crash"),
        "WIRBEL_HOME": str(tmp_path),
        "PYTHONPATH": str(ROOT),
        "WIRBEL_ROOT": str(ROOT),
    }

    def start(code: str) -> subprocess.Popen[str]:
        return subprocess.Popen([sys.executable, "-c", code], env=environment, stdout=subprocess.PIPE, text=True, cwd=ROOT)

    first = start(WORKER)  # migrates the new database
    assert first.stdout is not None
    assert first.stdout.readline() == "ready\n"
    first.kill()
    first.wait()
    writer = start(WRITER)
    assert writer.stdout is not None
    rng = np.random.default_rng(9)
    for _ in range(KILLS):
        worker = start(WORKER)
        assert worker.stdout is not None
        assert worker.stdout.readline() == "ready\n"
        with_luck_inside_a_pack = float(rng.uniform(0.0, 0.4))
        try:
            worker.wait(with_luck_inside_a_pack)
        except subprocess.TimeoutExpired:
            worker.send_signal(signal.SIGKILL)
        worker.wait()
    writer.kill()
    acknowledged = [int(line) for line in writer.stdout.read().splitlines() if line.strip().isdigit()]
    writer.wait()
    counted = subprocess.run([sys.executable, "-c", COUNT], env=environment, capture_output=True, text=True, cwd=ROOT, check=True)
    found = json.loads(counted.stdout)
    stored = found["ids"]
    assert len(stored) == len(set(stored))
    expected = {(trace * 10 + n).to_bytes(8, "big").hex() for part in acknowledged for trace in range(part * 50 + 1, part * 50 + 51) for n in range(3)}
    assert len(acknowledged) > KILLS
    assert expected <= set(stored)
    assert len(set(stored) - expected) <= 150  # at most the one request that was cut off before it was acknowledged
    assert found["same"]
