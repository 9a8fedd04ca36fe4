"""A stretch of one series outside of what is expected of it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Direction = Literal["high", "low", "absent"]
Mark = Literal["expected", "noise", "new normal"]
"""What people say of a deviation."""


@dataclass(frozen=True)
class Peak:
    """Where a deviation was farthest out: the value, and what was expected, in the unit of the series."""

    at: int  # ns
    actual: float | None
    expected: float
    low: float
    high: float


@dataclass(frozen=True)
class Deviation:
    """Times in ns. ``onset`` lies between ``onset_low`` and ``onset_high`` (95 %); ``opened`` is when it was noticed, ``ended`` None while it goes on.

    ``threshold_at`` is when a plain threshold would have fired (core.deviation.plain); None if it did not.
    """

    direction: Direction
    onset: int
    onset_low: int
    onset_high: int
    opened: int
    ended: int | None
    peak: Peak
    bits: float
    threshold_at: int | None
    provisional: bool

    @property
    def lead_s(self) -> float | None:
        """How much earlier it was noticed than by the plain threshold, s."""
        return None if self.threshold_at is None else (self.threshold_at - self.opened) / 1e9
