"""An inquiry into windows that hold a million spans, and ten, with their metrics and logs: time, memory, and how both grow.

Run: ./wirbel bench inquiry. The plain alternative is to read every span of both windows in full, which is what a diagnosis without sampling begins with.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys

from wirbel.demo.fill import store
from wirbel.demo.history import make_history
from wirbel.demo.making import recorded
from wirbel.demo.world.skerry import SKERRY
from wirbel.store.models import Block, Stream

MINUTE_NS = 60 * 10**9
NOW = 1_772_000_000 * 10**9
FOCUS = (NOW - 30 * MINUTE_NS, NOW)
REFERENCE = (NOW - 122 * MINUTE_NS, NOW - 32 * MINUTE_NS)
START = NOW - 130 * MINUTE_NS
SPANS_A_RATE = 63_800  # about, of the whole stretch for each request a second that is recorded
ASK = """
import json, resource, statistics, time
from wirbel.runtime import environment
def timed(work):
    began = time.perf_counter(); work(); return time.perf_counter() - began
with environment.database():
    from bench.inquiry import FOCUS, REFERENCE
    from wirbel.inquiry.ask import Asked, ask
    from wirbel.store import reading
    asked = Asked("quay-web", None, "latency", FOCUS, REFERENCE)
    first = timed(lambda: ask(asked))
    after = statistics.median(timed(lambda: ask(asked)) for _ in range(5))
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    whole = timed(lambda: [reading.window_spans(*window) for window in (REFERENCE, FOCUS)])
    candidate = ask(asked).answer.candidates[0]
    print(json.dumps({"first": first, "after": after, "memory": memory, "whole": whole, "named": f"{candidate.kind} {candidate.name}"}))
"""


def bench_inquiry(sizes: tuple[int, ...] = (1_000_000, 10_000_000)) -> None:
    before = None
    for size in sizes:
        Block.objects.all().delete()
        world = recorded(SKERRY, 1, START, NOW, size / SPANS_A_RATE, make_history(1, NOW))
        for first in range(START, NOW, 10 * MINUTE_NS):
            store(world.telemetry(first, min(first + 10 * MINUTE_NS, NOW)))
        rows = {
            stream: sum(Block.objects.filter(stream=stream, step=0).values_list("rows", flat=True)) for stream in (Stream.SPANS, Stream.LOGS, Stream.POINTS)
        }
        done = subprocess.run([sys.executable, "-c", ASK], capture_output=True, text=True, env=os.environ, check=True)
        found = json.loads(done.stdout)
        print(
            f"inquiry          {found['first']:12.1f} s first, {found['after']:.1f} s after, {found['memory']:.0f} MB at most: {rows[Stream.SPANS]:,} spans, "
            f"{rows[Stream.LOGS]:,} log records, {rows[Stream.POINTS]:,} samples; {found['named']}   reading all of them {found['whole']:.1f} s   {found['whole'] / found['first']:.1f}×"
        )
        if before:
            print(f"  growth         {found['first'] / before[0]:12.1f}× the time for {rows[Stream.SPANS] / before[1]:.1f}× the spans")
        before = found["first"], rows[Stream.SPANS]
