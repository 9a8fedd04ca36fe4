"""Notices that something is off: what a person watching the fronts would see, from cells only.

Until Wirbel's own watch exists, a drill's detection is this: each minute of each service that people or
messages reach, its p95, its failures and its rate against what the two hours before it were like.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
from scipy import stats

from wirbel.core import arrow
from wirbel.core.diagnosis.model import Signal
from wirbel.core.expected.band import Band, expected_band
from wirbel.core.expected.windows import departures
from wirbel.core.series import cells as cell_series
from wirbel.core.series.grid import Grid
from wirbel.core.series.percentiles import HEADLINE
from wirbel.core.signals import spans
from wirbel.core.topology.graph import EntityId

Floats = npt.NDArray[np.float64]
LASTING = 3  # minutes in a row that make a detection
LATELY = 20  # minutes before somebody asks
FAILING_BITS = 14.0
ROLLING = 3  # minutes of failures taken together
BEFORE = 60  # minutes that failures are judged by
STATIC_TIMES = 2.0  # a plain threshold on p95: so many times its usual value
STATIC_FAILED = 0.05  # and on the share of failures


@dataclass(frozen=True)
class Seen:
    service: str
    signal: Signal
    onset: int  # ns
    detected: int
    bits: float


@dataclass(frozen=True)
class Watched:
    seen: Seen | None  # the first thing worth asking about
    anyway: Seen | None  # what to ask about where nothing is: the front that is least as usual, of late
    threshold: int | None  # when a plain threshold would have told


def watch(whole: pa.Table, start: int, end: int) -> Watched:
    """Looks at the cells of [start, end) ns."""
    grid = Grid(start, end)
    table = cell_series.entries(whole)
    group, names = arrow.codes(table["service"])
    if not names:
        return Watched(None, None, None)
    found = cell_series.by_point(table, grid, [EntityId("service", name) for name in names], group)
    latency, traffic = expected_band(found.latency()), expected_band(found.rate())
    fronts = cell_series.entry_services(whole)
    consumers = sorted(set(cell_series.of_kind(table, [spans.CONSUMER])["service"].unique().to_pylist()) - set(fronts))
    seen: list[Seen] = []
    thresholds: list[int] = []
    for name in (*fronts, *consumers):
        i = names.index(name)
        seen += [*_slow(name, latency.row(i)), *_failing(name, grid, found.totals, i), *_missing(name, traffic.row(i))]
        at = _threshold(grid, found.totals, i) if name in fronts else None
        thresholds += [at] if at else []
    seen.sort(key=lambda one: (one.service not in fronts, one.detected, -one.bits))
    return Watched(seen[0] if seen else None, _least_usual(fronts, names, latency), min(thresholds, default=None))


def _least_usual(fronts: list[str], names: list[str], latency: Band) -> Seen | None:
    """The latency of the last LATELY minutes of the front whose surprise is greatest in the mean."""
    grid = latency.series.grid
    lately = {name: float(np.nan_to_num(latency.surprise[names.index(name), -LATELY:]).mean()) for name in fronts}
    worst = max(lately, key=lambda name: lately[name], default=None)
    return None if worst is None else Seen(worst, "latency", grid.end - LATELY * grid.step_ns, grid.end, lately[worst])


def _told(name: str, signal: Signal, grid: Grid, stretches: list[tuple[int, int]], bits: Floats) -> list[Seen]:
    step = grid.step_ns
    return [
        Seen(name, signal, grid.first + a * step, grid.first + min(a + LASTING, grid.count) * step, float(np.median(bits[a:b])))
        for a, b in stretches
        if b - a >= LASTING
    ]


def _slow(name: str, band: Band) -> list[Seen]:
    return _told(name, "latency", band.series.grid, departures(band), band.surprise[0])


def _failing(name: str, grid: Grid, found: cell_series.Totals, i: int) -> list[Seen]:
    share = found.failed[i] / np.maximum(found.count[i], 1e-9)
    failed, rows = _rolling(share * found.sample_size[i], ROLLING), _rolling(found.sample_size[i], ROLLING)
    before_failed, before_rows = (np.r_[np.zeros(ROLLING), _rolling(x, BEFORE)[:-ROLLING]] for x in (share * found.sample_size[i], found.sample_size[i]))
    p = stats.betabinom.sf(np.round(failed) - 1, np.maximum(np.round(rows), 1), 0.5 + before_failed, 5 + np.maximum(before_rows - before_failed, 0))
    bits = np.where((failed >= 3) & (before_rows > 100), -np.log2(np.maximum(p, 1e-300)), 0.0)
    hot = bits >= FAILING_BITS
    return _told(name, "errors", grid, _runs(hot), bits)


def _missing(name: str, band: Band) -> list[Seen]:
    usual, grid = np.nan_to_num(band.expected[0]), band.series.grid
    gone = (band.series.values[0] < 0.4 * usual) & (band.surprise[0] >= 6) & (usual * grid.covered_s > 0)
    return [one for one in _told(name, "throughput", grid, _runs(_rolling(gone.astype(float), LASTING) >= LASTING), band.surprise[0])]


def _threshold(grid: Grid, found: cell_series.Totals, i: int) -> int | None:
    """When three minutes in a row were over what a team would have set."""
    values = np.nan_to_num(found.percentile(HEADLINE)[i])
    usual = np.median(values[: grid.count // 2])
    share = found.failed[i] / np.maximum(found.count[i], 1e-9)
    over = (values > STATIC_TIMES * usual) | (share > STATIC_FAILED)
    runs = [a for a, b in _runs(over) if b - a >= LASTING and a >= grid.count // 3]
    return grid.first + (runs[0] + LASTING) * grid.step_ns if runs else None


def _rolling(values: Floats, width: int) -> Floats:
    """Sums of the last ``width`` values."""
    total = np.r_[0.0, np.cumsum(values)]
    first = np.maximum(np.arange(len(values)) + 1 - width, 0)
    return np.asarray(total[1:] - total[first])


def _runs(hot: npt.NDArray[np.bool_]) -> list[tuple[int, int]]:
    edges = np.flatnonzero(np.diff(np.r_[0, hot.astype(int), 0]))
    return [(int(a), int(b)) for a, b in edges.reshape(-1, 2)]
