"""The values of all series that are watched, minute by minute, from what is stored."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow
from wirbel.core.cells import MINUTE_NS
from wirbel.core.deviation.symptoms import SYMPTOMS, UNITS, of_requests
from wirbel.core.series import cells as cell_series
from wirbel.core.series.grid import Grid
from wirbel.core.series.logs import LEAST
from wirbel.core.series.percentiles import SHARES
from wirbel.core.series.resources import resources
from wirbel.core.series.samples import Samples, by_step
from wirbel.core.series.series import Kind
from wirbel.core.signals import points
from wirbel.core.topology.graph import EntityId
from wirbel.store import fine_cells, reading
from wirbel.store.models import Stream
from wirbel.store.scan import Where, scan
from wirbel.watch import together
from wirbel.watch.kept import SUMMARY_S

Floats = npt.NDArray[np.float64]
Bools = npt.NDArray[np.bool_]
BEFORE_NS = 10 * MINUTE_NS  # what a cumulative sample adds is seen against the one before it
_OF_CELLS = list(dict.fromkeys([*cell_series.CELL_COLUMNS, "entry"]))


@dataclass(frozen=True)
class Key:
    """Which series: a measure of an entity."""

    environment: str
    entity: EntityId
    service: str | None
    metric: str
    labels: tuple[tuple[str, str], ...]
    unit: str
    kind: Kind

    @property
    def only_high(self) -> bool:
        """That fewer fail, or that less is used, is no trouble."""
        return self.metric not in (*SHARES, "requests", "log records") and self.kind != CHOSEN_METRIC


@dataclass(frozen=True)
class Values:
    """Of the minutes of a stretch, shape (minutes,); samples are NaN where nothing was to be expected, so that what is missing is no silence."""

    values: Floats
    samples: Floats


def heard(key: Key, told: Values) -> Bools:
    """In which minutes anything came of a series, shape (minutes,): that there was none of what is counted was not sent by anybody."""
    return np.isfinite(told.values) & ((told.values > 0) | (key.metric not in COUNTED))


def nothing(key: Key, minutes: int) -> Values:
    """What it means that a series is not told of: no requests and no records are zero, no measure is none."""
    if key.metric in COUNTED:
        return Values(np.zeros(minutes), np.ones(minutes))
    return Values(np.full(minutes, np.nan), np.full(minutes, _behind_nothing(key.entity)))


def _behind_nothing(entity: EntityId) -> float:
    """A host that tells nothing any more is silent. Instances come and go, and that a service has none is told by its requests."""
    return 1.0 if entity.kind == "host" else np.nan


CHOSEN_METRIC: Kind = "level"  # what people choose among metrics is judged as it is
COUNTED = ("requests", "log records", "log errors")


def read(start: int, end: int, known: Collection[Key] = (), chosen: Collection[Key] = ()) -> dict[Key, Values]:
    """All that is watched from the start, and what people have ``chosen``, over the minutes of [start, end) ns.

    ``known`` series tell who serves requests, if none came in this time.
    """
    grid = Grid(start, end)
    cells = cell_series.entries(reading.cells(start, end, None, None, _OF_CELLS))
    found = dict(_of_requests(cells, grid, chosen)) | dict(_of_many(cells, grid, chosen))
    serving = _serving([*found, *(key for key in known if key.metric == "requests")])
    found |= dict(_of_logs(grid))
    return found | dict(_of_metrics(grid, serving, chosen))


def _serving(keys: Iterable[Key]) -> dict[str, set[str]]:
    """Services that serve requests, by environment."""
    found: dict[str, set[str]] = {}
    for key in keys:
        found.setdefault(key.environment, set()).add(key.entity.name)
    return found


def read_summaries(start: int, end: int, known: Collection[Key]) -> dict[Key, Values]:
    """The same of requests and metrics in stretches of SUMMARY_S that begin in [start, end) ns: what is left of minutes that are gone. Records are not told."""
    grid = Grid(start, end, SUMMARY_S)
    services = sorted({key.service for key in known if key.service is not None})
    cells = cell_series.entries(reading.cells(start, end, None, services, _OF_CELLS, SUMMARY_S))
    serving = _serving(key for key in known if key.metric == "requests")
    found = dict(_of_requests(cells, grid, ())) | dict(_of_metrics(grid, serving, ()))
    return {key: Values(told.values, np.full(grid.count, np.nan)) for key, told in found.items() if key in known}


def read_fine(start: int, end: int, environment: str, services: Collection[str]) -> dict[Key, Values] | None:
    """Requests of some services in steps of ten seconds; None where there are too many spans for that."""
    if not fine_cells.may_be_read(start, end, environment):
        return None
    cells = fine_cells.read(start, end, environment, sorted(services), _OF_CELLS)
    return dict(_of_requests(cell_series.entries(cells), Grid(start, end, fine_cells.STEP_S), ()))


def _of_requests(cells: pa.Table, grid: Grid, chosen: Collection[Key]) -> Iterator[tuple[Key, Values]]:
    if not cells.num_rows:
        return
    pair, names = _pairs(cells)
    over = cell_series.by_point(cells, grid, [EntityId("service", service) for _, service in names], pair)
    for row, metric, told in of_requests(over):
        environment, service = names[row]
        yield Key(environment, EntityId("service", service), service, metric, (), UNITS[metric], SYMPTOMS[metric]), Values(told.values, told.samples)
    place = {name: row for row, name in enumerate(names)}
    for key in chosen:
        at = place.get((key.environment, key.entity.name)) if key.entity.kind == "service" and key.metric in SHARES else None
        if at is not None:
            seen = over.totals.sample_size[at]
            yield key, Values(over.latency(key.metric).values[at], np.where(seen > 0, seen, np.nan))


def _of_many(cells: pa.Table, grid: Grid, chosen: Collection[Key]) -> Iterator[tuple[Key, Values]]:
    """What people have chosen of scopes, and of all there is."""
    keys: dict[tuple[str, EntityId], dict[str, Key]] = {}
    for key in chosen:
        if key.entity.kind in together.KINDS:
            keys.setdefault((key.environment, key.entity), {})[key.metric] = key
    for (environment, entity), by_metric in keys.items():
        for metric, told in together.told(cells, grid, environment, entity, list(by_metric)):
            yield by_metric[metric], Values(told.values, told.samples)


@dataclass(frozen=True)
class CountOfAll:
    """Work of a scan: log records counted by environment, service, minute, and whether they are errors."""

    def __call__(self, table: pa.Table, window: tuple[int, int] | None) -> pa.Table:
        mine = reading.Rows("time")(table, window)
        minute = pa.array(arrow.numbers(mine["time"]) // MINUTE_NS)
        is_error = pc.greater_equal(mine["severity"].fill_null(0), LEAST["error"])
        counted = pa.table([mine["environment"], mine["service"], minute, is_error, mine["weight"]], ["environment", "service", "minute", "is_error", "weight"])
        return counted.group_by(["environment", "service", "minute", "is_error"]).aggregate([("weight", "sum")])


def _of_logs(grid: Grid) -> Iterator[tuple[Key, Values]]:
    """A weighted sample of them says how many there were, but not minute by minute: where records are thinned, none are counted."""
    where = Where(Stream.LOGS, grid.first, grid.end, fresh=True)
    parts = scan(where, ["time", "environment", "service", "severity", "weight"], CountOfAll(), small=True)
    if not parts:
        return
    table = pa.concat_tables(parts)
    if not table.num_rows:  # blocks of that hour hold records of other minutes
        return
    in_full = grid.times >= (reading.detail(Stream.LOGS, grid.first, grid.end).thinned_until or 0)
    pair, names = _pairs(table)
    cell = pair * grid.count + arrow.numbers(table["minute"]) - grid.first // MINUTE_NS
    weight = arrow.numbers(table["weight_sum"]).astype(float)
    errors = np.where(table["is_error"].to_numpy(), weight, 0.0)
    for metric, weights in (("log records", weight), ("log errors", errors)):
        rates = np.bincount(cell, weights, len(names) * grid.count).reshape(len(names), -1) / grid.step
        rates, samples = np.where(in_full, rates, np.nan), np.where(in_full, 1.0, np.nan)
        for row, (environment, service) in enumerate(names):
            yield Key(environment, EntityId("service", service), service, metric, (), "{record}/s", "rate"), Values(rates[row], samples)


def _of_metrics(grid: Grid, serving: dict[str, set[str]], chosen: Collection[Key]) -> Iterator[tuple[Key, Values]]:
    where = Where(Stream.POINTS, grid.first - BEFORE_NS, grid.end + MINUTE_NS, step=grid.cell_step, fresh=not grid.cell_step)
    table = points.combine(scan(where, None, reading.Rows("time")))
    # A sample tells of the time before it, a summary of the stretch that begins with it.
    first = grid.first - bool(grid.cell_step)
    for environment in table["environment"].unique().to_pylist() if table.num_rows else []:
        samples = by_step(table.filter(pc.equal(table["environment"], environment)), first, grid.step, grid.count)
        for one in resources(samples, serving.get(environment, set())):
            key = Key(environment, one.entity, one.service, one.metric, one.labels, one.unit, one.kind)
            yield key, Values(one.values, np.where(np.isfinite(one.values), 1.0, _behind_nothing(one.entity)))
        for key in chosen:
            if key.environment == environment and key.kind == CHOSEN_METRIC and (told := _mean_of(samples, key)) is not None:
                yield key, Values(told, np.where(np.isfinite(told), 1.0, np.nan))


def _mean_of(samples: Samples, key: Key) -> Floats | None:
    """A metric of a service as people choose it: the mean of all that its instances send under that name."""
    rows = [row for row in range(len(samples)) if samples.metric[row] == key.metric and samples.service[row] == key.service]
    if not rows:
        return None
    values = samples.values[rows]
    known = np.isfinite(values).sum(axis=0)
    return np.where(known > 0, np.nansum(values, axis=0) / np.maximum(known, 1), np.nan)


def _pairs(table: pa.Table) -> tuple[npt.NDArray[np.int64], Sequence[tuple[str, str]]]:
    """Environment and service of each row as one number, and what these stand for."""
    (environment, environments), (service, services) = (arrow.codes(table[name]) for name in ("environment", "service"))
    distinct, place = np.unique(environment.astype(np.int64) * len(services) + service, return_inverse=True)
    return place.astype(np.int64), [(environments[n // len(services)], services[n % len(services)]) for n in distinct.tolist()]
