"""The scope's signal for the time ribbon, and the two windows that it proposes."""

from __future__ import annotations

from dataclasses import dataclass

import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core.expected.band import Band, expected_band
from wirbel.core.expected.windows import LOOK_BACK_NS, WindowProposal, departures, propose, reference_before
from wirbel.core.series import cells as cell_series
from wirbel.core.series.series import Series
from wirbel.core.topology.graph import EntityId
from wirbel.explore import read_series
from wirbel.store import reading
from wirbel.store.models import Stream

RANGE_NS = 6 * 3600 * 10**9
LONGEST_NS = 14 * 24 * 3600 * 10**9  # of a window that is compared, or whose records are read
LONGEST_RANGE_NS = 400 * 24 * 3600 * 10**9  # of what is drawn: summaries are kept so long


@dataclass(frozen=True)
class Signal:
    """The headline percentile over time of a scope as its band has it."""

    band: Band
    proposal: WindowProposal
    deviations: list[tuple[int, int]]

    @property
    def series(self) -> Series:
        return self.band.series


def signal(start: int, end: int, environment: str | None = None, service: str | None = None) -> Signal:
    """The p95 of a service, or of all entry points, over [start, end)."""
    grid = read_series.grid_of(Stream.CELLS, start, end, environment)
    table = reading.cells(grid.first, end, environment, None if service is None else [service], cell_series.CELL_COLUMNS, grid.cell_step)
    services = [service] if service else cell_series.entry_services(table)
    table = cell_series.entries(table)
    table = table.filter(pc.is_in(table["service"], value_set=pa.array(services, pa.string())))
    scope = EntityId("service", service) if service else EntityId("environment", environment or "all environments")
    band = expected_band(cell_series.by_point(table, grid, [scope]).latency())
    return Signal(band, propose(band), departures(band))


def reference_for(service: str, start: int, end: int, environment: str | None = None) -> tuple[int, int]:
    """A quiet stretch before ``start``: up to 90 minutes of the service's own p95 inside its band."""
    grid = read_series.grid_of(Stream.CELLS, start - LOOK_BACK_NS, start, environment)
    table = reading.cells(grid.first, start, environment, [service], cell_series.CELL_COLUMNS, grid.cell_step)
    return reference_before(table, service, start, end, grid.step)
