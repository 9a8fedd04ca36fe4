"""The scope's signal for the time ribbon, and the two windows that it proposes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from math import ceil

from wirbel.core.cells import MINUTE_NS
from wirbel.core.deviation.disturbance import Of, clear_onset
from wirbel.core.deviation.symptoms import SYMPTOMS, harm
from wirbel.core.expected.band import Band, expected_band
from wirbel.core.expected.windows import LOOK_BACK_NS, WindowProposal, departures, propose, reference_before
from wirbel.core.series import cells as cell_series
from wirbel.core.series.grid import Grid
from wirbel.core.series.percentiles import HEADLINE
from wirbel.core.series.series import Series
from wirbel.core.topology.graph import EntityId
from wirbel.explore import read_series
from wirbel.store import reading
from wirbel.store.models import Stream
from wirbel.watch import bands, found

RANGE_NS = 6 * 3600 * 10**9  # that is shown if nobody chose one
SHORTEST_RANGE_NS = 10 * 60 * 10**9  # of what there is
CALM_NS = 90 * MINUTE_NS  # from the beginning of the reference to the end of the focus, from which on both are long
CALM_STEP_NS = 5 * MINUTE_NS
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
        """Whose requests tell of it; None: all."""
        return self.among if self.service is None else [self.service]

    @property
    def entity(self) -> EntityId:
        return EntityId("service", self.service) if self.service else EntityId("environment", self.environment or "all environments")

    def entered(self, start: int, end: int) -> list[str] | None:
        """The services whose requests are meant: of all, those that none of them was seen to call, where people come in. None where nothing is known of that yet."""
        if self.service:
            return [self.service]
        step = read_series.grid_of(Stream.CELLS, start, end, self.environment).cell_step
        return reading.entry_points(start, end, self.environment, self.among, step)


EVERYTHING = Shown()


def signal(start: int, end: int, shown: Shown = EVERYTHING) -> Signal:
    """The p95 of what is shown over [start, end)."""
    points, past = read_series.read_together(start, end, shown.environment, shown.entered(start, end)).over_time(shown.entity)
    band = expected_band(points.latency(), past.latency())
    band = bands.watched(band, HEADLINE, shown.environment) if shown.service else band
    stored = reading.time_range(shown.environment, summaries=True)
    stretches = _found_by_watch(band.series.grid, shown)
    off = departures(band) if stretches is None else stretches
    return Signal(band, propose(band, stored[1] if stored else None, off), off, stored)


def _found_by_watch(grid: Grid, shown: Shown) -> list[tuple[int, int]] | None:
    """Points [from, to) at which the watch has found requests of it disturbed, and people hurt if any were; what ended last at the end.

    None where it has not come so far, or knows too little yet.
    """
    if not found.judged((grid.first, grid.end), shown.environment):
        return None
    stretches: dict[bool, list[tuple[int, int]]] = {True: [], False: []}
    disturbed = (one for one in found.disturbances(grid.first, grid.end, shown.environment, shown.services) if not one.is_better)
    for one in disturbed:
        mine = [member for member in one.members if member.metric in SYMPTOMS and (shown.services is None or member.service in shown.services)]
        hurting = [member for member in mine if harm(member.metric, member.deviation)]
        if mine:
            stretches[bool(hurting)].append(_points_of(hurting or mine, grid))
    return sorted((one for one in stretches[True] or stretches[False] if one[1] > one[0]), key=lambda stretch: (stretch[1], stretch[0]))


def _points_of(members: Sequence[Of], grid: Grid) -> tuple[int, int]:
    """From when they were clear to the last end, of what goes on the end of the grid."""
    ends = [grid.end if member.deviation.ended is None else member.deviation.ended for member in members]
    first, last = ((time - grid.first) / grid.step_ns for time in (clear_onset(members), max(ends)))
    return max(int(first), 0), min(ceil(last), grid.count)


def latency_before(start: int, end: int, shown: Shown) -> Series:
    """The same p95 over a range that is past."""
    grid, table = read_series.read_past(start, end, shown.environment, shown.entered(start, end))
    return cell_series.by_point(table, grid, [shown.entity]).latency()


def in_minutes(focus: tuple[int, int], reference: tuple[int, int], departed: bool = True) -> tuple[tuple[int, int], tuple[int, int]]:
    """Windows from and to whole minutes, as figures are kept by the minute; as they are where that would leave nothing of one.

    Where nothing has ``departed``, long ones move in steps of five minutes: what is seen is still for so long, and all who look ask the same.
    """
    unit = MINUTE_NS if departed or focus[1] - reference[0] < CALM_NS else CALM_STEP_NS
    start = focus[0] - focus[0] % unit
    whole = (start, focus[1]), (reference[0] - reference[0] % unit, min(reference[1] - reference[1] % unit, start))
    return whole if whole[1][1] > whole[1][0] else (focus, reference)


def reference_for(service: str, start: int, end: int, environment: str | None = None) -> tuple[int, int]:
    """A quiet stretch before ``start``: up to 90 minutes of the service's own p95 inside its band."""
    grid = read_series.grid_of(Stream.CELLS, start - LOOK_BACK_NS, start, environment)
    table = reading.cells(grid.first, start, environment, [service], cell_series.CELL_COLUMNS, grid.cell_step)
    return reference_before(table, service, start, end, grid.step)
