"""What changed: each change near the onset, judged by what its own service did before and after it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy import stats

from wirbel.core import arrow
from wirbel.core.diagnosis.onset import Onset
from wirbel.core.diagnosis.requests import Requests
from wirbel.core.signals.changes import Change

Floats = npt.NDArray[np.float64]
ENOUGH = 20  # requests on each side, to compare them
SIGNIFICANT = 0.001
SLACK_NS = 90 * 10**9  # a change may be announced this long after it took effect


@dataclass(frozen=True)
class Judged:
    """A change with its before/after test.

    ``before`` and ``after`` are the mean seconds (or failing share) that the changed service adds to
    a request of the symptom; ``share`` is their difference as a share of the symptom's change;
    ``old_version_after`` is the same for requests served by instances that did not change, the control.
    """

    change: Change
    on_path: bool
    lead_s: float  # onset − change, 0 inside the onset's interval; negative: the change came after
    before: float | None
    after: float | None
    share: float
    p: float | None
    old_version_after: float | None
    verdict: str  # responsible, innocent, too-late, off-path, unclear


def judge(requests: Requests, changes: list[Change], onset: Onset, own: dict[str, Floats], delta: float) -> list[Judged]:
    """Judges each change by ``own``: what each service adds to each request (arrays of one value a request).

    ``delta`` is the change of the symptom over the same requests.
    """
    return [_judge(requests, change, onset, own, delta) for change in changes]


def _judge(requests: Requests, change: Change, onset: Onset, own: dict[str, Floats], delta: float) -> Judged:
    lead = _lead(change.at, onset)
    amount = own.get(change.service or "")
    if amount is None:
        return Judged(change, False, lead, None, None, 0.0, None, None, "off-path")
    earlier, later = requests.start < change.at, requests.start >= change.at
    verdict_if_late = "too-late" if lead * 1e9 < -SLACK_NS else None
    if earlier.sum() < ENOUGH or later.sum() < ENOUGH:
        return Judged(change, True, lead, None, None, 0.0, None, None, verdict_if_late or "unclear")
    before, after = float(amount[earlier].mean()), float(amount[later].mean())
    p = float(stats.mannwhitneyu(amount[later], amount[earlier], method="asymptotic").pvalue)
    share = (after - before) / delta if delta else 0.0
    control = _old_version(requests, change, amount, later)
    if verdict_if_late:
        verdict = verdict_if_late
    elif p < SIGNIFICANT and share > 0.1:
        verdict = "responsible"
    else:
        verdict = "innocent"
    return Judged(change, True, lead, before, after, share, p, control, verdict)


def _lead(at: int, onset: Onset) -> float:
    if onset.low <= at <= onset.high:
        return 0.0
    return ((onset.low if at < onset.low else onset.high) - at) / 1e9


def _old_version(requests: Requests, change: Change, amount: Floats, later: npt.NDArray[np.bool_]) -> float | None:
    """Mean of later requests that were served only by other versions of the changed service."""
    if change.version is None:
        return None
    service, services = arrow.codes(requests.table["service"])
    version, versions = arrow.codes(requests.table["version"])
    if change.service not in services or change.version not in versions:
        return None
    rows = np.flatnonzero((service == services.index(change.service)) & (requests.request >= 0))
    is_new = version[rows] == versions.index(change.version)
    touches_new, touches_old = np.zeros(len(requests), np.bool_), np.zeros(len(requests), np.bool_)
    touches_new[requests.request[rows[is_new]]] = True
    touches_old[requests.request[rows[~is_new]]] = True
    kept = later & touches_old & ~touches_new
    return float(amount[kept].mean()) if kept.sum() >= ENOUGH else None
