"""All services at once: the figures of both windows, and whether each is slow, failing or silent. However many there are."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TypeVar

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from wirbel.core import arrow
from wirbel.core.cells import MINUTE_NS
from wirbel.core.expected.band import Learned, Memory, judged_by, learn
from wirbel.core.expected.health import Departed, Verdict, departed, judge
from wirbel.core.series import cells as cell_series
from wirbel.core.series import served as served_series
from wirbel.core.series.grid import Grid
from wirbel.core.series.series import Series
from wirbel.core.topology.graph import EntityId
from wirbel.explore import read_series, verdicts
from wirbel.store import kept, reading
from wirbel.store.models import Stream
from wirbel.store.scan import Where
from wirbel.watch import found as found_by_watch

Window = tuple[int, int]
Floats = npt.NDArray[np.float64]
R = TypeVar("R")


@dataclass(frozen=True)
class Fleet:
    """Services by name, and their figures in the focus and the reference, shape (services,)."""

    names: Sequence[str]
    verdicts: Sequence[Verdict]
    now: cell_series.Totals
    before: cell_series.Totals

    @cached_property
    def place(self) -> Mapping[str, int]:
        return {name: place for place, name in enumerate(self.names)}

    @cached_property
    def traffic_share(self) -> Floats:
        """Of the busiest service's requests; of one that is silent, in the reference."""
        now, before = (totals.count / max(float(totals.count.max(initial=0)), 1e-9) for totals in (self.now, self.before))
        return np.where([one.word == "silent" for one in self.verdicts], before, now)

    @cached_property
    def priority(self) -> Floats:
        return np.round([one.priority(share) for one, share in zip(self.verdicts, self.traffic_share, strict=True)], 1)

    @cached_property
    def order(self) -> list[int]:
        """Places of the services, worst first."""
        return sorted(range(len(self.names)), key=lambda i: (-self.priority[i], -self.now.sample_size[i], self.names[i]))

    def verdict(self, name: str) -> Verdict:
        """Of one by its name."""
        return self.verdicts[self.place[name]] if name in self.place else Verdict("learning", 0.0, None)

    def called(self, word: str) -> list[str]:
        """Names of those of a verdict, worst first."""
        return [self.names[i] for i in self.order if self.verdicts[i].word == word]


def fleet(
    start: int, end: int, focus: Window, reference: Window, environment: str | None, among: Sequence[str] | None = None, quantiles: bool = False
) -> Fleet:
    """Of all services, or ``among`` some, that serve requests in [start, end) ns or in one of the windows.

    As the watch has found; what it does not know yet is judged by the hours before the focus. Without ``quantiles``, figures have none.
    """
    fine = read_series.fine_grid(start, end, environment)
    points = None if fine is None else read_series.read_fine(fine, environment, among)
    known = _who(min(start, focus[0], reference[0]), max(end, focus[1], reference[1]), environment, among)
    names = tuple(sorted({*known, *(points["service"].unique().to_pylist() if points is not None else ())}))
    asked = _Asked(names, environment, None if among is None else tuple(among))
    now, before = (asked.totals(window, quantiles) for window in (focus, reference))
    watched = found_by_watch.symptoms(focus, environment, among)
    told = {name: verdict for name in names if (verdict := verdicts.by_watch(name, watched))}
    rest = [place for place, name in enumerate(names) if name not in told]
    if rest:
        unknown = replace(asked, names=tuple(names[place] for place in rest))
        found = unknown.departed(focus) if points is None or fine is None else unknown.before(focus).judge(focus, *unknown.of(points, fine))
        told |= zip(unknown.names, judge((focus, reference), now.rows(rest), before.rows(rest), found), strict=True)
    return Fleet(names, [told[name] for name in names], now, before)


def _who(start: int, end: int, environment: str | None, among: Sequence[str] | None) -> list[str]:
    grid = read_series.grid_of(Stream.CELLS, start, end, environment)
    return list(reading.serving(grid.first, end, environment, among, grid.cell_step))


@dataclass(frozen=True)
class _Past:
    """What is expected of the headline percentile and of the rate from some time on, and who had served anything before it, shape (services,)."""

    latency: Learned
    rate: Learned
    seen: npt.NDArray[np.bool_]

    def judge(self, window: Window, latency: Series, rate: Series) -> Departed:
        return departed(window, judged_by(self.latency, latency), judged_by(self.rate, rate))


@dataclass(frozen=True)
class _Asked:
    """Services of which something is asked; what is made of stored blocks for all of them is kept for the next who asks."""

    names: tuple[str, ...]
    environment: str | None
    among: tuple[str, ...] | None

    def totals(self, window: Window, quantiles: bool) -> cell_series.Totals:
        """Of the minutes that begin in a window."""
        start, step = window[0] - window[0] % MINUTE_NS, reading.finest_step(Stream.CELLS, window[0], self.environment)
        kind = "totals and quantiles" if quantiles else "totals"
        return self._kept(kind, start, window[1], step, lambda: read_series.totals(window, self.names, self.environment, self.among, quantiles=quantiles))

    def before(self, window: Window) -> _Past:
        """What the time before a window teaches."""
        grid = _before(self._grid(window))

        def make() -> _Past:
            latency, rate = self.of(self._read(grid), grid)
            return _Past(learn(latency), learn(rate), np.any(latency.known, axis=1))

        return self._kept("before", grid.first, grid.end, grid.cell_step, make)

    def departed(self, window: Window) -> Departed:
        """How far they are from what the time before a window teaches. Of the series that tell it nothing is kept: of thousands they are large."""
        grid = self._grid(window)

        def make() -> Departed:
            past = self.before(window)
            return past.judge(window, *self.of(self._read(grid), grid, past.seen))

        return self._kept("departed", _before(grid).first, grid.end, grid.cell_step, make)

    def _grid(self, window: Window) -> Grid:
        return read_series.grid_of(Stream.CELLS, *window, self.environment)

    def of(self, table: pa.Table, grid: Grid, seen: npt.NDArray[np.bool_] | None = None) -> tuple[Series, Series]:
        """The same of a table of what was served."""
        entities = [EntityId("service", name) for name in self.names]
        return served_series.over_time(table, grid, entities, arrow.place_in(table["service"], self.names), seen)

    def _read(self, grid: Grid) -> pa.Table:
        return reading.headlines(grid.first, grid.end, self.environment, self.among, grid.cell_step)

    def _kept(self, kind: str, start: int, end: int, step: int, make: Callable[[], R]) -> R:
        return kept.made_of(Where(Stream.CELLS, start, end, self.environment, self.among, step), (kind, self.names), make)


def _before(grid: Grid) -> Grid:
    """The points that teach what is expected in those of ``grid``."""
    return Grid(grid.first - Memory.of(grid.step).window * grid.step_ns, grid.first, grid.step)
