"""How writing, asking and size grow from one million to thirty million spans over fourteen days; draws docs/growth.png.

Run: ./wirbel bench growth. It takes about a quarter of an hour and 2 GB of disk.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from pathlib import Path

from django.db import connection, transaction
from django.db.models import Sum

from wirbel.core.signals import spans
from wirbel.demo.making import recorded
from wirbel.demo.world.skerry import SKERRY
from wirbel.store import packer
from wirbel.store.models import Block, Stream

DAYS = 14
HOUR_NS = 3600 * 10**9
NOW = 1_772_000_000 * 10**9
START = NOW - DAYS * 24 * HOUR_NS
SIZES = (1_000_000, 10_000_000, 30_000_000)
SPANS_AT_RATE_ONE = 40_000 * DAYS * 24  # about
ASK = """
import json, resource, statistics, time
from wirbel.runtime import environment
def timed(work):
    began = time.perf_counter(); work(); return time.perf_counter() - began
with environment.database():
    from bench.growth import HOUR_NS, NOW, START
    from wirbel.explore.breakdown import split
    from wirbel.explore.service import service_view
    from wirbel.explore.health import overview
    from wirbel.explore.traces import Filter
    from wirbel.store import blocks, reading
    from wirbel.store.models import Block
    found = {}
    ids = []
    for n in range(20):
        block = Block.objects.filter(stream="spans", step=0).order_by("id")[n * Block.objects.filter(stream="spans", step=0).count() // 20]
        ids.append(blocks.read(Block.objects.filter(id=block.id), ["trace_id"])[0]["trace_id"][n].as_py())
    blocks._cache.__init__(blocks.CACHE_BYTES)
    took = sorted(timed(lambda: reading.trace(one)) for one in ids)
    found["trace by id, ms"] = [took[10] * 1e3, took[18] * 1e3]
    for name, start in (("1 h", NOW - HOUR_NS), ("14 days", START)):
        focus, reference = (NOW - HOUR_NS // 2, NOW), (NOW - HOUR_NS, NOW - HOUR_NS // 2)
        work = lambda: service_view("sailing-api", start, NOW, focus, reference, None, 100, ())
        cold = timed(work)
        found[f"service charts {name}, ms"] = [statistics.median(timed(work) for _ in range(5)) * 1e3, cold * 1e3]
        cold = timed(lambda: overview(start, NOW, focus, reference, None))
        found[f"overview {name}, ms"] = [statistics.median(timed(lambda: overview(start, NOW, focus, reference, None)) for _ in range(5)) * 1e3, cold * 1e3]
    work = lambda: split((START - HOUR_NS, NOW + HOUR_NS), Filter(service="quay-web", outcome="ok"), "http.route", None)
    found["filter and group, cold s"] = timed(work)
    found["filter and group, cached s"] = timed(work)
    found["peak memory of the asking process, MB"] = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(json.dumps(found))
"""
PACK = """
import resource
from wirbel.runtime import environment
with environment.database():
    from wirbel.store import packer
    packer.pack_all()
    print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024)
"""


def run(code: str) -> str:
    return subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout


def fill(wanted: int) -> dict[str, float]:
    """The demo world at a pace that gives about so many spans in fourteen days; only the writing and merging are timed."""
    Block.objects.all().delete()
    count, seconds = 0, 0.0
    step = HOUR_NS if wanted > 2_000_000 else 6 * HOUR_NS
    for first in range(START, NOW, step):
        table = recorded(SKERRY, 1, first, first + step, wanted / SPANS_AT_RATE_ONE).traffic.spans(first, first + step)
        began = time.perf_counter()
        with transaction.atomic():
            packer.write(Stream.SPANS, spans.combine([table]))
        while packer.merge_once(first):
            pass
        seconds += time.perf_counter() - began
        count += table.num_rows
    size = Block.objects.filter(stream=Stream.SPANS).aggregate(size=Sum("size"))["size"]
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_database_size(current_database())")
        database = cursor.fetchone()[0]
    return {"spans": count, "written and merged a second": count / seconds, "B a span": size / count, "database, MB": database / 1e6}


def worker_memory() -> float:
    """Peak of a worker that finds half a million spans waiting."""
    from wirbel.store import segments

    table = recorded(SKERRY, 2, NOW - 8 * HOUR_NS, NOW - 7 * HOUR_NS, 20.0).traffic.spans(NOW - 8 * HOUR_NS, NOW - 8 * HOUR_NS + 2600 * 10**9)
    for first in range(0, table.num_rows, 512):
        segments.append(Stream.SPANS, table.slice(first, 512))
    return float(run(PACK))


def draw(measured: list[dict[str, float]], file: Path) -> None:
    import matplotlib

    matplotlib.use("Agg")
    import matplotlib.pyplot as plt

    millions = [row["spans"] / 1e6 for row in measured]

    def first(row: dict, name: str) -> float:
        value = row[name]
        return value[0] if isinstance(value, list) else value

    panels = [
        ("spans written and merged a second, thousands", {"one worker": [row["written and merged a second"] / 1e3 for row in measured]}),
        (
            "size in the database, MB",
            {"all": [row["database, MB"] for row in measured], "blocks of spans": [row["B a span"] * row["spans"] / 1e6 for row in measured]},
        ),
        ("trace by its id, ms", {"median": [row["trace by id, ms"][0] for row in measured], "19th of 20": [row["trace by id, ms"][1] for row in measured]}),
        (
            "charts, ms",
            {name: [first(row, f"{name}, ms") for row in measured] for name in ("service charts 1 h", "service charts 14 days", "overview 14 days")},
        ),
        ("filter and group over all, s", {name: [row[f"filter and group, {name} s"] for row in measured] for name in ("cold", "cached")}),
        ("peak memory of the asking process, MB", {"": [row["peak memory of the asking process, MB"] for row in measured]}),
    ]
    figure, axes = plt.subplots(2, 3, figsize=(12, 6.4), layout="constrained")
    for axis, (title, lines) in zip(axes.flat, panels, strict=True):
        for dash, (name, values) in zip(("-", "--", ":"), lines.items(), strict=False):
            axis.plot(millions, values, dash, marker="o", color="#1B2A33", markersize=4, linewidth=1.2, label=name)
        axis.set_title(title, loc="left", fontsize=10)
        axis.set_xscale("log")
        axis.set_xticks(millions, [f"{m:.0f} M" for m in millions])
        axis.minorticks_off()
        axis.set_ylim(bottom=0)
        axis.grid(axis="y", color="#D5CFBF", linewidth=0.6)
        for side in ("top", "right"):
            axis.spines[side].set_visible(False)
        if len(lines) > 1:
            axis.legend(frameon=False, fontsize=8)
    figure.patch.set_facecolor("#FCFBF7")
    figure.savefig(file, dpi=100)


def main() -> None:
    measured = []
    for wanted in SIZES:
        row = fill(wanted) | json.loads(run(ASK))
        measured.append(row)
        print(json.dumps({name: [round(v, 1) for v in value] if isinstance(value, list) else round(value, 2) for name, value in row.items()}), flush=True)
    Block.objects.all().delete()
    print(f"peak memory of a worker that finds half a million spans waiting {worker_memory():.0f} MB")
    draw(measured, Path(os.environ["WIRBEL_ROOT"]) / "docs" / "growth.png")
