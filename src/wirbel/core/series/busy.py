"""How busy something is, from the seconds that it counts: stock agents tell of processors and disks by cumulative time, and of no share or limit.

A counter of seconds that has a state *idle* beside others gives a share of all of its states' time, which needs no number of processors. One that
counts for how long a device was active gives a share of the time that passed.

Source: OpenTelemetry semantic conventions for system metrics ("Difference in system.cpu.time since the last measurement, divided by
the elapsed time and number of CPUs available"; ``system.disk.io_time``, "Time disk spent activated").
"""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]
Labels = dict[str, str]
SECONDS = "s"
IDLE = ("idle", "iowait", "wait")  # values of labels: time in which a processor had nothing to do
ACTIVE = ("io_time", "busy_time", "active_time", "weighted_io_time")  # last words of names of what counts for how long a device was active
MEASURES_WORK = "cpu"  # a part of names of what counts processor time


@dataclass(frozen=True)
class Counted:
    """Series of sums: ``values`` (series, steps), what was added in each step, NaN where nothing was sent."""

    values: Floats
    metric: list[str]
    unit: list[str]
    labels: list[Labels]
    sender: list[tuple[str | None, ...]]  # who sends each, and of what host


@dataclass(frozen=True)
class Derived:
    """A series made of others; ``row`` is one of them, whose sender it has."""

    row: int
    metric: str
    unit: str
    labels: Labels
    values: Floats


def derive(counted: Counted, step_s: int) -> tuple[list[Derived], list[int]]:
    """Shares and rates of all counters of seconds, and the rows that they stand for."""
    rows = [row for row, unit in enumerate(counted.unit) if unit == SECONDS]
    groups: dict[tuple[object, ...], list[int]] = defaultdict(list)
    for row in rows:
        groups[counted.metric[row], counted.sender[row]].append(row)
    found, used = [], []
    for members in groups.values():
        made = _shares_of_states(counted, members) or [one for row in members if (one := _of_time(counted, row, step_s)) is not None]
        if made:
            found += made
            used += members
    return found, used


def _shares_of_states(counted: Counted, rows: list[int]) -> list[Derived]:
    """One share for all: of the seconds of all states those in which something was done."""
    idle = [row for row in rows if any(value in IDLE for value in counted.labels[row].values())]
    if not idle or len(idle) == len(rows):
        return []
    values = counted.values[rows]
    known = np.isfinite(values).any(axis=0)
    whole, unused = np.nansum(values, axis=0), np.nansum(counted.values[idle], axis=0)
    with np.errstate(divide="ignore", invalid="ignore"):
        share = np.where(known & (whole > 0), 1 - unused / whole, np.nan)
    stem = counted.metric[rows[0]].rpartition(".")[0]
    return [Derived(rows[0], f"{stem}.utilization", "1", {}, share)]


def _of_time(counted: Counted, row: int, step_s: int) -> Derived | None:
    metric, rate = counted.metric[row], counted.values[row] / step_s
    if metric.rpartition(".")[2] in ACTIVE:
        return Derived(row, f"{metric}.share", "1", counted.labels[row], np.minimum(rate, 1.0))
    if MEASURES_WORK in metric:
        return Derived(row, f"{metric}.rate", "{cpu}", counted.labels[row], rate)
    return None
