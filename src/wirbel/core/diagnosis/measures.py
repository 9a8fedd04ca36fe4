"""All metric samples of a case as series: of whom they speak, what kind of measure each is, and how far it moved.

Metrics are understood without a list of names: by unit, kind, and how they stand to each other. A share of something
has the unit 1 and stays within 1; what is used has a limit with the same stem and labels; what waits is counted
in things; failures, drops and repeats are told by a word in the name, as semantic conventions choose them.
"""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from wirbel.core import arrow
from wirbel.core.diagnosis.model import Question, Sampled
from wirbel.core.signals import points
from wirbel.core.signals.attributes import plain_dict

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
LIMITS = ("max", "limit", "capacity", "total", "size")
"""Last words of names of what bounds another measure (semantic conventions: ``*.limit``, ``*.max``)."""
USAGES = ("usage", "used", "count", "current", "active")
FAILURES = ("error", "fail", "drop", "retrans", "reject", "refus", "timeout", "timed", "abort", "kill", "evict", "deadlock", "throttl", "miss")
WAITING = ("pending", "wait", "queue", "lag", "backlog", "blocked", "load_average")
SUFFERING = ("throttl", "wait", "steal", "idle")  # said of processors that are not had
PROCESSORS = ("1", "{cpu}")  # units of their use
MUCH_MORE = 0.1  # processors, or a share of them
CLEAR = 4.0  # standard deviations
MECHANISMS = (
    ("lock", ("lock.", "locks", "deadlock")),
    ("disk", ("disk", "filesystem", "block", "io.")),
    ("memory", ("memory", "heap", "gc", "swap", "paging")),
    ("network", ("network", "tcp", "retrans", "packet")),
    ("cache", ("cache", "keyspace", "hits", "miss")),
    ("waiting", ("pool", "connection", "pending", "queue", "lag", "wait")),
    ("saturation", ("cpu", "throttl", "utilization", "load_average", "worker", "thread")),
)
"""Words of names, and the mechanism that a measure of that name speaks of (semantic conventions for system, process, runtime and database metrics)."""
LEAST_MINUTES = 5  # of each window that a measure must have
NOISE = 0.03  # of its level by which any measure scatters


@dataclass(frozen=True)
class Measures:
    """Series (rows) over steps of time, a minute as a rule: ``values`` (series, steps), NaN where nothing was sent; the rest of shape (series,)."""

    first: int  # ns
    step_s: int
    values: Floats
    metric: list[str]
    unit: list[str]
    labels: list[dict[str, str]]
    service: list[str | None]
    instance: list[str | None]
    host: list[str | None]
    reference: npt.NDArray[np.bool_]  # minutes of each window
    focus: npt.NDArray[np.bool_]

    def __len__(self) -> int:
        return len(self.metric)

    @cached_property
    def before(self) -> Floats:
        """Median in the reference; NaN where too little is known."""
        return _median(self.values[:, self.reference])

    @cached_property
    def after(self) -> Floats:
        return _median(self.values[:, self.focus])

    @cached_property
    def scale(self) -> Floats:
        """How much it scatters in the reference: 1.4826 times the median absolute deviation, and never less than a little of its level."""
        spread = 1.4826 * _median(np.abs(self.values[:, self.reference] - self.before[:, None]))
        return np.maximum(spread, np.maximum(NOISE * np.abs(self.before), 1e-9))

    @cached_property
    def outside(self) -> Floats:
        """Share of the focus above all of the reference (positive), or beneath all of it (negative)."""
        inside, now = self.values[:, self.reference], self.values[:, self.focus]
        with np.errstate(invalid="ignore"):
            high, low = np.nanmax(inside, axis=1, initial=-np.inf), np.nanmin(inside, axis=1, initial=np.inf)
            known = np.maximum(np.isfinite(now).sum(axis=1), 1)
            above, beneath = (now > high[:, None]).sum(axis=1) / known, (now < low[:, None]).sum(axis=1) / known
        found = np.where(above >= beneath, above, -beneath)
        return np.where(np.isfinite(self.before) & np.isfinite(self.after), found, 0.0)

    @cached_property
    def z(self) -> Floats:
        """How far it moved, in its own scatter; 0 where too little is known."""
        return np.nan_to_num((self.after - self.before) / self.scale)

    @cached_property
    def beside(self) -> Floats:
        """How far it moved beyond what the same measure of others did in the middle: what all share is load, not harm."""
        groups: dict[str, list[int]] = defaultdict(list)
        for row, metric in enumerate(self.metric):
            groups[metric].append(row)
        found = self.z.copy()
        for rows in groups.values():
            if len(rows) >= 3:
                z = self.z[rows]
                order = np.sort(z)
                # The middle of the others, for each.
                rank = np.searchsorted(order, z)
                middle = (len(rows) - 1) // 2
                found[rows] = z - np.where(rank <= middle, order[min(middle + 1, len(rows) - 1)], order[middle])
        return found

    @cached_property
    def lost(self) -> npt.NDArray[np.bool_]:
        """Sent through the reference, and no more in the second half of the focus."""
        late = np.flatnonzero(self.focus)[int(self.focus.sum()) // 2 :]
        was = np.isfinite(self.values[:, self.reference]).mean(axis=1) > 0.7 if self.reference.any() else np.zeros(len(self), np.bool_)
        return was & ~np.isfinite(self.values[:, late]).any(axis=1) if len(late) else np.zeros(len(self), np.bool_)

    @cached_property
    def level(self) -> Floats:
        """Share of its limit that is used in the focus, and NaN where it has none: see the module."""
        return self._shares(self.after)

    @cached_property
    def level_before(self) -> Floats:
        return self._shares(self.before)

    def _shares(self, at: Floats) -> Floats:
        is_share = np.array([unit == "1" for unit in self.unit], np.bool_) if len(self) else np.zeros(0, np.bool_)
        with np.errstate(invalid="ignore"):
            highest = np.nanmax(np.nan_to_num(self.values, nan=-np.inf), axis=1, initial=-np.inf)
        found = np.where(is_share & (highest <= 1.0001), at, np.nan)
        for row, limit in self.limits.items():
            if self.before[limit] > 0 and self.after[limit] > 0:
                bound = self.after[limit] if at is self.after else self.before[limit]
                found[row] = at[row] / bound
        return found

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
            if last not in USAGES or any(value in ("idle", "free") for value in self.labels[row].values()):
                continue
            fitting = [limit for limit in by_stem[stem, self.service[row], self.instance[row]] if self.labels[limit].items() <= self.labels[row].items()]
            if fitting:
                found[row] = fitting[0]
        return found

    def sampled(self, row: int) -> Sampled:
        """A series as it was looked at."""
        unit = "share" if self.unit[row] == "1" and np.isfinite(self.level[row]) else self.unit[row]
        return Sampled(self.first, self.step_s, unit, tuple(self.values[row].tolist()))

    def has_word(self, words: tuple[str, ...]) -> npt.NDArray[np.bool_]:
        return np.array([any(word in metric for word in words) for metric in self.metric], np.bool_)

    @cached_property
    def uses_of_processors(self) -> list[int]:
        """Rows that say how much of the processors one instance takes, by the words of their names and their units (semantic conventions)."""
        return [row for row in range(len(self)) if self._is_use_of_processors(row)]

    def _is_use_of_processors(self, row: int) -> bool:
        metric = self.metric[row]
        named = ".cpu" in metric and not metric.startswith("system.") and not any(word in metric for word in SUFFERING)
        return named and self.unit[row] in PROCESSORS and self.instance[row] is not None

    def takes_more_processors(self, service: str) -> bool | None:
        """Whether a service does, by all that it says of it; None if it says nothing."""
        told = [row for row in self.uses_of_processors if self.service[row] == service]
        return all(self.z[row] >= CLEAR and self.after[row] - self.before[row] >= MUCH_MORE for row in told) if told else None

    def mechanism(self, row: int) -> str:
        return next((name for name, words in MECHANISMS if any(word in self.metric[row] for word in words)), "unknown")


def _median(values: Floats) -> Floats:
    """Along the minutes; NaN where fewer than LEAST_MINUTES are known."""
    known = np.isfinite(values).sum(axis=1)
    with np.errstate(invalid="ignore"):
        found = np.full(len(values), np.nan)
        enough = known >= LEAST_MINUTES
        if enough.any():
            found[enough] = np.nanmedian(values[enough], axis=1)
    return found


def measure(table: pa.Table, question: Question) -> Measures:
    """Series by the minute of all metrics in ``table`` (samples in the order of signals.points.combine), from the reference to the end of the focus.

    Gauges are means, sums are what was added in the minute (levels where they go up and down), histograms are the mean of what they counted.
    """
    # A new version of what is the same otherwise goes on with the series.
    table = table.set_column(table.schema.get_field_index("version"), "version", pa.nulls(table.num_rows, pa.string()))
    step = question.step_s * 10**9
    # Steps begin with the focus, so that none holds something of before it and of it.
    first = min(question.reference.start, question.focus.start)
    first -= (first - question.focus.start) % step
    count = int((max(question.focus.end, question.reference.end) - first) // step) + 1
    times = first + np.arange(count) * step
    number, of = points.series_of(table) if table.num_rows else (np.zeros(0, np.int64), np.zeros(0, np.int64))
    minute = (arrow.numbers(table["time"]) - 1 - first) // step if table.num_rows else np.zeros(0, np.int64)
    inside = (minute >= 0) & (minute < count)
    values = _values(table, number, minute, inside, (len(of), count))
    described = table.select(["metric", "unit", "labels", "service", "instance", "host"]).take(pa.array(of)).to_pydict()
    parsed = {text: {str(key): str(value) for key, value in plain_dict(text).items()} for text in set(described["labels"])}
    return Measures(
        first=first,
        step_s=question.step_s,
        values=values,
        metric=described["metric"],
        unit=[unit or "" for unit in described["unit"]],
        labels=[parsed[text] for text in described["labels"]],
        service=described["service"],
        instance=described["instance"],
        host=described["host"],
        reference=(times >= question.reference.start) & (times + step <= question.reference.end),
        focus=(times >= question.focus.start) & (times < question.focus.end),
    )


def _values(table: pa.Table, number: Ints, minute: Ints, inside: npt.NDArray[np.bool_], shape: tuple[int, int]) -> Floats:
    if not table.num_rows:
        return np.zeros(shape)
    kind, monotonic = arrow.numbers(table["kind"]), table["monotonic"].fill_null(False).to_numpy()
    cumulative = arrow.numbers(table["temporality"]) == points.CUMULATIVE
    level = (kind == points.GAUGE) | ((kind == points.SUM) & ~monotonic & cumulative)
    counted = (kind == points.SUM) & ~level
    value = table["value"].fill_null(np.nan).to_numpy()
    amount = np.where(level, value, np.where(counted, points.increases(table), points.increases(table, "total")))
    weight = np.where(level, np.isfinite(value), np.where(counted, 0.0, points.increases(table, "count")))
    # The first sample of a cumulative series says nothing of its minute.
    known = inside & np.isfinite(amount) & ~(~level & cumulative & np.r_[True, number[1:] != number[:-1]])
    cell = (number * shape[1] + minute)[known]
    total, weights = (np.bincount(cell, x[known], shape[0] * shape[1]) for x in (amount, weight))
    seen = np.bincount(cell, minlength=shape[0] * shape[1]) > 0
    sums = np.bincount(cell, counted[known], shape[0] * shape[1]) > 0
    with np.errstate(invalid="ignore", divide="ignore"):
        found = np.where(sums, total, np.where(weights > 0, total / weights, np.nan))
    return np.where(seen, found, np.nan).reshape(shape)
