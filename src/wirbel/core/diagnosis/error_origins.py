"""Where the failure of a request began: the end of an unbroken chain of failures beneath it.

From the failing request one goes down to a failed call, and on as long as there is one. A failure that who asked
got over is no origin: one that another attempt made good, or one beneath a span that did not fail. Of
several failed calls it is the last one to end that its caller did not get over.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from wirbel.core.diagnosis.critical_path import MAX_DEPTH
from wirbel.core.diagnosis.requests import Requests

Ints = npt.NDArray[np.int64]


def origins(requests: Requests) -> Ints:
    """The row where the failure of each failing request began, in order of request. Shape (failing requests,)."""
    parent = requests.traces.parent
    passed_on = requests.traces.failed.copy()
    passed_on[requests.repeats[requests.repeats >= 0]] = False  # it was tried again: what came of that counts
    rows = np.flatnonzero(passed_on & (parent >= 0))
    rows = rows[np.lexsort((rows, requests.traces.end[rows], parent[rows]))]
    last = np.r_[parent[rows[1:]] != parent[rows[:-1]], True][: len(rows)]
    beneath = np.full(len(parent), -1, np.int64)
    beneath[parent[rows[last]]] = rows[last]
    at = requests.roots[requests.failed]
    for _ in range(MAX_DEPTH):
        further = beneath[at] >= 0
        if not further.any():
            break
        at = np.where(further, beneath[at], at)
    return at
