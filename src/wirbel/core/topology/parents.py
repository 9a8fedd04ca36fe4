"""Who is under whom: rows of parents, and what calls across services say about peers."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from wirbel.core import arrow
from wirbel.core.hashing import mix
from wirbel.core.signals import spans

Ints = npt.NDArray[np.int64]


def keys(trace: npt.NDArray[np.uint64], span: npt.NDArray[np.uint64]) -> npt.NDArray[np.uint64]:
    """One word per (trace id, span id), given as (rows, 2) and (rows, 1) words; two pairs share a word about once in 2**64 pairs of pairs."""
    return mix(trace_keys(trace) ^ span[:, 0])


def trace_keys(trace: npt.NDArray[np.uint64]) -> npt.NDArray[np.uint64]:
    """One word per trace id, given as (rows, 2) words."""
    return mix(mix(trace[:, 0]) ^ trace[:, 1])


def parent_rows(table: pa.Table) -> Ints:
    """Row of each span's parent, −1 for a root or where the parent is not in ``table``. Shape (rows,)."""
    trace, span = arrow.ids(table["trace_id"], 16), arrow.ids(table["span_id"], 8)
    parent = arrow.ids(table["parent_id"], 8)
    count = len(span)
    rows = np.full(count, -1, np.int64)
    wanted = np.flatnonzero(parent[:, 0] != 0)
    if not count or not len(wanted):
        return rows
    own = keys(trace, span)
    order = np.argsort(own)
    sought = keys(trace[wanted], parent[wanted])
    # Sorted look-ups walk the table once; random ones miss the cache at every step.
    by_key = np.argsort(sought)
    at = np.minimum(np.searchsorted(own[order], sought[by_key]), count - 1)
    candidate = np.empty(len(wanted), np.int64)
    candidate[by_key] = order[at]
    same = (span[candidate, 0] == parent[wanted, 0]) & (trace[candidate] == trace[wanted]).all(axis=1) & (candidate != wanted)
    rows[wanted[same]] = candidate[same]
    return rows


def earliest_of_circles(parent: Ints, start: Ints) -> Ints:
    """Of each circle that spans make as each is beneath another of it, the row that starts first, in order of rows; shape (circles,).

    ``parent`` as of :func:`parent_rows` and ``start``, of shape (rows,).
    """
    # Somewhere in a circle a parent starts no earlier than its child.
    if not (start[parent] >= start)[parent >= 0].any():
        return np.zeros(0, np.int64)
    # Twice as far up at each turn, with the least row met on the way; row −1 leads to itself.
    above, least = np.r_[parent, -1], np.r_[np.arange(len(parent)), -1]
    for _ in range(len(parent).bit_length() + 1):
        if (above < 0).all():
            return np.zeros(0, np.int64)
        least, above = np.minimum(least, least[above]), above[above]
    inside = np.unique(above[above >= 0])  # so far up only circles are left, and all of each
    order = inside[np.lexsort((start[inside], least[inside]))]
    return np.sort(order[np.r_[True, least[order[1:]] != least[order[:-1]]]])


Address = tuple[str, str]
"""Environment and address: the same address names other services in other environments."""


def resolve(table: pa.Table, parent: Ints, known: dict[Address, str]) -> tuple[pa.Table, dict[Address, str]]:
    """Replaces addresses by services where calls show who answered.

    ``parent`` is :func:`parent_rows` of the table; ``known`` maps addresses to services learned
    before, for calls whose answering span is not in this table. Returns the table with ``peer`` and
    ``peer_kind`` settled, and what was learned: an address that was answered by one service only. One
    at which several answer here names none of them, whatever was known of it.
    """
    service, services = arrow.codes(table["service"])
    environment, environments = arrow.codes(table["environment"])
    peer, peers = arrow.codes(table["peer"])
    peer_kind, peer_kinds = arrow.codes(table["peer_kind"])
    kind = arrow.numbers(table["kind"])
    child = np.flatnonzero((parent >= 0) & (kind == spans.SERVER))
    child = child[kind[parent[child]] == spans.CLIENT]
    answered = np.full(table.num_rows, -1, np.int64)
    answered[parent[child]] = service[child]

    place = np.where(peer >= 0, environment * len(peers) + peer, -1)  # one number an address of an environment
    named = child[place[parent[child]] >= 0]
    heard = np.divmod(np.unique(place[parent[named]] * len(services) + service[named]), max(len(services), 1))
    at, first, times = np.unique(heard[0], return_index=True, return_counts=True)

    def address(code: int) -> Address:
        return environments[code // len(peers)], peers[code % len(peers)]

    learned = {address(int(code)): services[heard[1][one]] for code, one in zip(at[times == 1], first[times == 1], strict=True)}
    unclear = {address(int(code)) for code in at[times > 1]}
    remembered = {key: name for key, name in (known | learned).items() if key not in unclear}
    called = [int(code) for code in np.unique(place) if code >= 0]
    elsewhere = sorted({remembered[address(code)] for code in called if address(code) in remembered} - set(services))
    names = [*services, *elsewhere, *peers]
    number = {name: code for code, name in enumerate([*services, *elsewhere])}
    by_place = np.full(max(len(environments) * len(peers), 1) + 1, -1, np.int64)  # the last is for no address
    for code in called:
        if address(code) in remembered:
            by_place[code] = number[remembered[address(code)]]
    by_address = by_place[place]
    fixed = np.array([name in ("database", "cache", "broker") for name in peer_kinds] + [False])[peer_kind]
    by_address[(kind != spans.CLIENT) | fixed] = -1
    settled = np.where(answered >= 0, answered, by_address)
    as_sent = np.where(peer >= 0, peer + len(names) - len(peers), -1)
    kinds = [*peer_kinds, "service"]
    table = _with_codes(table, "peer", np.where(settled >= 0, settled, as_sent), names)
    return _with_codes(table, "peer_kind", np.where(settled >= 0, len(peer_kinds), peer_kind), kinds), learned


def _with_codes(table: pa.Table, name: str, code: Ints, values: list[str]) -> pa.Table:
    """The table with a text column given as codes into ``values``, −1 for null."""
    column = pa.array(values, pa.string()).take(pa.array(code, mask=code < 0))
    return table.set_column(table.schema.get_field_index(name), name, column)
