"""Making the demo world: a drill's telemetry on one core, against a plain loop over requests."""

from __future__ import annotations

import json
import os
import random
import subprocess
import sys
import time

MADE = """
import json, resource, time
import pyarrow as pa
pa.set_cpu_count(1)
from wirbel.demo.drill import scene
from wirbel.demo.world.skerry import SKERRY
began = time.perf_counter()
made = scene.make(SKERRY, "bad-deploy", 1, history_ns=6 * scene.HOUR_NS, kept=1 / 400)
solved = time.perf_counter()
counts = [0, 0, 0]
for first in range(made.start, made.asked, scene.CHUNK_NS):
    told = made.world.telemetry(first, min(first + scene.CHUNK_NS, made.asked))
    for place, table in enumerate((told.spans, told.logs, told.points)):
        counts[place] += table.num_rows
ended = time.perf_counter()
many = scene.make(SKERRY, "bad-deploy", 1, history_ns=scene.HOUR_NS, kept=1 / 10).world
drawing = time.perf_counter()
pace = scene.CHUNK_NS // 3
drawn = sum(many.traffic.spans(first, first + pace).num_rows for first in range(made.asked - scene.HOUR_NS, made.asked, pace))
drawn_s = time.perf_counter() - drawing
memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
print(json.dumps({"solved": solved - began, "told": ended - solved, "counts": counts, "drawn": drawn / drawn_s, "memory": memory}))
"""
ONE_CORE = {"OMP_NUM_THREADS": "1", "OPENBLAS_NUM_THREADS": "1"}


def plain(requests: int) -> float:
    """Spans a second of a loop that draws each step of each request by itself, without any queue, retry or fault."""
    from wirbel.demo.world.skerry import SKERRY

    rng = random.Random(1)
    made: list[dict[str, object]] = []

    def serve(key: str, at: float, trace: int, parent: int) -> float:
        operation = SKERRY.operations[key]
        span, now = rng.getrandbits(63), at
        for call in operation.calls:
            if rng.random() >= call.share:
                continue
            now += rng.lognormvariate(0, operation.spread) * call.work_ms
            for _ in range(call.times):
                client, begun = rng.getrandbits(63), now
                now = (
                    now + rng.lognormvariate(0, 0.4) * SKERRY.backends[call.to].median_ms if call.to in SKERRY.backends else serve(call.to, now, trace, client)
                )
                made.append({"trace": trace, "span": client, "parent": span, "start": begun, "end": now, "service": operation.service, "name": call.to})
        now += rng.lognormvariate(0, operation.spread) * operation.work_ms
        made.append({"trace": trace, "span": span, "parent": parent, "start": at, "end": now, "service": operation.service, "name": operation.route})
        return now

    began = time.perf_counter()
    for number in range(requests):
        serve(rng.choices(list(SKERRY.entries), list(SKERRY.entries.values()))[0], number * 5.0, rng.getrandbits(63), 0)
    return len(made) / (time.perf_counter() - began)


def bench_world() -> None:
    done = subprocess.run([sys.executable, "-c", MADE], capture_output=True, text=True, check=True, env={**os.environ, **ONE_CORE})
    found = json.loads(done.stdout)
    count, logs, points = found["counts"]
    speed, loop = found["drawn"], plain(5_000)
    seconds = found["solved"] + found["told"]
    print(
        f"a drill's world  {seconds:12.1f} s for 6 h, {count:,} spans, {logs:,} log records, {points:,} samples on one core; {found['memory']:.0f} MB at most"
    )
    print(f"spans of it      {speed:12,.0f} spans/s   a plain loop without queues, retries and columns {loop:10,.0f} spans/s   {speed / loop:6.1f}×")
