"""What varies from one log record to the next is masked, so that records alike are one: whole columns at a time.

The patterns run on Arrow's RE2, which is linear in its input.
"""

from __future__ import annotations

import pyarrow as pa
import pyarrow.compute as pc

MASK = "<*>"
LONGEST = 300  # characters of a body that are looked at
_VARYING = (
    r"[0-9a-fA-F]{8}-[0-9a-fA-F-]{27}",  # UUIDs
    r"\b(?:[0-9]{1,3}\.){3}[0-9]{1,3}(?::[0-9]+)?\b",  # addresses
    r"'[^']{0,80}'|\"[^\"]{0,80}\"",
    r"\b0x[0-9a-fA-F]+\b",
    r"\b[0-9a-fA-F]*[0-9][0-9a-fA-F]{7,}\b",
    r"[-+]?[0-9]+(?:[.,:][0-9]+)*",
)


def masked(bodies: pa.Array | pa.ChunkedArray) -> pa.Array:
    """Bodies with numbers, ids, addresses and quoted words masked; shape kept, null for null."""
    whole = bodies.combine_chunks() if isinstance(bodies, pa.ChunkedArray) else bodies
    encoded = pc.utf8_slice_codeunits(whole, 0, LONGEST).dictionary_encode()
    texts = encoded.dictionary
    for pattern in _VARYING:
        texts = pc.replace_substring_regex(texts, pattern, MASK)
    return texts.take(encoded.indices)
