"""All metric samples of a case as series, and how far each moved; what they are is told by core.series.samples."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, fields
from functools import cached_property

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from wirbel.core.diagnosis.clock import Clock
from wirbel.core.diagnosis.model import Question, Sampled
from wirbel.core.series.samples import FAILURES, Samples, by_step

Floats = npt.NDArray[np.float64]
FAILING = (*FAILURES, "throttl", "miss")
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
class Measures(Samples):
    """Samples of the reference and of the time up to the end of the focus (clock.py); a step is a minute, as a rule. ``first`` is when the first of the ``recent`` steps begins."""

    recent: slice
    reference: npt.NDArray[np.bool_]  # steps of each window
    focus: npt.NDArray[np.bool_]

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
    def together(self) -> dict[int, list[int]]:
        """Of each row, all rows that send the same: instances of one service, also under the ids that they had before; a row without a service is alone."""
        groups: dict[tuple[object, ...], list[int]] = defaultdict(list)
        for row, service in enumerate(self.service):
            groups[self.metric[row], service or row, tuple(sorted(self.labels[row].items()))].append(row)
        return {row: rows for rows in groups.values() for row in rows}

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
        found = np.where(self.is_share, at, np.nan)
        for row, limit in self.limits.items():
            if self.before[limit] > 0 and self.after[limit] > 0:
                bound = self.after[limit] if at is self.after else self.before[limit]
                found[row] = at[row] / bound
        return found

    def sampled(self, row: int) -> Sampled:
        """A series as it was looked at."""
        unit = "share" if self.unit[row] == "1" and np.isfinite(self.level[row]) else self.unit[row]
        return Sampled(self.first, self.step_s, unit, tuple(self.values[row, self.recent].tolist()))

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
    """Series of all metrics in ``table`` (samples in the order of signals.points.combine), from the reference to the end of the focus."""
    clock = Clock(question, question.step_s)
    parts = [by_step(table, first, question.step_s, count) for first, count in zip(clock.firsts, clock.counts, strict=True)]
    return Measures(
        **{field.name: getattr(parts[-1], field.name) for field in fields(parts[-1])} | {"values": np.concatenate([part.values for part in parts], axis=1)},
        recent=clock.recent,
        reference=clock.reference,
        focus=clock.focus,
    )
