"""Fewer records that still stand for all of them.

What is looked for later is kept whole: errors, the slowest, and what is rare. Of the rest a sample is kept, and each
kept record stands for those beside it: its weight grows so that the weights of every group add up to what
they added up to before, exactly.

Which traces are in the sample is told by their ids alone, taken as permanent random numbers (Ohlsson 1995,
"Coordination of samples using permanent random numbers"), so that a trace whose spans lie in several blocks is
kept or dropped in all of them, and its log records with it. Weights are made up within strata of neighbouring
durations (Cochran, Sampling Techniques, 1977, ch. 5A on stratification after selection).
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from wirbel.core import arrow
from wirbel.core.hashing import mix
from wirbel.core.signals import spans
from wirbel.core.topology.parents import trace_keys

RARE = 20  # records of a group that are kept whole
SLOWEST = 0.01  # share of a group's traces
ERROR_SEVERITY = 17  # from which log records are kept whole
KEPT_IN_STRATUM = 4  # records that are kept of a stratum, on average

Ints = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]
Bools = npt.NDArray[np.bool_]
Keys = npt.NDArray[np.uint64]


def random_numbers(keys: Keys) -> Floats:
    """A number in [0, 1) for each key, always the same: shape (n,)."""
    return np.asarray(mix(keys) >> np.uint64(11), np.float64) / 2.0**53


def factors(group: Ints, order: Floats, weight: Floats, whole: Bools, kept: Bools, share: float) -> Floats:
    """Factors by which weights grow, 0 for what is left out; all arrays of shape (n,).

    ``group`` numbers the groups, ``order`` ranks records within one; ``whole`` marks what is kept as it is, ``kept`` the
    sample of the others. Each group that is not all whole must have a record in the sample.
    """
    factor = np.ones(len(group))
    loose = np.flatnonzero(~whole)
    if not len(loose):
        return factor
    loose = loose[np.lexsort((order[loose], group[loose]))]
    starts = np.flatnonzero(np.r_[True, np.diff(group[loose]) != 0])
    size = np.diff(np.r_[starts, len(loose)])
    place = np.arange(len(loose)) - np.repeat(starts, size)
    length = max(1, round(KEPT_IN_STRATUM / share))
    stratum = np.cumsum(place % length == 0) - 1
    has = np.bincount(stratum, weights=kept[loose]) > 0
    # A stratum of which nothing is kept goes with the one before it in its group, else with the next that has something.
    of_group = group[loose][np.flatnonzero(np.r_[True, np.diff(stratum) != 0])]
    number = np.arange(len(has))
    before = np.maximum.accumulate(np.where(has, number, -1))
    after = np.minimum.accumulate(np.where(has, number, len(has))[::-1])[::-1]
    same = (before >= 0) & (of_group[np.maximum(before, 0)] == of_group)
    stratum = np.where(same, before, np.minimum(after, len(has) - 1))[stratum]
    total = np.bincount(stratum, weights=weight[loose])
    left = np.bincount(stratum, weights=np.where(kept[loose], weight[loose], 0.0))
    with np.errstate(divide="ignore", invalid="ignore"):
        factor[loose] = np.where(kept[loose], (total / left)[stratum], 0.0)
    return factor


def traces_kept_whole(table: pa.Table, share: float) -> Keys:
    """Keys (see trace_keys), shape (traces,), of the traces of a block that are kept whatever their number: those with a failure, the slowest of
    their operation, the rare, and one of an operation of which the sample would have none."""
    if not table.num_rows:
        return np.zeros(0, np.uint64)
    traces = _Traces(table)
    return np.asarray(traces.key[traces.whole | traces.alone(share)])


def thin_spans(table: pa.Table, share: float, elsewhere: Keys) -> pa.Table:
    """Whole traces of a block: those that are kept whole, here or in another block (``elsewhere``: keys, shape (traces,)), and ``share`` of the rest.

    The weights of the first spans of traces add up, for each service and operation, to what they did.
    """
    if not table.num_rows:
        return table
    traces = _Traces(table)
    whole = traces.whole | np.isin(traces.key, elsewhere)
    kept = (traces.number < share) | traces.alone(share)
    factor = factors(traces.group, traces.duration, traces.weight, whole, kept, share)[traces.of_row]
    return _weighted(table, factor)


class _Traces:
    """The traces of a block of spans: key, random number, group (service and operation of the first span), duration and weight of each."""

    def __init__(self, table: pa.Table) -> None:
        key = trace_keys(arrow.ids(table["trace_id"], 16))
        self.of_row = np.cumsum(np.r_[True, key[1:] != key[:-1]]) - 1
        head = _heads(table, self.of_row, int(self.of_row[-1]) + 1)
        self.key = key[head]
        self.number = random_numbers(self.key)
        self.duration = arrow.numbers(table["duration"]).astype(float)[head]
        self.weight = arrow.numbers(table["weight"])[head]
        self.group = _groups(table.select(["service", "operation"]).take(pa.array(head)))
        failed = np.bincount(self.of_row, weights=arrow.numbers(table["outcome"]) == spans.ERROR) > 0
        self.whole = failed | _slowest(self.group, self.duration) | (np.bincount(self.group)[self.group] < RARE)

    def alone(self, share: float) -> Bools:
        """The trace with the lowest number of each group of which the sample has none."""
        return lowest_of_unsampled(self.group, self.number, self.whole, share)


def lowest_of_unsampled(group: Ints, number: Floats, whole: Bools, share: float) -> Bools:
    """Marks the record with the lowest number in each group that is not all whole and has no number below ``share``; shape (n,)."""
    marked = np.zeros(len(group), np.bool_)
    loose = np.flatnonzero(~whole)
    if len(loose):
        loose = loose[np.lexsort((number[loose], group[loose]))]
        first = loose[np.r_[True, np.diff(group[loose]) != 0]]
        marked[first[number[first] >= share]] = True
    return marked


def _heads(table: pa.Table, trace: Ints, traces: int) -> Ints:
    """The row of each trace's first span: a root if there is one, else the earliest."""
    is_root = table["parent_id"].is_null().to_numpy()
    order = np.lexsort((arrow.numbers(table["start"]), ~is_root, trace))
    first = np.zeros(traces, np.int64)
    first[trace[order[::-1]]] = order[::-1]
    return first


def _groups(table: pa.Table) -> Ints:
    number = np.zeros(table.num_rows, np.int64)
    for name in table.column_names:
        code, values = arrow.codes(table[name])
        _, number = np.unique(number * (len(values) + 1) + code + 1, return_inverse=True)
    return number


def _slowest(group: Ints, duration: Floats) -> Bools:
    """The last hundredth of each group."""
    order = np.lexsort((duration, group))
    size = np.bincount(group)
    starts = np.cumsum(size) - size
    place = np.empty(len(group), np.int64)
    place[order] = np.arange(len(group)) - starts[group[order]]
    return place >= np.ceil(size[group] * (1 - SLOWEST))


def thin_logs(table: pa.Table, share: float, elsewhere: Keys) -> pa.Table:
    """Errors, what is rare of its service, logger and severity, and the records of traces that are kept whole (``elsewhere``: keys, shape (traces,)); of
    the rest those of traces in the sample, and ``share`` of those without a trace."""
    if not table.num_rows:
        return table
    group = _groups(table.select(["service", "scope", "severity"]))
    trace = arrow.ids(table["trace_id"], 16)
    key = trace_keys(trace)
    time = arrow.numbers(table["time"])
    number = random_numbers(np.where(trace.any(axis=1), key, mix(time.astype(np.uint64)) ^ np.arange(len(time), dtype=np.uint64)))
    whole = (arrow.numbers(table["severity"]) >= ERROR_SEVERITY) | (np.bincount(group)[group] < RARE) | np.isin(key, elsewhere)
    kept = (number < share) | lowest_of_unsampled(group, number, whole, share)
    return _weighted(table, factors(group, time.astype(float), arrow.numbers(table["weight"]), whole, kept, share))


def _weighted(table: pa.Table, factor: Floats) -> pa.Table:
    weight = pa.array(arrow.numbers(table["weight"]) * factor)
    return table.set_column(table.schema.get_field_index("weight"), "weight", weight).filter(pa.array(factor > 0))
