"""The time that a question looks at: its reference, and its focus with what came just before. A reference of another day is another stretch; nothing between is read, or counted."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from wirbel.core.diagnosis.choose import windows
from wirbel.core.diagnosis.model import Question, Window

Ints = npt.NDArray[np.int64]
Bools = npt.NDArray[np.bool_]


@dataclass(frozen=True)
class Clock:
    """Steps of ``step_s`` of all that was read: those of the reference first, then those up to the end of the focus.

    It stands in for a series.grid.Grid where times are only counted: ``times`` (steps,) ns are when each step begins.
    """

    question: Question
    step_s: int
    of_cells: bool = False  # steps begin with whole minutes, as cells do; else with the focus, so that none holds something of before it and of it

    @property
    def step_ns(self) -> int:
        return self.step_s * 10**9

    @cached_property
    def stretches(self) -> list[Window]:
        """What was read, each stretch in whole: one where the windows touch, else the reference and the rest."""
        reference, *rest = windows(self.question)
        recent = Window(min(window.start for window in rest), max(window.end for window in rest))
        touches = reference.start <= recent.start <= reference.end
        return [Window(reference.start, recent.end)] if touches else [reference, recent]

    @cached_property
    def firsts(self) -> list[int]:
        """When the first step of each stretch begins, ns."""
        begins = 0 if self.of_cells else self.question.focus.start
        return [window.start - (window.start - begins) % self.step_ns for window in self.stretches]

    @cached_property
    def counts(self) -> list[int]:
        return [-(-(window.end - first) // self.step_ns) for window, first in zip(self.stretches, self.firsts, strict=True)]

    @property
    def count(self) -> int:
        return sum(self.counts)

    @cached_property
    def times(self) -> Ints:
        return np.concatenate([first + np.arange(count, dtype=np.int64) * self.step_ns for first, count in zip(self.firsts, self.counts, strict=True)])

    def place(self, at: Ints) -> Ints:
        """The step that holds each time (ns), −1 where nothing was read."""
        found = np.full(np.shape(at), -1, np.int64)
        offset = 0
        for first, count in zip(self.firsts, self.counts, strict=True):
            step = (np.asarray(at) - first) // self.step_ns
            inside = (step >= 0) & (step < count)
            found[inside] = step[inside] + offset
            offset += count
        return found

    @cached_property
    def reference(self) -> Bools:
        """Steps that are whole in the reference."""
        return self._whole(self.question.reference)

    @cached_property
    def focus(self) -> Bools:
        """Steps that are whole in the focus: the last of them may have just begun."""
        return self._whole(self.question.focus)

    def _whole(self, window: Window) -> Bools:
        whole = (self.times >= window.start) & (self.times + self.step_ns <= window.end)
        return whole if whole.any() else (self.times + self.step_ns > window.start) & (self.times < window.end)

    @property
    def recent(self) -> slice:
        """Steps of the last stretch, which goes on without a gap."""
        return slice(self.count - self.counts[-1], self.count)

    @property
    def recent_first(self) -> int:
        return self.firsts[-1]

    def joined(self, at: Ints) -> Ints:
        """Times (ns) as they would be if the stretches followed one another: the reference before the rest, whichever came first."""
        if len(self.stretches) == 1:
            return at
        reference, recent = self.stretches
        moved = at + (recent.start - reference.end)
        return np.where((at >= reference.start) & (at < reference.end), moved, at)

    def apart(self, at: int) -> int:
        """The time (ns) that :meth:`joined` made into this one."""
        if len(self.stretches) == 1 or at >= self.stretches[1].start:
            return at
        reference, recent = self.stretches
        return at - (recent.start - reference.end)
