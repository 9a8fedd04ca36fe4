"""What the watch expects of series that are drawn."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from wirbel.core.cells import MINUTE_NS
from wirbel.core.expected.band import Band
from wirbel.core.series.grid import Grid
from wirbel.store.streams import DAY_NS
from wirbel.watch import kept
from wirbel.watch.models import WatchedSeries

MOST_SERIES = 200  # of one question: small charts of more show the provisional bands
LONGEST_NS = kept.KEPT_DAYS * DAY_NS


def watched(band: Band, metric: str, environment: str | None) -> Band:
    """The band of services as the watch has it, where it has read so far: points longer than a minute have the mean of their minutes'."""
    grid = band.series.grid
    if len(band.series.entities) > MOST_SERIES or grid.end - grid.first > LONGEST_NS:
        return band
    found = WatchedSeries.objects.filter(entity_kind="service", entity__in=[one.name for one in band.series.entities], metric=metric, labels_text="")
    found = found if environment is None else found.filter(environment=environment)
    by_name: dict[str, list[int]] = {}
    for pk, name in found.values_list("pk", "entity"):
        by_name.setdefault(name, []).append(pk)
    # Of a name in several environments there is no one band.
    rows = {row: by_name[one.name][0] for row, one in enumerate(band.series.entities) if len(by_name.get(one.name, ())) == 1}
    return _with(band, rows, grid) if rows else band


def _with(band: Band, rows: dict[int, int], grid: Grid) -> Band:
    start, end = grid.first - grid.first % MINUTE_NS, grid.first + grid.count * grid.step_ns
    told = kept.bands(list(rows.values()), start, end + -end % MINUTE_NS)
    sides = [side.copy() for side in (band.expected, band.low, band.high)]
    minutes = (grid.times - start) // MINUTE_NS
    for n, row in enumerate(rows):
        for side, values in zip(sides, told[n], strict=True):
            means = _means(values, minutes, max(grid.step_ns // MINUTE_NS, 1))
            side[row] = np.where(np.isfinite(means), means, side[row])
    return replace(band, expected=sides[0], low=sides[1], high=sides[2])


def _means(values: np.ndarray, first: Sequence[int] | np.ndarray, length: int) -> np.ndarray:
    """Of the known values of stretches of so many minutes that begin at ``first``; NaN where none is."""
    known = np.isfinite(values)
    total, count = (np.r_[0.0, np.cumsum(x)] for x in (np.where(known, values, 0.0), known))
    begin = np.asarray(first)
    end = np.minimum(begin + length, len(values))
    n = count[end] - count[begin]
    return np.where(n > 0, (total[end] - total[begin]) / np.maximum(n, 1), np.nan)
