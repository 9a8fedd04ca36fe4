"""Bloom filter of trace ids, or of words: says for sure that a block lacks one.

All bits of a key lie in one segment of the filter (a blocked Bloom filter: Putze, Sanders and Singler 2007), so that
of a filter in the database only the segment is read: of a thousand blocks a quarter of a megabyte. Two words mixed from the id
make all hash functions (Kirsch and Mitzenmacher 2006).
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt
from django.db.models import BinaryField
from django.db.models.expressions import RawSQL

from wirbel.core.hashing import Words, mix

BITS_PER_KEY = 16
HASHES = 7  # with 16 bits a key: 0.1 % false positives (0.06 % without segments); more hashes would gain little
SEGMENT = 256  # bytes

Bits = npt.NDArray[np.int64]


def build(keys: Words) -> bytes:
    """Filter of distinct keys, shape (n, 2)."""
    segments = max(1, -(-len(keys) * BITS_PER_KEY // (8 * SEGMENT)))
    table = np.zeros(segments * SEGMENT * 8, np.bool_)
    first, inside = _hashed(keys)
    table[((first % segments) * SEGMENT * 8)[:, None] + inside] = True
    return np.packbits(table).tobytes()


def may_contain(held: bytes, keys: Words) -> npt.NDArray[np.bool_]:
    """For each key, shape (n, 2): False only if it is not in the filter."""
    first, inside = _hashed(keys)
    return _has(np.frombuffer(held, np.uint8), (first % (len(held) // SEGMENT) * SEGMENT * 8)[:, None] + inside)


def segment_of(column: str, key: Words) -> RawSQL:
    """The segment of a stored filter in which a key, shape (1, 2), would be; null for no filter."""
    first, _ = _hashed(key)
    sql = f"substring({column} from (%s %% (octet_length({column}) / {SEGMENT}) * {SEGMENT} + 1)::int for {SEGMENT})"
    return RawSQL(sql, [int(first[0])], output_field=BinaryField())


def segments_may_contain(segments: Sequence[bytes], key: Words) -> npt.NDArray[np.bool_]:
    """For each segment that :func:`segment_of` read: False only if the key is not in its filter."""
    table = np.frombuffer(b"".join(segments), np.uint8)
    return _has(table, (np.arange(len(segments)) * SEGMENT * 8)[:, None] + _hashed(key)[1])


def _hashed(keys: Words) -> tuple[Bits, Bits]:
    """For each key a number that chooses its segment, (n,), and its bits in it, (n, HASHES)."""
    first = mix(mix(keys[:, 0]) ^ keys[:, 1])
    second = mix(first)
    step = (second >> np.uint64(32)) | np.uint64(1)
    with np.errstate(over="ignore"):
        hashed = second[:, None] + np.arange(HASHES, dtype=np.uint64) * step[:, None]
    return (first >> np.uint64(1)).astype(np.int64), (hashed % np.uint64(SEGMENT * 8)).astype(np.int64)


def _has(table: npt.NDArray[np.uint8], at: Bits) -> npt.NDArray[np.bool_]:
    return ((table[at >> 3] >> (7 - (at & 7)).astype(np.uint8)) & 1).astype(np.bool_).all(axis=1)
