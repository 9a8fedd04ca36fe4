"""Bloom filter of trace ids: says for sure that a block lacks a trace.

Two words mixed from the id make all hash functions (Kirsch and Mitzenmacher 2006).
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from wirbel.core.hashing import Words, mix

BITS_PER_KEY = 16
HASHES = 7  # with 16 bits a key: 0.06 % false positives; more hashes would gain little


def _positions(traces: Words, bits: int) -> npt.NDArray[np.int64]:
    first = mix(mix(traces[:, 0]) ^ traces[:, 1])
    second = mix(first) | np.uint64(1)
    with np.errstate(over="ignore"):
        hashed = first[:, None] + np.arange(HASHES, dtype=np.uint64) * second[:, None]
    return (hashed % np.uint64(bits)).astype(np.int64)


def build(traces: Words) -> bytes:
    """Filter of distinct trace ids, shape (n, 2)."""
    bits = max(64, -(-len(traces) * BITS_PER_KEY // 8) * 8)
    table = np.zeros(bits, np.bool_)
    table[_positions(traces, bits).ravel()] = True
    return np.packbits(table).tobytes()


def may_contain(filter_bytes: bytes, traces: Words) -> npt.NDArray[np.bool_]:
    """For each trace id, shape (n, 2): False only if it is not in the filter."""
    table = np.frombuffer(filter_bytes, np.uint8)
    at = _positions(traces, len(table) * 8)
    return ((table[at >> 3] >> (7 - (at & 7)).astype(np.uint8)) & 1).astype(np.bool_).all(axis=1)
