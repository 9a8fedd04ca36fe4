"""Bloom filter of trace ids: says for sure that a block lacks a trace.

Two independent words of the (random) id make all hash functions (Kirsch and Mitzenmacher 2006).
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

BITS_PER_TRACE = 10
HASHES = 7  # optimal for 10 bits: ln 2 × 10; false positives 0.8 %

Words = npt.NDArray[np.uint64]


def _positions(traces: Words, bits: int) -> npt.NDArray[np.int64]:
    with np.errstate(over="ignore"):
        # Careless senders count their ids up; a multiplication spreads those too.
        first = (traces[:, 0] ^ (traces[:, 1] >> np.uint64(29))) * np.uint64(0x9E3779B97F4A7C15)
        second = (traces[:, 1] ^ (traces[:, 0] >> np.uint64(31))) * np.uint64(0xC2B2AE3D27D4EB4F) | np.uint64(1)
        mixed = first[:, None] + np.arange(HASHES, dtype=np.uint64) * second[:, None]
        return ((mixed >> np.uint64(20)) % np.uint64(bits)).astype(np.int64)


def build(traces: Words) -> bytes:
    """Filter of distinct trace ids, shape (n, 2)."""
    bits = max(64, -(-len(traces) * BITS_PER_TRACE // 8) * 8)
    table = np.zeros(bits, np.bool_)
    table[_positions(traces, bits).ravel()] = True
    return np.packbits(table).tobytes()


def may_contain(filter_bytes: bytes, trace: Words) -> bool:
    """False only if the trace id, shape (1, 2), is not in the filter."""
    table = np.frombuffer(filter_bytes, np.uint8)
    at = _positions(trace, len(table) * 8)[0]
    return bool(((table[at >> 3] >> (7 - (at & 7)).astype(np.uint8)) & 1).all())
