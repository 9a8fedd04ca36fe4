"""Samples of many metrics as series: of whom they speak, what kind of measure each is, and what bounds it.

Metrics are understood without a list of names: by unit, kind, and how they stand to each other. A share of something
has the unit 1 and stays within 1; what is used has a limit with the same stem and labels; what waits is counted
in things; failures, drops and repeats are told by a word in the name, as semantic conventions choose them.
"""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow
from wirbel.core.series import busy
from wirbel.core.signals import points
from wirbel.core.signals.attributes import plain_dict

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
Bools = npt.NDArray[np.bool_]
LIMITS = ("max", "limit", "capacity", "total", "size")
"""Last words of names of what bounds another measure (semantic conventions: ``*.limit``, ``*.max``)."""
USAGES = ("usage", "used", "count", "current", "active")
UNUSED = ("idle", "free")  # values of labels that tell what is left
FAILURES = ("error", "fail", "drop", "retrans", "reject", "refus", "timeout", "timed", "abort", "kill", "evict", "deadlock")
WAITING = ("pending", "wait", "queue", "lag", "backlog", "blocked", "load_average")


@dataclass(frozen=True)
class Samples:
    """Series (rows) over steps of time: ``values`` (series, steps), NaN where nothing was sent; the rest of shape (series,)."""

    first: int  # ns
    step_s: int
    values: Floats
    metric: list[str]
    unit: list[str]
    labels: list[dict[str, str]]
    service: list[str | None]
    instance: list[str | None]
    host: list[str | None]

    def __len__(self) -> int:
        return len(self.metric)

    @cached_property
    def limits(self) -> dict[int, int]:
        """The row of the limit of each usage that has one: the same stem of the name, the same sender, no label that the usage has not."""
        by_stem: dict[tuple[str, str | None, str | None], list[int]] = defaultdict(list)
        for row, metric in enumerate(self.metric):
            stem, _, last = metric.rpartition(".")
            if last in LIMITS:
                by_stem[stem, self.service[row], self.instance[row]].append(row)
        found = {}
        for row, metric in enumerate(self.metric):
            stem, _, last = metric.rpartition(".")
            if last not in USAGES or any(value in UNUSED for value in self.labels[row].values()):
                continue
            fitting = [limit for limit in by_stem[stem, self.service[row], self.instance[row]] if self.labels[limit].items() <= self.labels[row].items()]
            if fitting:
                found[row] = fitting[0]
        return found

    @cached_property
    def is_share(self) -> Bools:
        """Whether each row is a share of something: the unit 1, and never above it."""
        has_unit = np.array([unit == "1" for unit in self.unit], np.bool_) if len(self) else np.zeros(0, np.bool_)
        with np.errstate(invalid="ignore"):
            highest = np.nanmax(np.nan_to_num(self.values, nan=-np.inf), axis=1, initial=-np.inf)
        return np.asarray(has_unit & (highest <= 1.0001))

    def has_word(self, words: tuple[str, ...]) -> Bools:
        """Whether the name of each row's metric has one of these in it."""
        return np.array([any(word in metric for word in words) for metric in self.metric], np.bool_)


def by_step(table: pa.Table, first: int, step_s: int, count: int) -> Samples:
    """Series of all metrics in ``table`` (samples in the order of signals.points.combine), over ``count`` steps from ``first`` (ns) on.

    Gauges are means, sums are what was added in the step (levels where they go up and down), histograms are the mean of what they
    counted. A sample tells of the time before it; a new version of what is the same otherwise goes on with the series.
    """
    table = table.set_column(table.schema.get_field_index("version"), "version", pa.nulls(table.num_rows, pa.string()))
    number, of = points.series_of(table) if table.num_rows else (np.zeros(0, np.int64), np.zeros(0, np.int64))
    step = (arrow.numbers(table["time"]) - 1 - first) // (step_s * 10**9) if table.num_rows else np.zeros(0, np.int64)
    inside = (step >= 0) & (step < count)
    described = table.select(["metric", "unit", "labels", "service", "instance", "host"]).take(pa.array(of)).to_pydict()
    parsed = {text: {str(key): str(value) for key, value in plain_dict(text).items()} for text in set(described["labels"])}
    sampled = Samples(
        first=first,
        step_s=step_s,
        values=_values(table, number, step, inside, (len(of), count)),
        metric=described["metric"],
        unit=[unit or "" for unit in described["unit"]],
        labels=[parsed[text] for text in described["labels"]],
        service=described["service"],
        instance=described["instance"],
        host=described["host"],
    )
    return _with_busy(sampled, _is_counted(table).take(pa.array(of)).to_numpy(zero_copy_only=False) if table.num_rows else np.zeros(0, np.bool_))


def _with_busy(sampled: Samples, counted: Bools) -> Samples:
    """Counters of seconds told as what they say: how busy a processor or a device is."""
    rows = np.flatnonzero(counted).tolist()
    given = busy.Counted(
        values=sampled.values[rows],
        metric=[sampled.metric[row] for row in rows],
        unit=[sampled.unit[row] for row in rows],
        labels=[sampled.labels[row] for row in rows],
        sender=[(sampled.service[row], sampled.instance[row], sampled.host[row]) for row in rows],
    )
    made, used = busy.derive(given, sampled.step_s)
    if not made:
        return sampled
    gone = {rows[row] for row in used}
    kept = [row for row in range(len(sampled)) if row not in gone]
    sources = [*kept, *(rows[one.row] for one in made)]
    return replace(
        sampled,
        values=np.concatenate([sampled.values[kept], np.stack([one.values for one in made])]),
        metric=[*(sampled.metric[row] for row in kept), *(one.metric for one in made)],
        unit=[*(sampled.unit[row] for row in kept), *(one.unit for one in made)],
        labels=[*(sampled.labels[row] for row in kept), *(one.labels for one in made)],
        service=[sampled.service[row] for row in sources],
        instance=[sampled.instance[row] for row in sources],
        host=[sampled.host[row] for row in sources],
    )


def _is_counted(table: pa.Table) -> pa.ChunkedArray:
    """Sums of which what was added in a step is told, and not levels that go up and down."""
    rises = pc.or_(table["monotonic"].fill_null(False), pc.not_equal(table["temporality"], pa.scalar(points.CUMULATIVE, pa.int8())))
    return pc.and_(pc.equal(table["kind"], pa.scalar(points.SUM, pa.int8())), rises.fill_null(False))


def _values(table: pa.Table, number: Ints, step: Ints, inside: Bools, shape: tuple[int, int]) -> Floats:
    if not table.num_rows:
        return np.zeros(shape)
    kind, monotonic = arrow.numbers(table["kind"]), table["monotonic"].fill_null(False).to_numpy()
    cumulative = arrow.numbers(table["temporality"]) == points.CUMULATIVE
    level = (kind == points.GAUGE) | ((kind == points.SUM) & ~monotonic & cumulative)
    counted = (kind == points.SUM) & ~level
    value = table["value"].fill_null(np.nan).to_numpy()
    amount = np.where(level, value, np.where(counted, points.increases(table), points.increases(table, "total")))
    weight = np.where(level, np.isfinite(value), np.where(counted, 0.0, points.increases(table, "count")))
    # The first sample of a cumulative series says nothing of its step.
    known = inside & np.isfinite(amount) & ~(~level & cumulative & np.r_[True, number[1:] != number[:-1]])
    cell = (number * shape[1] + step)[known]
    total, weights = (np.bincount(cell, x[known], shape[0] * shape[1]) for x in (amount, weight))
    seen = np.bincount(cell, minlength=shape[0] * shape[1]) > 0
    sums = np.bincount(cell, counted[known], shape[0] * shape[1]) > 0
    with np.errstate(invalid="ignore", divide="ignore"):
        found = np.where(sums, total, np.where(weights > 0, total / weights, np.nan))
    return np.where(seen, found, np.nan).reshape(shape)
