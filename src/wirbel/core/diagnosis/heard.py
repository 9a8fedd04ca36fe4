"""When in the reference requests could be heard of: not before the first of them, as the program may not have sent anything yet, and not in a pause."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from wirbel.core.diagnosis.model import Question, Window
from wirbel.core.diagnosis.requests import Requests
from wirbel.core.series import events
from wirbel.core.series.grid import Grid
from wirbel.core.series.series import Series
from wirbel.core.topology.graph import EntityId

Floats = npt.NDArray[np.float64]
Bools = npt.NDArray[np.bool_]


@dataclass(frozen=True)
class Heard:
    """``count`` are the requests of each step of the reference."""

    reference: Window
    count: Series

    @classmethod
    def of(cls, question: Question, here: Requests) -> Heard:
        quiet, reference = ~here.in_focus, question.reference
        entity, grid = EntityId("service", question.service), Grid(reference.start, reference.end)
        return cls(reference, events.counted(entity, here.start[quiet], here.adjusted_count[quiet], grid))

    @cached_property
    def seconds(self) -> float:
        """For how long, s."""
        grid = self.count.grid
        lasts = np.minimum(grid.times + grid.step_ns, self.reference.end) - np.maximum(grid.times, self.reference.start)
        return float(lasts[self._steps].sum()) / 1e9

    def at(self, times: Floats) -> Bools:
        """Which of some times of the reference, s, are such, shape (times,)."""
        grid = self.count.grid
        step = (times * 1e9 - grid.first) // grid.step_ns
        return self._steps[np.clip(step, 0, grid.count - 1).astype(np.int64)]

    @cached_property
    def _steps(self) -> Bools:
        """Steps that are; all, where no request ever came."""
        count = self.count
        known = np.flatnonzero(count.known[0])
        if not len(known):
            return np.ones(count.grid.count, np.bool_)
        heard = np.zeros(count.grid.count, np.bool_)
        heard[known[0] :] = ~events.paused(np.nan_to_num(count.values[0, known[0] :]))
        return heard
