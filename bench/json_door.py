"""OTLP/JSON: the reader into columns beside Google's, and a file of mixed signals from the command line."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import pyarrow as pa

from wirbel.core.signals import otlp
from wirbel.core.signals.otlp import json_columns, wire
from wirbel.demo.drill import scene
from wirbel.demo.world.skerry import SKERRY

ROWS_A_REQUEST = 512
REPEATS = 3


def best(work: Callable[[], object]) -> float:
    """Seconds of the fastest of a few runs."""
    took = []
    for _ in range(REPEATS):
        began = time.perf_counter()
        work()
        took.append(time.perf_counter() - began)
    return min(took)


def lines_of(signal: str, table: pa.Table) -> list[bytes]:
    encode = otlp.ENCODERS[signal]
    return [otlp.protobuf_to_json(otlp.SIGNALS[signal], encode(table.slice(first, ROWS_A_REQUEST))) for first in range(0, table.num_rows, ROWS_A_REQUEST)]


def bench_json() -> None:
    made = scene.make(SKERRY, "bad-deploy", 1)
    told = made.world.telemetry(made.asked - 30 * 60 * 10**9, made.asked)
    tables = {"traces": told.spans.slice(0, 20_000), "metrics": told.points.slice(0, 20_000), "logs": told.logs.slice(0, 20_000)}
    lines = {signal: lines_of(signal, table) for signal, table in tables.items()}
    for name, bodies in lines.items():
        signal, rows = otlp.SIGNALS[name], tables[name].num_rows
        google = best(lambda signal=signal, bodies=bodies: wire._protobuf_columns(signal, [otlp.json_to_protobuf(signal, body) for body in bodies]))  # type: ignore[misc]
        fast = best(lambda signal=signal, bodies=bodies: json_columns.read(signal.message.DESCRIPTOR, wire._columns_of(signal.name), bodies))  # type: ignore[misc]
        print(f"json {name:<11} {rows / fast:12,.0f} records/s   Google's reader {rows / google:10,.0f} records/s   {google / fast:6.1f}× faster")
    _bench_load(lines, {name: table.num_rows for name, table in tables.items()})


def _bench_load(lines: dict[str, list[bytes]], rows: dict[str, int]) -> None:
    """A file of 100,000 spans and one of all signals, start-up included; each line another request."""
    with tempfile.TemporaryDirectory() as folder:
        for name, of in (("100,000 spans", {"traces": 5}), ("mixed signals", dict.fromkeys(lines, 3))):
            file = Path(folder) / "telemetry.jsonl"
            count = 0
            with file.open("wb") as out:
                for signal, times in of.items():
                    for turn in range(times):
                        count += rows[signal]
                        out.writelines(_other_ids(line, turn) + b"\n" for line in lines[signal])
            began = time.perf_counter()
            done = subprocess.run([sys.executable, "-m", "wirbel", "load", str(file)], capture_output=True, text=True, env=dict(os.environ))
            took = time.perf_counter() - began
            if done.returncode:
                raise RuntimeError(done.stderr[-2000:])
            print(f"load {name:<13} {count / took:10,.0f} records/s   {count:,} records in {took:.1f} s, start-up, packing and merging included")


def _other_ids(line: bytes, turn: int) -> bytes:
    """The same request with other trace ids, so that its spans are not known yet."""
    if not turn:
        return line
    request = json.loads(line)
    for resource in request.get("resourceSpans", []):
        for scope in resource["scopeSpans"]:
            for span in scope["spans"]:
                span["traceId"] = f"{turn:02x}" + span["traceId"][2:]
    return json.dumps(request).encode()
