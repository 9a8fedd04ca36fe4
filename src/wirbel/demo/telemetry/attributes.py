"""Attributes that programs add to their spans and that say nothing new: where in a program a span is made, and what is carried along a request.

A diagnosis must not hold them for a cause: each marks just the requests of some operation, or requests at random.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from wirbel.core import arrow
from wirbel.core.hashing import mix
from wirbel.core.signals import spans
from wirbel.core.topology.parents import trace_keys

Ints = npt.NDArray[np.int64]
SYLLABLES = ("ka", "lo", "mi", "nu", "pe", "ra", "so", "tu")
MARKED = 0.6  # of the operations, that say where in the program they are
GROUPS = (0.7, 0.2, 0.08, 0.02)  # shares of what is carried along requests


def added(table: pa.Table, seed: int) -> pa.Table:
    """``table`` (spans) with three attributes more, the same for the same seed: of the operation, of the operation asked for from outside, and of a group of requests."""
    if not table.num_rows:
        return table
    rng = np.random.default_rng([seed, 31])
    keys = [f"{_word(rng)}.{_word(rng)}" for _ in range(3)]
    return _with(_with(_with(table, keys[0], _place(table, seed)), keys[1], _asked_for(table)), keys[2], _group(table))


def _word(rng: np.random.Generator) -> str:
    return "".join(str(part) for part in rng.choice(SYLLABLES, 2))


def _with(table: pa.Table, key: str, values: pa.Array) -> pa.Table:
    return table.append_column(arrow.attribute_column("span", "s", key), values)


def _place(table: pa.Table, seed: int) -> pa.Array:
    """What some operations say of themselves, on the spans that serve them."""
    code, names = arrow.codes(table["operation"])
    rng = np.random.default_rng([seed, 32, len(names)])
    told = [f"part {rng.integers(1000)}" if rng.random() < MARKED else None for _ in names]
    entry = np.isin(arrow.numbers(table["kind"]), spans.ENTRY_KINDS)
    return pa.array([*told, None], pa.string()).take(pa.array(np.where(entry, code, len(told))))


def _asked_for(table: pa.Table) -> pa.Array:
    """The operation at the root of each span's trace, by a name of its own; null where the root is not here."""
    code, names = arrow.codes(table["operation"])
    trace = np.unique(_traces(table), return_inverse=True)[1].reshape(-1)
    roots = np.flatnonzero(table["parent_id"].is_null().to_numpy(zero_copy_only=False))
    of = np.full(int(trace.max()) + 1, len(names), np.int64)
    of[trace[roots]] = code[roots]
    return pa.array([*(f"way {number}" for number in range(len(names))), None], pa.string()).take(pa.array(of[trace]))


def _group(table: pa.Table) -> pa.Array:
    share = (_traces(table) >> np.uint64(11)).astype(np.float64) / 2.0**53
    return pa.array([f"group {n}" for n in range(len(GROUPS))]).take(pa.array(np.minimum(np.searchsorted(np.cumsum(GROUPS), share), len(GROUPS) - 1)))


def _traces(table: pa.Table) -> npt.NDArray[np.uint64]:
    return mix(trace_keys(arrow.ids(table["trace_id"], 16)))
