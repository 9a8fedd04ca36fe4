"""Drills in memory, many at a time: straight into the heart, without a database."""

from __future__ import annotations

import os
import pickle
from collections.abc import Iterator, Sequence
from dataclasses import asdict, dataclass
from multiprocessing import get_context
from pathlib import Path
from typing import Any

from wirbel.core.errors import WirbelError
from wirbel.demo.drill import observed, scene
from wirbel.demo.drill.answer import answer, question
from wirbel.demo.drill.grade import Grade, grade
from wirbel.demo.drill.memory import Memory
from wirbel.demo.drill.observed import Observed
from wirbel.demo.faults import NoSuchPlace
from wirbel.demo.telemetry import habits
from wirbel.demo.world import drawn
from wirbel.demo.world.skerry import SKERRY

HISTORY_NS = 90 * scene.MINUTE_NS
SKERRY_LINE, RANDOM = "skerry", "random"
OWN = "own"  # habits: those of the world


@dataclass(frozen=True)
class Drill:
    """One fault in one world, told by a team of some habits."""

    world: str  # SKERRY_LINE or RANDOM: then the seed draws the world too
    kind: str
    seed: int
    habits: str = OWN

    def memory(self) -> tuple[Memory, scene.Scene]:
        """What the team knows, and what was; raises NoSuchPlace."""
        topology = SKERRY if self.world == SKERRY_LINE else drawn.draw(self.seed)
        made = scene.make(topology, self.kind, self.seed, history_ns=HISTORY_NS)
        own = habits.EVERYTHING if self.world == SKERRY_LINE else habits.draw(topology, self.seed)
        return Memory.of(made, own if self.habits == OWN else habits.NAMED[self.habits]), made


def graded(drill: Drill) -> tuple[Grade, dict[str, Any], dict[str, Any]] | None:
    """The marks, the answer and the truth of a drill; None where the fault would be felt nowhere."""
    try:
        known, made = drill.memory()
    except NoSuchPlace:
        return None
    truth = made.fault.truth.as_dict() | {
        "begins": made.fault.begins,
        "asked": made.asked,
        "start": made.start,
        "spans": known.spans.num_rows,
        "seen_before": False,
    }
    if truth["change"] not in {change.id for change in known.changes}:
        truth["change"] = None  # nobody recorded it
    found = answer(known, made.start, made.asked)
    return grade(truth, found, drill.seed), found, truth


def watched(drill: Drill, folder: Path) -> Observed | None:
    """What was observed of a drill, kept in ``folder``; None where there is nothing to learn from."""
    file = folder / f"{drill.world}-{drill.kind}-{drill.seed}-{drill.habits}.pickle"
    if file.exists():
        return pickle.loads(file.read_bytes())  # type: ignore[no-any-return]
    found = _observed(drill)
    unfinished = file.with_suffix(f".{os.getpid()}")
    unfinished.write_bytes(pickle.dumps(found))
    unfinished.replace(file)
    return found


def _observed(drill: Drill) -> Observed | None:
    try:
        known, made = drill.memory()
        seen, asked, focus = question(known, made.start, made.asked)
        case = known.case(asked.service, asked.signal, focus)
        if asked.signal != "throughput":
            case.check_enough()
        return observed.of(case, made.fault.truth, drill.world, drill.seed, seen.seen is not None)
    except WirbelError:
        return None


def _task(arguments: tuple[str, dict[str, Any], str | None]) -> Any:
    import pyarrow as pa

    pa.set_cpu_count(1)
    what, drill, folder = arguments
    return graded(Drill(**drill)) if what == "graded" else watched(Drill(**drill), Path(folder or "."))


def run(what: str, drills: Sequence[Drill], jobs: int, folder: Path | None = None) -> Iterator[tuple[Drill, Any]]:
    """Results of :func:`graded` or :func:`watched` in the order of ``drills``, ``jobs`` at a time."""
    tasks = [(what, asdict(drill), None if folder is None else str(folder)) for drill in drills]
    if jobs == 1:
        yield from zip(drills, map(_task, tasks), strict=True)
        return
    with get_context("spawn").Pool(jobs, maxtasksperchild=40) as pool:
        yield from zip(drills, pool.imap(_task, tasks), strict=True)
