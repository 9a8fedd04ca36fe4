"""Who is under whom: rows of parents, and what calls across services say about peers."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from wirbel.core.hashing import mix
from wirbel.core.signals import spans

Ints = npt.NDArray[np.int64]


def _keys(trace: npt.NDArray[np.uint64], span: npt.NDArray[np.uint64]) -> npt.NDArray[np.uint64]:
    """One word per (trace id, span id); two pairs share a word about once in 2**64 pairs of pairs."""
    return mix(mix(mix(trace[:, 0]) ^ trace[:, 1]) ^ span[:, 0])


def parent_rows(table: pa.Table) -> Ints:
    """Row of each span's parent, −1 for a root or where the parent is not in ``table``. Shape (rows,)."""
    trace, span = spans.ids(table["trace_id"], 16), spans.ids(table["span_id"], 8)
    parent = spans.ids(table["parent_id"], 8)
    count = len(span)
    rows = np.full(count, -1, np.int64)
    wanted = np.flatnonzero(parent[:, 0] != 0)
    if not count or not len(wanted):
        return rows
    keys = _keys(trace, span)
    order = np.argsort(keys)
    sought = _keys(trace[wanted], parent[wanted])
    # Sorted look-ups walk the table once; random ones miss the cache at every step.
    by_key = np.argsort(sought)
    at = np.minimum(np.searchsorted(keys[order], sought[by_key]), count - 1)
    candidate = np.empty(len(wanted), np.int64)
    candidate[by_key] = order[at]
    same = (span[candidate, 0] == parent[wanted, 0]) & (trace[candidate] == trace[wanted]).all(axis=1) & (candidate != wanted)
    rows[wanted[same]] = candidate[same]
    return rows


def resolve(table: pa.Table, known: dict[str, str]) -> tuple[pa.Table, dict[str, str]]:
    """Replaces addresses by services where calls show who answered.

    ``known`` maps addresses to services learned before, for calls whose answering span is not
    in this table. Returns the table with ``peer`` and ``peer_kind`` settled, and what was
    learned: an address that was answered by one service only.
    """
    parent = parent_rows(table)
    service, services = spans.codes(table["service"])
    peer, peers = spans.codes(table["peer"])
    kind = spans.numbers(table["kind"])
    child = np.flatnonzero((parent >= 0) & np.isin(kind, spans.ENTRY_KINDS))
    above = parent[child]
    asked = np.isin(kind[above], (spans.CLIENT,)) & (kind[child] == spans.SERVER)
    answered = np.full(table.num_rows, -1, np.int64)
    answered[above[asked]] = service[child[asked]]

    learned: dict[str, str] = {}
    heard = np.unique(np.stack([peer[above[asked]], service[child[asked]]]), axis=1) if asked.any() else np.zeros((2, 0), int)
    for address in set(heard[0]) - {-1}:
        at_address = heard[1][heard[0] == address]
        if len(at_address) == 1:
            learned[peers[address]] = services[at_address[0]]
    remembered = known | learned
    kind_of_peer = np.array(table["peer_kind"].to_pylist(), dtype=object)
    by_address = np.array([remembered.get(name) for name in peers] + [None], dtype=object)[peer]
    by_address[(kind != spans.CLIENT) | np.isin(kind_of_peer, ["database", "cache", "broker"])] = None
    by_answer = np.array([*services, None], dtype=object)[answered]
    settled = np.where(answered >= 0, by_answer, by_address)
    is_settled = np.array([name is not None for name in settled])
    names = np.where(is_settled, settled, np.array([*peers, None], dtype=object)[peer])
    kinds = np.where(is_settled, "service", kind_of_peer)
    table = table.set_column(table.schema.get_field_index("peer"), "peer", pa.array(names, pa.string()))
    table = table.set_column(table.schema.get_field_index("peer_kind"), "peer_kind", pa.array(kinds, pa.string()))
    return table, learned
