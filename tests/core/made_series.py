"""Series that are made so that it is known what must be found in them."""

from __future__ import annotations

import numpy as np
from scipy import signal

BEGAN = 1_772_006_400 * 10**9  # 2026-02-25 08:00 UTC
MINUTE = 60 * 10**9
DAY = 1440  # minutes


def times(count: int, step_s: float = 60.0) -> np.ndarray:
    return BEGAN + np.arange(count) * int(step_s * 1e9)


def quiet(days: float, seed: int, alike: float = 0.0, season: float = 10.0) -> tuple[np.ndarray, np.ndarray]:
    """Minutes of a level with the day's turn; each depends on the one before as much as ``alike``."""
    t = times(round(days * DAY))
    noise = signal.lfilter([np.sqrt(1 - alike**2)], [1, -alike], np.random.default_rng([seed, round(alike * 100)]).standard_normal(len(t)))
    return t, 50 + 5 * np.asarray(noise) + season * np.sin(2 * np.pi * np.arange(len(t)) / DAY)
