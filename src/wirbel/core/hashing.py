"""Mixing of 64-bit words, so that ids that were counted up spread like random ones.

Source: the finaliser of SplitMix64 (Steele, Lea and Flood, OOPSLA 2014).
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

Words = npt.NDArray[np.uint64]


def mix(words: Words) -> Words:
    """A bijection of 64-bit words in which every bit depends on all others. Any shape."""
    with np.errstate(over="ignore"):
        z = words + np.uint64(0x9E3779B97F4A7C15)
        z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
        return z ^ (z >> np.uint64(31))
