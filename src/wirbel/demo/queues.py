"""Waiting lines."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt


def erlang_c(servers: int, load: npt.ArrayLike) -> npt.NDArray[np.float64]:
    """Probability that an arrival has to wait in M/M/c, for loads in erlangs below ``servers``.

    By the stable recursion of Erlang B (Jagerman), then C = B / (1 − ρ(1 − B)).
    """
    a = np.asarray(load, float)
    blocked = np.ones_like(a)
    for n in range(1, servers + 1):
        blocked = a * blocked / (n + a * blocked)
    rho = a / servers
    return blocked / (1 - rho * (1 - blocked))
