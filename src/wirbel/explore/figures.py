"""Totals as the API's figures: rates, shares with intervals, percentiles."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from wirbel.core.series import percentiles
from wirbel.core.series.cells import Totals
from wirbel.core.text import rfc3339
from wirbel.explore.schemas import Figures, Interval, Spark, WindowOut


def window_out(start: int, end: int) -> WindowOut:
    return WindowOut(start=rfc3339(start), end=rfc3339(end))


def maybe(value: float) -> float | None:
    """JSON has no not-a-number: missing is null."""
    return float(value) if math.isfinite(value) else None


def listed(values: np.ndarray) -> list[float | None]:
    """Six significant digits, which no screen exceeds; missing values as null."""
    return list(_rounded(values))


def _rounded(values: np.ndarray) -> np.ndarray:
    size = np.abs(values)
    with np.errstate(divide="ignore", invalid="ignore"):
        scale = 10.0 ** (5 - np.floor(np.log10(np.where(size > 0, size, 1.0))))
        rounded = np.round(values * scale) / scale
    found = rounded.astype(object)
    found[~np.isfinite(values)] = None
    return found


def figures(totals: Totals, group: int, seconds: float) -> Figures:
    """One group's figures over a window of so many seconds."""
    rows, count = totals.sample_size[group], totals.count[group]
    low, high = (bound[group] for bound in totals.failed_bounds)
    return Figures(
        requests=int(rows),
        rate=float(count / seconds),
        failed_share=maybe(totals.failed_share[group]),
        failed_low=float(low),
        failed_high=float(high),
        mean=maybe(totals.mean[group]),
        **_percentiles(totals, group),
    )


def _percentiles(totals: Totals, group: int) -> dict[str, Any]:
    """Each percentile and its interval, under the names of the schema."""
    found: dict[str, Any] = {}
    for name in percentiles.SHARES:
        bounds = totals.bounds(name)
        low, high = (None, None) if bounds is None else (maybe(side[group]) for side in bounds)
        found |= {name: maybe(totals.percentile(name)[group]), f"{name}_interval": Interval(low=low, high=high)}
    return found


def sparks(band: np.ndarray) -> list[Spark]:
    """One a row of values and of both sides of their band, shape (3, rows, points)."""
    return [Spark(values=values, low=low, high=high) for values, low, high in _rounded(band).swapaxes(0, 1).tolist()]
