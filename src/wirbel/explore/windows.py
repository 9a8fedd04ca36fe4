"""The scope's signal for the time ribbon, and the two windows that it proposes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core.cells import MINUTE_NS
from wirbel.core.expected.band import SURPRISED, Band, expected_band
from wirbel.core.expected.windows import WindowProposal, departures, propose
from wirbel.core.series import cells as cell_series
from wirbel.core.series.grid import Grid
from wirbel.core.series.percentiles import HEADLINE
from wirbel.core.signals import spans
from wirbel.explore import read_series
from wirbel.store import reading
from wirbel.store.models import Stream

RANGE_NS = 6 * 3600 * 10**9
LONGEST_NS = 14 * 24 * 3600 * 10**9  # of a window that is compared, or whose records are read
LONGEST_RANGE_NS = 400 * 24 * 3600 * 10**9  # of what is drawn: summaries are kept so long


@dataclass(frozen=True)
class Signal:
    """p95 over time of a scope, with its band."""

    grid: Grid
    values: np.ndarray
    samples: np.ndarray
    band: Band
    proposal: WindowProposal
    deviations: list[tuple[int, int]]
    services: list[str]


def entry_services(table: pa.Table) -> list[str]:
    """Services that no other instrumented service calls: where people come in. All, if there is none such."""
    serving = set(cell_series.entries(table)["service"].unique().to_pylist())
    asked = table.filter(pc.equal(table["peer_kind"], "service"))["peer"].unique().to_pylist()
    answering = set(cell_series.of_kind(table, [spans.SERVER])["service"].unique().to_pylist())
    # People wait for answers; consumers and jobs count only where nothing answers anybody.
    return sorted(answering - set(asked)) or sorted(serving - set(asked)) or sorted(serving)


def signal(start: int, end: int, environment: str | None = None, service: str | None = None) -> Signal:
    """The p95 of a service, or of all entry points, over [start, end)."""
    grid = read_series.grid_of(Stream.CELLS, start, end, environment)
    table = reading.cells(grid.first, end, environment, None if service is None else [service], cell_series.CELL_COLUMNS, grid.cell_step)
    services = [service] if service else entry_services(table)
    table = cell_series.entries(table)
    table = table.filter(pc.is_in(table["service"], value_set=pa.array(services, pa.string())))
    found = cell_series.by_point(table, grid)
    values, samples = found.percentile(HEADLINE), found.rows
    band = expected_band(values, samples, grid.step).row(0)
    flat = np.nan_to_num(values[0])
    return Signal(grid, values[0], samples[0], band, propose(flat, band, grid.step), departures(flat, band, grid.step), services)


def reference_for(service: str, start: int, end: int, environment: str | None = None) -> tuple[int, int]:
    """A quiet stretch before ``start``: up to 90 minutes of the service's own p95 inside its band."""
    first = start - RANGE_NS // 2
    first -= first % MINUTE_NS
    found = signal(first, start, environment, service)
    seen = np.flatnonzero(found.samples > 0)
    longest, shortest = (max(1, round(minutes * 60 / found.grid.step)) for minutes in (90, 10))
    if not len(seen):
        return start - max(end - start, 30 * MINUTE_NS), start
    loud = (found.band.surprise >= SURPRISED) & (np.nan_to_num(found.values) > np.nan_to_num(found.band.expected))
    stop = len(loud)
    # The minutes right before the focus may hold the first signs of it.
    while stop > seen[0] + shortest and loud[stop - 1]:
        stop -= 1
    begin = stop
    while begin > seen[0] and stop - begin < longest and not (loud[begin - 1] and loud[max(begin - 2, 0)]):
        begin -= 1
    begin = min(begin, max(stop - shortest, int(seen[0])))
    return int(found.grid.times[begin]), min(int(found.grid.first + stop * found.grid.step_ns), start)
