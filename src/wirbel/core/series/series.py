"""One measure over time: what charts, bands, verdicts and the diagnosis take, whichever signal it comes from.

Cells become series in cells.py, metric samples in points.py, single requests in events.py.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
import numpy.typing as npt

from wirbel.core.series.grid import Grid
from wirbel.core.topology.graph import EntityId

Floats = npt.NDArray[np.float64]
Kind = Literal["rate", "count", "quantile", "mean", "share", "utilization", "level"]
"""What a value is: of events a second, how many, of a distribution, a share of records, how much of a limit is used, or how much there is at the time."""


def since_first(values: Floats, rows: Floats, seen: npt.NDArray[np.bool_] | None = None) -> tuple[Floats, Floats]:
    """Values of what is counted, and their sample sizes: zero is a value from the first record on (``seen``; by default where ``rows`` are), NaN before it.

    ``rows`` are the records behind each value, with points along the last axis. A zero counts as a sample of one.
    """
    known = np.maximum.accumulate(rows > 0 if seen is None else seen, axis=-1)
    return np.where(known, values, np.nan), np.where(known, np.maximum(rows, 1), 0.0)


@dataclass(frozen=True)
class Series:
    """A measure of one or more entities at the points of a grid.

    ``values``, ``sample_size``, and the bounds ``low`` and ``high`` where a value is known only between them: shape
    (entities, points). A value is NaN where nothing is known: zero is a value. ``sample_size`` are the records
    behind each value, 0 where there is none. ``parts`` tells rows of the same entity apart: the
    value of a label. Raises ValueError if the shapes do not agree.
    """

    entities: Sequence[EntityId]
    name: str
    unit: str  # UCUM, as OpenTelemetry has it
    kind: Kind
    grid: Grid
    values: Floats
    sample_size: Floats
    low: Floats | None = None
    high: Floats | None = None
    parts: Sequence[str] = ()

    def __post_init__(self) -> None:
        shape = (len(self.entities), self.grid.count)
        given = [array for array in (self.values, self.sample_size, self.low, self.high) if array is not None]
        if any(array.shape != shape for array in given) or len(self.parts) not in (0, len(self.entities)):
            raise ValueError(f"{self.name}: {[array.shape for array in given]} and {len(self.parts)} parts, where {shape} is the shape")

    @property
    def known(self) -> npt.NDArray[np.bool_]:
        """Where there is a value with something behind it. Shape (entities, points)."""
        return np.isfinite(self.values) & (self.sample_size > 0)

    def row(self, index: int) -> Series:
        """One entity's, still of two axes."""
        only = slice(index, index + 1)
        return replace(
            self,
            entities=self.entities[only],
            values=self.values[only],
            sample_size=self.sample_size[only],
            low=None if self.low is None else self.low[only],
            high=None if self.high is None else self.high[only],
            parts=self.parts[only],
        )

    def mean(self, window: tuple[int, int]) -> Floats:
        """Mean of the known values at the points inside a window (ns). Shape (entities,), NaN where none is known."""
        inside = self.values[:, self.grid.inside(window)]
        count = np.isfinite(inside).sum(axis=1)
        return np.where(count > 0, np.nansum(inside, axis=1) / np.maximum(count, 1), np.nan)


def together(series: Sequence[Series]) -> Series:
    """The sum of what is counted apart, at the same points; elementwise. A point that one of them does not know is not known."""
    first = series[0]
    values, samples = (np.sum([getattr(one, name) for one in series], axis=0) for name in ("values", "sample_size"))
    return Series(first.entities, first.name, first.unit, first.kind, first.grid, values, samples)
