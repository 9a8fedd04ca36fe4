"""How many log records a service writes, by how serious they are."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import pyarrow as pa

from wirbel.core.series import logs
from wirbel.core.series.grid import Grid
from wirbel.core.series.series import Series, together
from wirbel.core.text import rfc3339
from wirbel.core.topology.graph import EntityId
from wirbel.explore.earlier import earlier, shifted
from wirbel.explore.figures import listed
from wirbel.explore.schemas import Before, LogLevelSeries, LogRates
from wirbel.store.models import Stream
from wirbel.store.reading import Rows
from wirbel.store.scan import Where, scan


@dataclass(frozen=True)
class Count:
    """Work of a scan: the records of a service counted by stretch and level (columns of core.series.logs.COUNTED)."""

    service: str
    step_ns: int

    def __call__(self, table: pa.Table, window: tuple[int, int] | None) -> pa.Table:
        return logs.count(Rows("time", (self.service,))(table, window), self.step_ns)


def log_rates(service: str, start: int, end: int, environment: str | None, beside: Sequence[Before]) -> LogRates:
    """Log records a second of a service over [start, end) ns; none before its first."""
    found = _rates(service, start, end, environment)
    grid = found[0].grid
    return LogRates(
        start=rfc3339(grid.first),
        step_s=grid.step,
        levels=[LogLevelSeries(name=level, values=listed(series.values[0])) for level, series in zip(logs.LEVELS, found, strict=True)],
        earlier=[earlier(together(_rates(service, *shifted(start, end, before), environment)), before) for before in beside],
    )


def _rates(service: str, start: int, end: int, environment: str | None) -> Sequence[Series]:
    grid = Grid(start, end)
    where = Where(Stream.LOGS, grid.first, end, environment, (service,), fresh=True)
    parts = scan(where, ["time", "service", "severity", "weight"], Count(service, grid.step_ns), small=True)
    counted = pa.concat_tables(parts) if parts else logs.COUNTED.empty_table()
    return logs.rates(counted, grid, EntityId("service", service))
