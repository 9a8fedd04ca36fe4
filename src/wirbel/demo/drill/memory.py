"""A stretch of telemetry in memory, read as the store would give it: drills by the hundred need no database."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from wirbel.core import arrow, cells, cells_of_metrics
from wirbel.core.diagnosis import choose, inquire, mean_requests
from wirbel.core.diagnosis.case import Case, Records
from wirbel.core.diagnosis.model import Question, Signal, Window
from wirbel.core.errors import NotEnoughData
from wirbel.core.expected.windows import reference_before
from wirbel.core.patterns.counts import Count
from wirbel.core.signals import logs, points, spans
from wirbel.core.signals.changes import Change, from_plain
from wirbel.core.signals.entities import entities_of
from wirbel.core.text import rfc3339
from wirbel.core.topology.graph import EntityGraph, relations_of
from wirbel.core.topology.parents import parent_rows, resolve
from wirbel.demo.drill.scene import CHUNK_NS, Scene
from wirbel.demo.telemetry.habits import Habits
from wirbel.inquiry import schemas


@dataclass(frozen=True)
class Memory:
    """All that a team has of [start, end) ns when somebody asks."""

    start: int
    end: int
    spans: pa.Table
    cells: pa.Table
    logs: pa.Table
    points: pa.Table
    changes: list[Change]

    @classmethod
    def of(cls, made: Scene, habits: Habits, forgotten: str | None = None) -> Memory:
        """The telemetry of a scene, as far as it is sent; the change ``forgotten`` is told by nobody."""
        parts = [habits.of(made.world.telemetry(first, min(first + CHUNK_NS, made.asked))) for first in range(made.start, made.asked, CHUNK_NS)]
        told = spans.concat([part.spans for part in parts])
        told = told.filter(pa.array(arrow.numbers(told["start"]) + arrow.numbers(told["duration"]) < made.asked))  # others are not over
        table, _ = resolve(told, parent_rows(told), {})
        samples = points.combine([part.points for part in parts])
        # What is announced later than the question is not known yet.
        announced = [change for change in made.world.happenings.changes if str(change["at"]) <= rfc3339(made.asked) and change["id"] != forgotten]
        changes = sorted((from_plain(change) for change in habits.changes_of(announced)), key=lambda change: change.at)
        return cls(
            made.start,
            made.asked,
            table,
            cells.derive(table) if table.num_rows else _counted(samples, (made.start, made.asked), made.world.traffic.kept),
            logs.combine([part.logs for part in parts]),
            samples,
            changes,
        )

    def graph(self) -> EntityGraph:
        entities = entities_of(self.spans) | entities_of(self.points)
        return EntityGraph(relations_of(self.spans, entities, self.start, self.end))

    def diagnosis(self, service: str, signal: Signal, focus: tuple[int, int]) -> dict[str, Any]:
        """The answer as an inquiry of the store would give it."""
        return schemas.contract(inquire.answer(self.case(service, signal, focus)), 0).model_dump(by_alias=True)

    def case(self, service: str, signal: Signal, focus: tuple[int, int]) -> Case:
        reference = reference_before(self.cells, service, *focus)
        question = Question(service, None, signal, Window(*focus), Window(*reference), "auto")
        near = [change for change in self.changes if focus[0] - choose.CHANGES_BEFORE_NS <= change.at < focus[1]]
        counted = Count((question.reference.start, question.reference.end), focus)(self.logs)
        return Case(
            question,
            Records(spans=self._requests(question), cells=self.cells, points=self.points, patterns=counted, changes=near, by_metrics=not self.spans.num_rows),
        )

    def _requests(self, question: Question) -> pa.Table:
        kept = []
        for window in choose.windows(question):
            chosen = choose.choose([choose.Symptom(question.service, question.operation)(self.spans, (window.start, window.end))])
            kept.append(choose.weighted(choose.OfTraces(chosen.ids.cast(pa.binary()))(self.spans, None), chosen.weight))
        table = choose.joined(kept)
        if not table.num_rows:
            table = mean_requests.of_cells(self.cells, question.service, question.operation, _whole(question))
        if not table.num_rows:
            raise NotEnoughData(f"no requests of {question.service} are known in these windows.")
        return table


def _whole(question: Question) -> tuple[int, int]:
    return min(question.reference.start, question.focus.start), max(question.reference.end, question.focus.end)


def _counted(samples: pa.Table, stretch: tuple[int, int], kept: float) -> pa.Table:
    """Cells of metrics of a world of whose requests a share is recorded: its counts scatter as those of so few do."""
    found = cells_of_metrics.derive(samples)
    minute = arrow.numbers(found["minute"])
    found = found.filter(pa.array((minute >= stretch[0]) & (minute < stretch[1])))
    rows = np.maximum(np.rint(arrow.numbers(found["count"]) * kept), 1).astype(np.int64)
    return found.set_column(found.schema.get_field_index("rows"), "rows", pa.array(rows))
