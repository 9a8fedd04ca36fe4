"""Pairs of values: one that does harm only together with another, as a version of an app on one kind of device."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wirbel.core.diagnosis.marks import Marks
from wirbel.core.diagnosis.requests import Requests
from wirbel.core.stats.tests import adjusted, mark_association

Floats = npt.NDArray[np.float64]

MIN_REQUESTS = 20  # in the focus, on each side that is compared
ALONE = 0.2  # of the excess of both together that either may have alone
MOST = 0.8  # of a value's excess that must be together with the other
SIGNIFICANT = 0.01  # adjusted p


@dataclass(frozen=True, kw_only=True)
class Partner:
    """A value without which another does no harm; excesses are means over what is usual, in the symptom's unit."""

    service: str
    key: str
    value: str
    excess_with: float  # of requests that touch both
    excess_without: float  # of those that touch another value of the partner's attribute instead


def partner(requests: Requests, found: Marks, mark: int, bad: npt.NDArray[np.bool_], over: Floats) -> Partner | None:
    """The value that a mark needs to do harm; None if it does harm by itself. ``bad`` and ``over`` have shape (requests,).

    Requests of the focus that touch both are held against those that touch either without the other.
    """
    touches = np.zeros(len(requests), np.bool_)
    touches[found.owner[found.mark == mark]] = True
    focus, weight, one = requests.in_focus, requests.adjusted_count, np.zeros(len(requests), np.int64)

    def sums(values: Floats, among: npt.NDArray[np.bool_]) -> tuple[Floats, Floats]:
        with_it, others = found.both(values * among, one, 1)
        return with_it[:, 0], others[:, 0]

    own, foreign = focus & touches, focus & ~touches
    (rows, rows_without), (rows_alone, _) = (sums(np.ones(len(requests)), among) for among in (own, foreign))
    (weights, weights_without), (weights_alone, _) = (sums(weight, among) for among in (own, foreign))
    (total, total_without), (total_alone, _) = (sums(weight * over, among) for among in (own, foreign))
    enough = np.flatnonzero(np.minimum(np.minimum(rows, rows_without), rows_alone) >= MIN_REQUESTS)
    if not len(enough):
        return None
    with np.errstate(divide="ignore", invalid="ignore"):
        together, without, alone = total / weights, total_without / weights_without, total_alone / weights_alone

    def of_enough(values: Floats) -> tuple[Floats, Floats]:
        with_it, others = sums(values, own)
        return with_it[enough, None], others[enough, None]

    p = np.ones(len(found))
    p[enough] = adjusted(mark_association(weight, bad.astype(float), of_enough))
    is_needed = (p < SIGNIFICANT) & (np.maximum(without, alone) <= ALONE * together) & (total >= MOST * (total + total_without))
    if not is_needed.any():
        return None
    best = int(np.argmax(np.where(is_needed, total - total_without, -np.inf)))
    service, key, value = found.described[best]
    return Partner(service=service, key=key, value=value, excess_with=float(together[best]), excess_without=float(without[best]))
