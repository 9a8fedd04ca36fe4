"""The scope's signal for the time ribbon, and the two windows that it proposes."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core.cells import MINUTE_NS
from wirbel.core.expected.band import Band, expected_band
from wirbel.core.expected.windows import LOOK_BACK_NS, WindowProposal, departures, propose, reference_before
from wirbel.core.series import cells as cell_series
from wirbel.core.series.series import Series
from wirbel.core.topology.graph import EntityId
from wirbel.explore import read_series
from wirbel.store import reading
from wirbel.store.models import Stream

RANGE_NS = 6 * 3600 * 10**9  # that is shown if nobody chose one
SHORTEST_RANGE_NS = 10 * 60 * 10**9  # of what there is
MARGIN_NS = 60 * 10**9  # before the first record
LONGEST_NS = 14 * 24 * 3600 * 10**9  # of a window that is compared, or whose records are read
LONGEST_RANGE_NS = 400 * 24 * 3600 * 10**9  # of what is drawn: summaries are kept so long


@dataclass(frozen=True)
class Signal:
    """The headline percentile over time of a scope as its band has it."""

    band: Band
    proposal: WindowProposal
    deviations: list[tuple[int, int]]
    stored: tuple[int, int] | None  # the earliest and the latest time of anything that is stored, ns

    @property
    def series(self) -> Series:
        return self.band.series


@dataclass(frozen=True)
class Shown:
    """A service, or all entry points; with ``among``, those of these services."""

    environment: str | None = None
    service: str | None = None
    among: Sequence[str] | None = None

    @property
    def services(self) -> Sequence[str] | None:
        """Whose cells tell of it; None: all."""
        return self.among if self.service is None else [self.service]

    @property
    def entity(self) -> EntityId:
        return EntityId("service", self.service) if self.service else EntityId("environment", self.environment or "all environments")

    def served(self, table: pa.Table) -> Callable[[pa.Table], pa.Table]:
        """What chooses the cells of requests that it serves; ``table`` tells who is called by nobody."""
        names = pa.array([self.service] if self.service else cell_series.entry_services(table), pa.string())

        def choose(cells: pa.Table) -> pa.Table:
            entered = cell_series.entries(cells)
            return entered.filter(pc.is_in(entered["service"], value_set=names))

        return choose


EVERYTHING = Shown()


def signal(start: int, end: int, shown: Shown = EVERYTHING) -> Signal:
    """The p95 of what is shown over [start, end)."""
    drawn = read_series.read(start, end, (), shown.environment, cell_series.CELL_COLUMNS, shown.services)
    points, past = drawn.over_time(shown.served(drawn.taught), [shown.entity])
    band = expected_band(points.latency(), past.latency())
    stored = reading.time_range(shown.environment)
    return Signal(band, propose(band, stored[1] if stored else None), departures(band), stored)


def latency_before(start: int, end: int, shown: Shown) -> Series:
    """The same p95 over a range that is past."""
    grid, table = read_series.read_past(start, end, shown.environment, shown.services)
    return cell_series.by_point(shown.served(table)(table), grid, [shown.entity]).latency()


def in_minutes(focus: tuple[int, int], reference: tuple[int, int]) -> tuple[tuple[int, int], tuple[int, int]]:
    """Windows from and to whole minutes, as figures are kept by the minute; as they are where that would leave nothing of one."""
    start = focus[0] - focus[0] % MINUTE_NS
    whole = (start, focus[1]), (reference[0] - reference[0] % MINUTE_NS, min(reference[1] - reference[1] % MINUTE_NS, start))
    return whole if whole[1][1] > whole[1][0] else (focus, reference)


def reference_for(service: str, start: int, end: int, environment: str | None = None) -> tuple[int, int]:
    """A quiet stretch before ``start``: up to 90 minutes of the service's own p95 inside its band."""
    grid = read_series.grid_of(Stream.CELLS, start - LOOK_BACK_NS, start, environment)
    table = reading.cells(grid.first, start, environment, [service], cell_series.CELL_COLUMNS, grid.cell_step)
    return reference_before(table, service, start, end, grid.step)
