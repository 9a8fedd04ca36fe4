"""Who stands out: attribute values that slow or failed requests have and others have not."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from wirbel.core.diagnosis.marks import Marks, marks_of
from wirbel.core.diagnosis.pairs import Partner, partner
from wirbel.core.diagnosis.requests import Requests
from wirbel.core.stats.tests import adjusted, mark_association

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]

MIN_REQUESTS = 5  # in the focus, that a value marks
MOST_STRATA = 30  # operations that are compared each for itself
MOST_PAIRED = 8  # of which it is asked whether they do harm only together with another
OTHERS_NEEDED = 20  # siblings in the focus, to say how others behave
LEAST_EXPLAINED = 0.02  # of the change
SIGNIFICANT = 0.01  # adjusted p
NEW = 0.1  # of its rate in the focus: a value seen less often before is new


@dataclass(frozen=True, kw_only=True)
class Standout:
    """One attribute value of one service, and what requests that touch it are like.

    It is compared with its siblings: requests that touch the same service with another value of
    the same attribute. Shares are of slow (or failed) and of normal requests among both; excesses
    are means over what is usual for a request's operation, in the symptom's unit; ``explains`` is the
    share of the change that would vanish if requests with this value behaved like the
    siblings. ``same_as`` names values that mark the same requests.
    """

    service: str
    key: str
    value: str
    share_bad: float
    share_normal: float
    requests: int
    excess_with: float
    excess_others: float
    others: str  # where the siblings are from: "focus", or "reference" if the focus has too few
    explains: float
    p: float
    example: tuple[str, str] | None = None  # a slow (or failed) request that touches it: (trace id, span id)
    beside: tuple[str, str] | None = None  # a normal one that touches a sibling
    same_as: list[tuple[str, str, str]] = field(default_factory=list)
    only_with: Partner | None = None  # without which it does no harm


def _examples(requests: Requests, found: Marks, mark: int, bad: npt.NDArray[np.bool_], over: Floats) -> tuple[tuple[str, str] | None, tuple[str, str] | None]:
    """A typical bad request with the mark in the focus, and a typical good one of its siblings."""
    touches, siblings = np.zeros(len(requests), np.bool_), np.zeros(len(requests), np.bool_)
    touches[found.owner[found.mark == mark]] = True
    siblings[found.group_owner[found.group_of_pair == found.group[mark]]] = True
    chosen = (requests.at_quantile(touches & bad & requests.in_focus, over, 0.5), requests.at_quantile(siblings & ~touches & ~bad, over, 0.5))
    slow, normal = (None if index is None else requests.ids_of(index) for index in chosen)
    return slow, normal


def who_stands_out(requests: Requests, bad: npt.NDArray[np.bool_], over: Floats, delta: float, most: int = 30) -> tuple[list[Standout], list[str]]:
    """Values that mark ``bad`` requests, after control of false discoveries, those that explain most first; and what was not compared.

    ``bad`` and ``over`` have one entry a request, shape (requests,); ``over`` is the symptom's value less what is usual
    for the operation, ``delta`` the change of the symptom.
    """
    if not bad.any() or bad.all() or not delta:
        return [], []
    found, left_out = marks_of(requests, over)
    if not len(found):
        return [], left_out
    focus, weight = requests.in_focus.astype(float), requests.adjusted_count
    stratum, width = _strata(requests)

    def both(values: Floats) -> tuple[Floats, Floats]:
        return found.both(values, stratum, width)

    is_bad = bad.astype(float)
    bad_with, bad_others = both(is_bad * weight)
    good_with, good_others = both((1 - is_bad) * weight)
    p = adjusted(mark_association(weight, is_bad, both))
    rows_with, rows_others = both(focus)
    weight_with, weight_others = both(focus * weight)
    sum_with, sum_others = both(focus * weight * over)
    quiet_with, quiet_others = both((1 - focus) * weight)
    _, quiet_sum = both((1 - focus) * weight * over)
    # Siblings are held against the value operation by operation: a value that slow operations touch
    # more often would look guilty of being slow.
    comparable = rows_others >= OTHERS_NEEDED
    shared_weight = np.where(comparable, weight_with, 0).sum(axis=1)
    whole_weight = weight_with.sum(axis=1)
    enough = shared_weight >= 0.5 * whole_weight
    # Without siblings in the focus the reference is asked, which says something of a new value only: one
    # that was there before is beside itself, and would take the blame for the whole change.
    is_new = quiet_with.sum(axis=1) <= NEW * whole_weight * ((1 - focus) * weight).sum() / (focus * weight).sum()
    with np.errstate(divide="ignore", invalid="ignore"):
        usual = np.where(comparable, sum_others / weight_others, 0.0)
        shared_with = np.where(comparable, sum_with, 0).sum(axis=1) / shared_weight
        shared_others = (usual * np.where(comparable, weight_with, 0)).sum(axis=1) / shared_weight
        quiet = quiet_others.sum(axis=1)
        excess_with = np.where(enough, shared_with, sum_with.sum(axis=1) / whole_weight)
        excess_others = np.where(enough, shared_others, np.where(quiet > 0, quiet_sum.sum(axis=1) / quiet, 0.0))
        explains = whole_weight / (weight * focus).sum() * (excess_with - excess_others) / delta
    rows_with, bad_with, good_with, bad_others, good_others = (x.sum(axis=1) for x in (rows_with, bad_with, good_with, bad_others, good_others))
    share_bad = bad_with / np.maximum(bad_with + bad_others, 1e-9)
    share_normal = good_with / np.maximum(good_with + good_others, 1e-9)
    kept = np.flatnonzero((p < SIGNIFICANT) & (enough | is_new) & (share_bad > share_normal) & (rows_with >= MIN_REQUESTS) & (explains > LEAST_EXPLAINED))
    # Distinct marks of the same requests are one finding: sums of random words tell them apart.
    words = np.random.default_rng(1).integers(1, 2**62, len(requests))
    fingerprint = np.zeros(len(found), np.int64)
    np.add.at(fingerprint, found.mark, words[found.owner])
    standouts: dict[int, Standout] = {}
    for i in kept[np.lexsort((kept, p[kept], -np.round(explains[kept], 3)))]:
        service, key, value = found.described[i]
        same = standouts.get(int(fingerprint[i]))
        if same is not None:
            same.same_as.append(found.described[i])
        elif len(standouts) < most:
            example, beside = _examples(requests, found, int(i), bad, over)
            standouts[int(fingerprint[i])] = Standout(
                service=service,
                key=key,
                value=value,
                share_bad=float(share_bad[i]),
                share_normal=float(share_normal[i]),
                requests=int(rows_with[i]),
                excess_with=float(excess_with[i]),
                excess_others=float(excess_others[i]),
                others="focus" if enough[i] else "reference",
                explains=float(min(explains[i], 1.0)),
                p=float(p[i]),
                example=example,
                beside=beside,
                only_with=partner(requests, found, int(i), bad, over) if len(standouts) < MOST_PAIRED else None,
            )
    return list(standouts.values()), left_out


def _strata(requests: Requests) -> tuple[Ints, int]:
    """The operation asked for of each request, as numbers 0 … width − 1; rare ones share the last."""
    _, code, count = np.unique(requests.stratum, return_inverse=True, return_counts=True)
    place = np.empty(len(count), np.int64)
    place[np.argsort(-count, kind="stable")] = np.arange(len(count))
    return np.minimum(place, MOST_STRATA - 1)[code], min(len(count), MOST_STRATA)
