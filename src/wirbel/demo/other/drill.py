"""A drill of the second world: what a team knows of it when somebody asks, and the truth."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa

from wirbel.core import arrow, cells, cells_of_metrics
from wirbel.core.signals import logs, points, spans
from wirbel.core.signals.changes import from_plain
from wirbel.core.text import rfc3339
from wirbel.demo.drill.memory import Memory
from wirbel.demo.faults import NoSuchPlace
from wirbel.demo.other import happen, plan, records
from wirbel.demo.other.engine import Sim
from wirbel.demo.other.happen import Story, Trouble

DAY_S, MINUTE_S = 86_400.0, 60.0
FIRST_DAY_S = 20_590 * DAY_S  # 2026-05-17
BEFORE_S, AFTER_S = 70 * MINUTE_S, 25 * MINUTE_S


def memory(kind: str, seed: int, no_traces: bool = False) -> tuple[Memory, dict[str, Any]]:
    """What is known, and the truth; the same for the same arguments. Raises NoSuchPlace where the trouble has no place in the world of the seed."""
    rng = np.random.default_rng([seed, 7, *kind.encode()])
    onset = FIRST_DAY_S + float(rng.integers(0, 14)) * DAY_S + float(rng.integers(0, 1440)) * MINUTE_S + float(rng.integers(0, 6)) * 10
    start = (onset - BEFORE_S) // MINUTE_S * MINUTE_S
    sim = Sim(plan.draw(seed), start, onset + AFTER_S, np.random.default_rng([seed, 11, *kind.encode()]))
    story = Story(sim, rng, onset)
    trouble = happen.TROUBLES[kind](story)
    if trouble is None:
        raise NoSuchPlace(f"{kind} has no place in the world {seed}.")
    trouble.kind = kind
    happen.everyday(story, trouble)
    sim.run()
    forgotten = trouble.change if rng.random() < happen.FORGOTTEN else None
    known = _known(sim, story, forgotten, rng, no_traces)
    return known, _truth(sim, trouble, known)


def _known(sim: Sim, story: Story, forgotten: str | None, rng: np.random.Generator, no_traces: bool) -> Memory:
    begin, end = round(sim.start * 1e9), round(sim.end * 1e9)
    kept, told, versions = float(rng.choice([1.0, 1.0, 0.5, 0.3])), bool(rng.random() < 0.6), bool(rng.random() < 0.8)
    table = spans.empty() if no_traces else records.spans_of(sim, kept, told, versions)
    samples = records.points_of(sim)
    changes = [change for change in story.changes if change["id"] != forgotten and change["at"] <= rfc3339(end)]
    counted = cells.derive(table) if table.num_rows else cells_of_metrics.derive(samples)
    minute = arrow.numbers(counted["minute"])
    return Memory(
        begin,
        end,
        table,
        counted.filter(pa.array((minute >= begin) & (minute < end))),
        logs.combine([records.logs_of(sim)]),
        points.combine([samples]),
        sorted((from_plain(change) for change in changes), key=lambda change: change.at),
    )


def _truth(sim: Sim, trouble: Trouble, known: Memory) -> dict[str, Any]:
    told = {change.id for change in known.changes}
    return {
        "kind": trouble.kind,
        "entities": trouble.named(),
        "mechanisms": trouble.mechanisms,
        "services": trouble.services,
        "change": trouble.change if trouble.change in told else None,
        "onset": round(trouble.onset * 1e9),
        "begins": round(trouble.onset * 1e9),
        "end": round(sim.end * 1e9),
        "hurts": trouble.hurts,
        "start": known.start,
        "asked": known.end,
        "spans": known.spans.num_rows,
        "seen_before": False,
    }
