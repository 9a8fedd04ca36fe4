"""Stretches of a series that teach nothing of what is normal: clear deviations, silences, and what people say is expected.

A deviation that comes again at the same time of the next week is none of them: days off come round, and would else be left out for ever.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace

import numpy as np
import numpy.typing as npt

from wirbel.core.deviation.model import Direction
from wirbel.core.expected.calendar import SECOND_NS, WEEK_S

WEEK_NS = WEEK_S * SECOND_NS


@dataclass(frozen=True)
class Stretch:
    """Times in ns, without ``end``; of a deviation its direction."""

    start: int
    end: int
    direction: Direction | None = None

    def without(self, start: int, end: int) -> Iterator[Stretch]:
        """What is left of it before and after."""
        if self.start < min(start, self.end):
            yield replace(self, end=min(start, self.end))
        if max(end, self.start) < self.end:
            yield replace(self, start=max(end, self.start))


@dataclass
class Unlearned:
    stretches: list[Stretch] = field(default_factory=list)

    def add(self, start: int, end: int) -> None:
        self.stretches.append(Stretch(start, end))

    def add_deviation(self, start: int, end: int, direction: Direction) -> None:
        """Without what was so a week before as well, which is to be learned now."""
        rest, kept = [Stretch(start, end, direction)], []
        for one in self.stretches:
            if one.direction != direction or one.end + WEEK_NS <= start or one.start + WEEK_NS >= end:
                kept.append(one)
                continue
            kept += one.without(start - WEEK_NS, end - WEEK_NS)
            rest = [left for part in rest for left in part.without(one.start + WEEK_NS, one.end + WEEK_NS)]
        self.stretches = kept + rest

    def forget_within(self, start: int, end: int) -> None:
        """All that lie in part between these times."""
        self.stretches = [one for one in self.stretches if one.end <= start or one.start >= end]

    def forget_before(self, end: int) -> None:
        """All that ended by then."""
        self.stretches = [one for one in self.stretches if one.end > end]

    def hold(self, times: npt.NDArray[np.int64]) -> npt.NDArray[np.bool_]:
        """Whether each time lies in one of them."""
        found = np.zeros(len(times), np.bool_)
        for one in self.stretches:
            found |= (times >= one.start) & (times < one.end)
        return found
