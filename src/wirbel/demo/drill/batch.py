"""Drills in memory, many at a time: straight into the heart, without a database."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import asdict, dataclass, replace
from multiprocessing import get_context
from pathlib import Path
from typing import Any

import numpy as np

from wirbel.core.diagnosis.case import Case
from wirbel.core.errors import WirbelError
from wirbel.core.signals.changes import parse_time
from wirbel.core.text import rfc3339
from wirbel.demo.drill import digest, observed, prepared, scene
from wirbel.demo.drill.grade import Grade, grade, innocents
from wirbel.demo.drill.memory import Memory
from wirbel.demo.drill.moved import moved
from wirbel.demo.drill.observed import Observed
from wirbel.demo.drill.prepared import Prepared
from wirbel.demo.faults import NoSuchPlace
from wirbel.demo.other import drill as other
from wirbel.demo.telemetry import habits
from wirbel.demo.telemetry.habits import Habits
from wirbel.demo.world import drawn
from wirbel.demo.world.skerry import SKERRY
from wirbel.demo.world.topology import Topology

HISTORY_NS = 90 * scene.MINUTE_NS
SKERRY_LINE, RANDOM, OTHER = "skerry", "random", "other"
OWN = "own"  # habits: those of the world
FORGOTTEN = 0.15  # of the guilty changes of random worlds, that nobody tells of
UNSAID = 0.4  # of their faults, of which nothing is logged
EARLY, EARLY_NS = 0.5, scene.MINUTE_NS  # of their guilty changes, that are told of so long before they take effect


@dataclass(frozen=True)
class Drill:
    """One fault in one world, told by a team of some habits."""

    world: str  # SKERRY_LINE, or RANDOM or OTHER: then the seed draws the world too
    kind: str
    seed: int
    habits: str = OWN
    reference: float | None = None  # days before the focus; None: just before it

    @property
    def name(self) -> str:
        return f"{self.world}-{self.kind}-{self.seed}-{self.habits}"

    def prepared(self, folder: Path, whole: bool = True) -> Prepared | None:
        """The drill up to the diagnosis, kept in ``folder``; None where the fault would be felt nowhere. See prepared.prepare for ``whole``."""
        made_by = digest.of_other_world() if self.world == OTHER else digest.of_worlds()
        return prepared.kept(folder / "worlds" / made_by / ("whole" if whole else "asked"), self.name, lambda: self._prepare(whole))

    def _prepare(self, whole: bool) -> Prepared | None:
        try:
            known, truth = other.memory(self.kind, self.seed, self.habits == "no-traces") if self.world == OTHER else self._of_first_world()
        except NoSuchPlace:
            return None
        if truth["change"] not in {change.id for change in known.changes}:
            truth["change"] = None  # nobody recorded it
        return prepared.prepare(known, truth | {"innocents": innocents(truth, known.changes)}, whole)

    def _of_first_world(self) -> tuple[Memory, dict[str, Any]]:
        known, made = self.memory()
        truth = made.fault.truth.as_dict() | {
            "begins": made.fault.begins,
            "start": made.start,
            "asked": made.asked,
            "spans": known.spans.num_rows,
            "seen_before": False,
        }
        return known, truth | {"entities": [*truth["entities"], *_later_ids(truth["entities"], known)]}

    def memory(self) -> tuple[Memory, scene.Scene]:
        """What the team knows, and what was; raises NoSuchPlace."""
        topology = SKERRY if self.world == SKERRY_LINE else drawn.draw(self.seed)
        made = scene.make(topology, self.kind, self.seed, history_ns=HISTORY_NS, says=self.world == SKERRY_LINE or self._drawn(44) >= UNSAID)
        if self.world == RANDOM and self._drawn(45) < EARLY:
            _tell_earlier(made, self._drawn(46) * EARLY_NS)
        return Memory.of(made, self._habits(topology), self._forgotten(made)), made

    def _habits(self, topology: Topology) -> Habits:
        own = habits.EVERYTHING if self.world == SKERRY_LINE else habits.draw(topology, self.seed)
        if self.habits == OWN:
            return own
        # A random world that sends no traces keeps its other habits: metrics it must send, or nothing is known of it.
        return habits.NAMED[self.habits] if self.world == SKERRY_LINE else replace(own, **habits.LESS[self.habits])

    def _forgotten(self, made: scene.Scene) -> str | None:
        """The change at fault where nobody tells of it, though others are told of."""
        return made.fault.truth.change if self.world == RANDOM and self._drawn(43) < FORGOTTEN else None

    def _drawn(self, what: int) -> float:
        return float(np.random.default_rng([self.seed, what, *self.kind.encode()]).random())


def _tell_earlier(made: scene.Scene, by_ns: float) -> None:
    for change in made.world.happenings.changes:
        if change["id"] == made.fault.truth.change:
            change["at"] = rfc3339(parse_time(change["at"], "at") - round(by_ns))


def _later_ids(entities: Sequence[Sequence[str]], known: Memory) -> list[tuple[str, str]]:
    """Instances at fault under the ids that they have with other versions."""
    ids = known.spans["instance"].unique().to_pylist()
    return [("instance", one) for kind, name in entities if kind == "instance" for one in ids if one and one.startswith(f"{name}-")]


def graded(drill: Drill, folder: Path) -> tuple[Grade, dict[str, Any], dict[str, Any]] | None:
    """The marks, the answer and the truth of a drill; None where the fault would be felt nowhere."""
    found = drill.prepared(folder)
    if found is not None and drill.reference is not None:
        found = moved(found, round(drill.reference * 24 * 60) * scene.MINUTE_NS)
    if found is None:
        return None
    given = found.answer()
    return grade(found.truth, given, drill.seed), given, found.truth


def watched(drill: Drill, folder: Path) -> Observed | None:
    """What was observed of a drill, kept in ``folder``; None where there is nothing to learn from."""
    return prepared.kept(folder / "observed" / f"{digest.of_worlds()}-{digest.of_observations()}", drill.name, lambda: _observed(drill, folder))


def _observed(drill: Drill, folder: Path) -> Observed | None:
    found = drill.prepared(folder, whole=False)
    if found is None or found.question is None or found.records is None:
        return None
    case = Case(found.question, found.records)
    try:
        if case.question.signal != "throughput":
            case.check_enough()
    except WirbelError:
        return None
    return observed.of(case, found.truth, drill.world, drill.seed, found.looked["seen"] is not None)


def _task(arguments: tuple[str, dict[str, Any], str]) -> Any:
    import pyarrow as pa

    pa.set_cpu_count(1)
    what, drill, folder = arguments
    return {"graded": graded, "watched": watched}[what](Drill(**drill), Path(folder))


def run(what: str, drills: Sequence[Drill], jobs: int, folder: Path) -> Iterator[tuple[Drill, Any]]:
    """Results of :func:`graded` or :func:`watched` in the order of ``drills``, ``jobs`` at a time; what can be used again is kept in ``folder``."""
    tasks = [(what, asdict(drill), str(folder)) for drill in drills]
    if jobs == 1:
        yield from zip(drills, map(_task, tasks), strict=True)
        return
    with get_context("spawn").Pool(jobs, maxtasksperchild=40) as pool:
        yield from zip(drills, pool.imap(_task, tasks), strict=True)
