"""What the store knows of a drill."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import pyarrow as pa

from wirbel.core.diagnosis.model import Signal
from wirbel.core.series import cells as cell_series
from wirbel.core.series.grid import Grid
from wirbel.core.signals.changes import Change
from wirbel.core.topology.graph import EntityGraph
from wirbel.demo.world.told import ENVIRONMENT
from wirbel.inquiry.ask import Asked, ask
from wirbel.store import reading


@dataclass(frozen=True)
class Stored:
    cells: pa.Table
    changes: list[Change]
    points: pa.Table
    window: tuple[int, int]

    @classmethod
    def read(cls, start: int, end: int) -> Stored:
        cells = reading.cells(Grid(start, end).first, end, ENVIRONMENT, None, cell_series.CELL_COLUMNS)
        return cls(cells, reading.changes(start, end, ENVIRONMENT), reading.points(start, end, ENVIRONMENT), (start, end))

    def diagnosis(self, service: str, signal: Signal, focus: tuple[int, int]) -> dict[str, Any]:
        return ask(Asked(service, None, signal, focus, None, ENVIRONMENT)).contract()

    def graph(self) -> EntityGraph:
        return reading.graph_of_hours(*self.window, ENVIRONMENT)
