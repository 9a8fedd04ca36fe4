"""Fewer records that still stand for all of them.

What is looked for later is kept whole: errors, the slowest, and what is rare. Of the rest an even
sample is kept, and each kept record stands for those beside it: its weight grows so that the
weights of every group add up to what they added up to before, exactly.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from wirbel.core import arrow
from wirbel.core.signals import spans

RARE = 20  # records of a group that are kept whole
SLOWEST = 0.01  # share of a group's traces
ERROR = 17  # severity from which log records are kept whole

Ints = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]
Bools = npt.NDArray[np.bool_]


def sample(group: Ints, order: Floats, weight: Floats, whole: Bools, share: float) -> Floats:
    """Factors by which weights grow, 0 for what is left out; all arrays of shape (n,).

    ``group`` numbers the groups, ``order`` ranks records within one: the sample is even along it, so
    that quantiles of it move by less than the distance of two kept records. ``whole`` marks what
    is kept as it is. Systematic sampling within strata (Cochran, Sampling Techniques, 1977, ch. 8).
    """
    factor = np.ones(len(group))
    small = np.bincount(group)[group] < RARE
    loose = np.flatnonzero(~whole & ~small)
    if not len(loose):
        return factor
    loose = loose[np.lexsort((order[loose], group[loose]))]
    starts = np.flatnonzero(np.r_[True, np.diff(group[loose]) != 0])
    size = np.diff(np.r_[starts, len(loose)])
    kept_of_group = np.maximum(1, np.round(size * share)).astype(np.int64)
    place = np.arange(len(loose)) - np.repeat(starts, size)
    count, kept = np.repeat(size, size), np.repeat(kept_of_group, size)
    # Rank p is kept where ⌊(p + ½) k / n⌋ steps up: k of n, evenly.
    is_kept = np.floor((place + 0.5) * kept / count + 0.5) > np.floor((place - 0.5) * kept / count + 0.5)
    factor[loose] = 0.0
    total = np.add.reduceat(weight[loose], starts)
    left = np.add.reduceat(np.where(is_kept, weight[loose], 0.0), starts)
    # A group of which nothing is kept by rounding keeps its middle record.
    for lost in np.flatnonzero(left == 0):
        middle = starts[lost] + size[lost] // 2
        is_kept[middle] = True
        left[lost] = weight[loose[middle]]
    factor[loose[is_kept]] = np.repeat(total / left, size)[is_kept]
    return factor


def thin_spans(table: pa.Table, share: float) -> pa.Table:
    """Whole traces of a block: those with a failure, the slowest of their operation, the rare, and ``share`` of the rest.

    The weights of the first spans of traces add up, for each service and operation, to what they did.
    """
    if not table.num_rows:
        return table
    ids = arrow.ids(table["trace_id"], 16)
    new = np.r_[True, (ids[1:] != ids[:-1]).any(axis=1)]
    trace = np.cumsum(new) - 1
    head = _heads(table, trace, int(trace[-1]) + 1)
    duration = arrow.numbers(table["duration"]).astype(float)[head]
    group = _groups(table.select(["service", "operation"]).take(pa.array(head)))
    failed = np.bincount(trace, weights=arrow.numbers(table["outcome"]) == spans.ERROR) > 0
    weight = arrow.numbers(table["weight"])
    factor = sample(group, duration, weight[head], failed | _slowest(group, duration), share)[trace]
    return _weighted(table, factor)


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


def thin_logs(table: pa.Table, share: float) -> pa.Table:
    """Errors and what is rare of its service, logger and severity; ``share`` of the rest, even in time."""
    if not table.num_rows:
        return table
    group = _groups(table.select(["service", "scope", "severity"]))
    severity = arrow.numbers(table["severity"])
    factor = sample(group, arrow.numbers(table["time"]).astype(float), arrow.numbers(table["weight"]), severity >= ERROR, share)
    return _weighted(table, factor)


def _weighted(table: pa.Table, factor: Floats) -> pa.Table:
    weight = pa.array(arrow.numbers(table["weight"]) * factor)
    return table.set_column(table.schema.get_field_index("weight"), "weight", weight).filter(pa.array(factor > 0))
