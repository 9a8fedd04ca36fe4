"""What the watch expects of series that are drawn."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import numpy.typing as npt

from wirbel.core.cells import MINUTE_NS
from wirbel.core.expected.band import Band, expected_band
from wirbel.core.series.series import Series
from wirbel.core.topology.graph import EntityId
from wirbel.store.streams import DAY_NS
from wirbel.watch import kept
from wirbel.watch.models import WatchedSeries

Floats = npt.NDArray[np.float64]
MOST_SERIES = 200  # of one question: small charts of more show the provisional bands
LONGEST_NS = kept.KEPT_DAYS * DAY_NS


def drawn(series: Series, past: Series, metric: str, environment: str | None) -> Band:
    """The band of services as the watch has it, where it has read so far; elsewhere a provisional one, by the time before each point in ``past``."""
    told = _told(series, metric, environment)
    return _with(expected_band(series, past, asked=np.asarray(np.isnan(told).any(axis=(0, 1)))), told)


def watched(band: Band, metric: str, environment: str | None) -> Band:
    """A band as the watch has it, where it has read so far."""
    return _with(band, _told(band.series, metric, environment))


def _with(band: Band, told: Floats) -> Band:
    expected, low, high = np.where(np.isfinite(told), told, np.stack([band.expected, band.low, band.high]))
    return replace(band, expected=expected, low=low, high=high)


def _told(series: Series, metric: str, environment: str | None) -> Floats:
    """What the watch expects, and its band, shape (3, entities, points), NaN where it has not read: points longer than a minute have the mean of their minutes'."""
    grid = series.grid
    found = np.full((3, len(series.entities), grid.count), np.nan)
    start, end = grid.first - grid.first % MINUTE_NS, grid.first + grid.count * grid.step_ns
    rows = _kept_as(series.entities, metric, environment) if len(series.entities) <= MOST_SERIES and end - start <= LONGEST_NS else {}
    if rows:
        minutes, length = (grid.times - start) // MINUTE_NS, max(grid.step_ns // MINUTE_NS, 1)
        of_minutes = kept.bands(list(rows.values()), start, end + -end % MINUTE_NS)
        found[:, list(rows)] = _means(of_minutes, minutes, length).swapaxes(0, 1)
    return found


def _kept_as(entities: Sequence[EntityId], metric: str, environment: str | None) -> dict[int, int]:
    """Keys of watched series by the place of their service."""
    found = WatchedSeries.objects.filter(entity_kind="service", entity__any_of=[one.name for one in entities], metric=metric, labels_text="")
    found = found if environment is None else found.filter(environment=environment)
    by_name: dict[str, list[int]] = {}
    for pk, name in found.values_list("pk", "entity"):
        by_name.setdefault(name, []).append(pk)
    # Of a name in several environments there is no one band.
    return {row: by_name[one.name][0] for row, one in enumerate(entities) if len(by_name.get(one.name, ())) == 1}


def _means(values: Floats, begin: npt.NDArray[np.int64], length: int) -> Floats:
    """Along the last axis, of the known values of stretches of so many minutes that begin at ``begin``; NaN where none is."""
    if length == 1:
        return values[..., begin]
    known = np.isfinite(values)
    end = np.minimum(begin + length, values.shape[-1])

    def sums(of: Floats) -> Floats:
        so_far = np.concatenate([np.zeros((*of.shape[:-1], 1)), np.cumsum(of, axis=-1)], axis=-1)
        return so_far[..., end] - so_far[..., begin]

    n = sums(known.astype(float))
    return np.where(n > 0, sums(np.where(known, values, 0.0)) / np.maximum(n, 1), np.nan)
