"""What a tracker holds of a series beside its profile: its last points, and what it sums up of them in each direction."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from wirbel.core.deviation.accumulate import STAYS
from wirbel.core.deviation.model import Deviation, Direction

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
Bools = npt.NDArray[np.bool_]


@dataclass
class Side:
    """The sum of one direction, and the deviation that it has opened."""

    direction: Direction
    opens: float = np.inf
    loud: float = STAYS  # usual scatters from the level, beyond which a point is loud
    sum: float = 0.0
    began: int = 0  # the point after the one at which the sum was last zero
    open: Deviation | None = None
    quiet_within: float = STAYS  # the same while it is open
    apart: float = np.inf  # the share of records beyond which a point is loud as well
    quiet: int = 0
    calm: int = 0  # the point after the one at which it was last not quiet at all
    top: float = 0.0  # how far out its peak is
    beyond: int = 0  # points in a row beyond the plain threshold

    @property
    def sign(self) -> float:
        return 1.0 if self.direction == "high" else -1.0


def _none() -> Floats:
    return np.zeros(0)


@dataclass
class Recent:
    """The last points that were read, and how they were judged; all of shape (points,)."""

    times: Ints = field(default_factory=lambda: np.zeros(0, np.int64))
    values: Floats = field(default_factory=_none)
    y: Floats = field(default_factory=_none)  # as it is judged
    samples: Floats = field(default_factory=_none)  # records behind a value, 0 where none is known
    quiet: Floats = field(default_factory=_none)  # without its season
    rough: Floats = field(default_factory=_none)  # distance from the level, in usual scatters
    z: Floats = field(default_factory=_none)  # the same with regard to how restless it is
    location: Floats = field(default_factory=_none)
    told: Floats = field(default_factory=_none)  # the same when it was read: a deviation that opens later may be judged by another level
    spread: Floats = field(default_factory=_none)
    low_limit: Floats = field(default_factory=_none)  # of the plain threshold
    high_limit: Floats = field(default_factory=_none)
    left_out: Bools = field(default_factory=lambda: np.zeros(0, np.bool_))  # from the level

    def append(self, times: Ints, values: Floats, y: Floats, samples: Floats) -> None:
        more = len(times)
        for name in ("quiet", "rough", "z", "location", "told", "spread"):
            setattr(self, name, np.r_[getattr(self, name), np.full(more, np.nan)])
        self.times, self.values, self.y, self.samples = (
            np.r_[had] for had in ((self.times, times), (self.values, values), (self.y, y), (self.samples, samples))
        )
        self.low_limit, self.high_limit = np.r_[self.low_limit, np.full(more, -np.inf)], np.r_[self.high_limit, np.full(more, np.inf)]
        self.left_out = np.r_[self.left_out, np.zeros(more, np.bool_)]

    def drop(self, count: int) -> None:
        for name, kept in vars(self).items():
            setattr(self, name, kept[count:])


@dataclass(frozen=True)
class Reading:
    """Points that are being read, with those kept before them: what does not depend on what is found; all of shape (points,)."""

    begin: int  # the first of those that are new
    blocks: Ints
    seasonal: Floats
    usual: Floats  # scatter
    samples: Floats
    unwatched: Bools
