"""How durations are distributed: shares of requests in steps of equal ratio, of two windows side by side."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from wirbel.core import arrow, sketch

Floats = npt.NDArray[np.float64]
MERGED = 8  # buckets of the sketch that make one step: four steps an octave, as a screen can show
OCTAVE = 2**sketch.SCALE


@dataclass(frozen=True)
class Distribution:
    """``edges`` (s) of the steps, shape (steps + 1,), and the share of all requests in each, shape (steps,) for each window; zeros where it has none."""

    edges: Floats
    shares: list[Floats]


def distribution(windows: list[pa.Table]) -> Distribution:
    """Of tables with columns ``bucket`` (of the sketch) and ``count``, one a window. Durations of zero are in the first step."""
    steps = [np.floor_divide(arrow.numbers(table["bucket"]).astype(np.int64), MERGED) for table in windows]
    timed = [step[step > sketch.ZERO_BUCKET // MERGED] for step in steps]
    known = np.concatenate([*timed, np.zeros(0, np.int64)])
    if not len(known):
        return Distribution(np.zeros(0), [np.zeros(0) for _ in windows])
    first, last = int(known.min()), int(known.max())
    counts = [np.bincount(np.maximum(step, first) - first, arrow.numbers(table["count"]), last - first + 1) for step, table in zip(steps, windows, strict=True)]
    edges = np.exp2(np.arange(first, last + 2) * MERGED / OCTAVE)
    return Distribution(edges, [count / max(float(count.sum()), 1e-300) for count in counts])
