"""Splits the change of the symptom into parts that add up to it.

A part changes because it is called more often or because each call takes longer. What belongs to both is
shared equally (the mean of both orders, which is Shapley's value of two players):
Δ = Δcalls × mean time + mean calls × Δtime. All are means over requests, so the sum over parts is the change
of the mean request duration, exactly.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal, get_args

import numpy as np
import numpy.typing as npt
from scipy import sparse

from wirbel.core.diagnosis.parts import Part
from wirbel.core.diagnosis.requests import Ids, Requests
from wirbel.core.stats import drift

Floats = npt.NDArray[np.float64]
Clear = Literal["mean", "logarithm", "tail"]
CLEAR: tuple[Clear, ...] = get_args(Clear)
CERTAIN = 0.95
HIGH = 0.9  # quantile of the reference, above which is its tail
SHORTEST_S = 1e-6


@dataclass(frozen=True, kw_only=True)
class Contribution:
    """One part's share of the change; means per request of the symptom, unit of the symptom."""

    part: Part
    calls_reference: float
    calls_focus: float
    reference: float  # mean per request
    focus: float
    delta: float
    more_calls: float
    slower_calls: float
    low: float  # 95 % interval of delta
    high: float
    example: Ids | None = None  # a request of the focus in which much of it is this part
    beside: Ids | None = None  # an ordinary one of the reference, for the same operation


@dataclass(frozen=True, kw_only=True)
class Effect:
    """The change of the symptom itself, with its interval and the p of there being none (see core/stats/drift.py)."""

    reference: float
    focus: float
    delta: float
    low: float
    high: float
    unit: str
    statistic: str
    requests_reference: int
    requests_focus: int
    p: float = 0.0
    clear_by: Clear | None = None  # None: the reference wanders as far by itself

    @property
    def is_clear(self) -> bool:
        """Whether the reference does not wander as far by itself."""
        return bool(self.delta) and (self.clear_by is not None or not self.low <= 0 <= self.high)


def effect(requests: Requests, values: Floats, unit: str, statistic: str) -> Effect:
    """Change of the weighted mean of ``values`` (one a request) from reference to focus.

    The mean of what has a heavy tail scatters so much that a change many times as large as the usual may not be clear by it. The mean of
    logarithms, and the share of requests above the reference's 90th percentile, are asked too; each of three tests has a third of the 5 %
    (Bonferroni), and they speak only where the mean moved the same way.
    """
    focus = requests.in_focus
    before, after = (float(mean) for mean in requests.means(values))
    columns = [values, *(_without_tail(requests, values) if unit == "s" else [])]
    found = drift.difference(requests.start / 1e9, np.stack(columns, axis=1), requests.adjusted_count, focus)
    low, high = float(found.low[0]), float(found.high[0])
    agree = np.sign(found.delta) == np.sign(after - before)
    p = np.where(agree, found.p, 1.0)
    best = int(np.argmin(p))
    return Effect(
        reference=before,
        focus=after,
        delta=after - before,
        low=low,
        high=high,
        unit=unit,
        statistic=statistic,
        requests_reference=int((~focus).sum()),
        requests_focus=int(focus.sum()),
        p=max(float(min(len(columns) * p[best], found.p[0])), 0.0),
        clear_by=CLEAR[best] if len(columns) * p[best] < 1 - CERTAIN else "mean" if not low <= 0 <= high else None,
    )


def _without_tail(requests: Requests, values: Floats) -> list[Floats]:
    usual = requests.in_reference
    high = np.quantile(values[usual], HIGH, method="inverted_cdf", weights=requests.adjusted_count[usual])
    return [np.log(np.maximum(values, SHORTEST_S)), (values > high).astype(float)]


def where_the_time_went(requests: Requests) -> list[Contribution]:
    """Contributions to the change of the mean duration, s; largest first. They sum to it."""
    return _contributions(requests, requests.time, requests.calls)


@dataclass(frozen=True)
class Split:
    """Calls and time a request of each part in both windows, and the change split into more and slower calls; shapes (parts,)."""

    calls: tuple[Floats, Floats]  # reference, focus
    time: tuple[Floats, Floats]
    price: Floats  # of a call: the mean of both windows'
    more: Floats
    slower: Floats

    @classmethod
    def of(cls, requests: Requests, time: sparse.csr_array, calls: sparse.csr_array) -> Split:
        (t0, t1), (n0, n1) = requests.means(time), requests.means(calls)
        with np.errstate(divide="ignore", invalid="ignore"):
            each0, each1 = t0 / n0, t1 / n1
        each0, each1 = np.where(n0 > 0, each0, each1), np.where(n1 > 0, each1, each0)
        price = np.where(n0 + n1 > 0, (each0 + each1) / 2, 0.0)
        more = (n1 - n0) * price
        return cls((n0, n1), (t0, t1), price, more, (t1 - t0) - more)


def _contributions(requests: Requests, amount: sparse.csr_array, calls: sparse.csr_array) -> list[Contribution]:
    split = Split.of(requests, amount, calls)
    (n0, n1), (t0, t1) = split.calls, split.time
    changed = drift.difference(requests.start / 1e9, amount, requests.adjusted_count, requests.in_focus)
    columns = amount.tocsc()
    order = np.argsort(-np.abs(t1 - t0), kind="stable")
    found = []
    for i in order[: len(requests.parts)]:
        example, beside = _example(requests, columns[:, [i]].toarray()[:, 0])
        found.append(
            Contribution(
                part=requests.parts[i],
                calls_reference=float(n0[i]),
                calls_focus=float(n1[i]),
                reference=float(t0[i]),
                focus=float(t1[i]),
                delta=float(t1[i] - t0[i]),
                more_calls=float(split.more[i]),
                slower_calls=float(split.slower[i]),
                low=float(changed.low[i]),
                high=float(changed.high[i]),
                example=example,
                beside=beside,
            )
        )
    return found


def _example(requests: Requests, amount: Floats) -> tuple[Ids | None, Ids | None]:
    """The request at the 90th percentile of those of the focus that a part touches (telling, but not the
    oddest one), and the middle one of the reference for the same operation."""
    telling = requests.at_quantile(requests.in_focus & (amount > 0), amount, 0.9)
    if telling is None:
        return None, None
    usual = requests.at_quantile(~requests.in_focus & (requests.stratum == requests.stratum[telling]), requests.seconds, 0.5)
    return requests.ids_of(telling), None if usual is None else requests.ids_of(usual)


def where_errors_began(requests: Requests, origin: npt.NDArray[np.int64]) -> list[Contribution]:
    """Contributions to the change of the error share; each failing request is given to the part where it began.

    ``origin`` is the row where the failure of each failing request began, in order of request (error_origins.py).
    """
    given = requests.part[origin]
    used, code = np.unique(given, return_inverse=True)
    place = (requests.request[origin], code.reshape(-1))
    amount = sparse.csr_array((np.ones(len(origin)), place), shape=(len(requests), max(len(used), 1)))
    return _contributions(replace(requests, parts=[requests.parts[part] for part in used]), amount, amount)
