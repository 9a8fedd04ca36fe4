"""Detects and diagnoses without the truth: what a drill's answer is, from the store or from memory.

``python -m wirbel.demo.drill.answer START END TRUTH_FOLDER`` answers from the store and prints one JSON object. The
folder is only named so that this process shuts itself out of it.
"""

from __future__ import annotations

import json
import sys
import time
from collections.abc import Callable
from dataclasses import asdict
from pathlib import Path
from typing import Any, Protocol

import pyarrow as pa

from wirbel.core.deviation.grouping import group
from wirbel.core.deviation.links import linked
from wirbel.core.diagnosis.model import Signal
from wirbel.core.errors import NotEnoughData, WirbelError
from wirbel.core.series import cells as cell_series
from wirbel.core.series.grid import Grid
from wirbel.core.signals.changes import Change
from wirbel.core.topology.graph import EntityGraph
from wirbel.demo.drill import plain, sealed
from wirbel.demo.drill.noticed import of_resources, threshold_at, told_at
from wirbel.demo.drill.watch import Seen, Watched, watch
from wirbel.runtime import environment

MINUTE_NS = 60 * 10**9
FOCUS_NS, LATER_NS = 20 * MINUTE_NS, 10 * MINUTE_NS  # from the onset, and after it was noticed: what is dated too early is looked at too


class Known(Protocol):
    """What is known of a stretch of time when somebody asks."""

    @property
    def cells(self) -> pa.Table: ...

    @property
    def changes(self) -> list[Change]: ...

    @property
    def points(self) -> pa.Table: ...

    def graph(self) -> EntityGraph:
        """Who has to do with whom."""
        ...

    def diagnosis(self, service: str, signal: Signal, focus: tuple[int, int]) -> dict[str, Any]:
        """The answer as scripts get it; raises WirbelError."""
        ...


def question(known: Known, start: int, end: int) -> tuple[Watched, Seen, tuple[int, int]]:
    """What was noticed in [start, end) ns, what is asked about, and the focus of the question."""
    watched = watch(known.cells, start, end)
    asked = watched.seen or watched.anyway
    if asked is None:
        raise NotEnoughData("nothing is known of any service")
    return watched, asked, (asked.onset, min(max(asked.onset + FOCUS_NS, asked.detected + LATER_NS), end))


def look(known: Known, start: int, end: int) -> tuple[dict[str, Any], Seen, tuple[int, int]]:
    """What was noticed in [start, end) ns, what is asked about and what the plain methods say of it; the question's service and signal, and its focus."""
    watched, seen, focus = question(known, start, end)
    given = plain.given(known.cells, known.changes, start, end, focus, seen.service)
    found = {
        "seen": None if watched.seen is None else asdict(watched.seen),
        "noticed": _noticed(known, watched, Grid(start, end)),
        "asked": {"service": seen.service, "signal": seen.signal, "focus": list(focus)},
        "plain": {name: method(given)[:5] for name, method in plain.METHODS.items()},
    }
    return found, seen, focus


def answer(known: Known, start: int, end: int) -> dict[str, Any]:
    """What was noticed in [start, end) ns, the diagnosis of it, and what the plain methods say."""
    found, seen, focus = look(known, start, end)
    return found | diagnosed(lambda: known.diagnosis(seen.service, seen.signal, focus))


def diagnosed(diagnosis: Callable[[], dict[str, Any]]) -> dict[str, Any]:
    """A diagnosis and how long it took; an error where it has none to give."""
    began = time.perf_counter()
    try:
        found = diagnosis()
    except WirbelError as error:
        found = {"error": str(error), "candidates": [], "onset": None}
    return {"diagnosis": found, "took_s": round(time.perf_counter() - began, 2)}


def _noticed(known: Known, watched: Watched, grid: Grid) -> list[dict[str, Any]]:
    """What was noticed of requests that matters, and of what runs short, each with the number of the disturbance that it is part of."""
    serving = set(cell_series.entries(known.cells)["service"].unique().to_pylist())
    short = list(of_resources(known.points, serving, grid))
    groups = group([*watched.found, *short], linked(known.graph))
    number = {one.id: n for n, disturbance in enumerate(groups) for one in disturbance.members}
    return [
        {
            "at": told_at(one),
            "threshold": threshold_at(one),
            "entity": [one.entity.kind, one.entity.name],
            "service": one.service,
            "metric": one.metric,
            "disturbance": number[one.id],
        }
        for one in (*watched.noticed, *short)
    ]


def main() -> None:
    start, end, folder = int(sys.argv[1]), int(sys.argv[2]), Path(sys.argv[3])
    sealed.seal(folder)
    with environment.database():
        from wirbel.demo.drill.stored import Stored

        print(json.dumps(answer(Stored.read(start, end), start, end)))


if __name__ == "__main__":
    main()
