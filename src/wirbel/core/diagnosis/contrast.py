"""Who stands out: attribute values that slow or failed requests have and others have not."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from wirbel.core.diagnosis.requests import Requests
from wirbel.core.signals import spans
from wirbel.core.signals.operations import without_literals
from wirbel.core.stats.tests import adjusted, association

Floats = npt.NDArray[np.float64]

MOST_VALUES = 200  # distinct values of one attribute; more are identities, not groups
LEAST_SHARE = 0.01  # of requests that a value marks
OTHERS_NEEDED = 20  # requests without the value, to say how others behave
SIGNIFICANT = 0.01  # adjusted p
# Never a group: every request has its own.
_IGNORED = {"url.full", "url.path", "url.query", "user.id", "session.id", "thread.id", "thread.name", "network.peer.port", "client.port"}
_BASE = {"version": "service.version", "instance": "service.instance.id", "host": "host.name", "operation": "operation"}


@dataclass(frozen=True)
class Standout:
    """One attribute value of one service, and what requests that touch it are like.

    Shares are of slow (or failed) and of normal requests; means are of the focus, in the symptom's
    unit; ``explains`` is the share of the change that would vanish if requests with this
    value behaved like the others. ``same_as`` names values that mark the same requests.
    """

    service: str
    key: str
    value: str
    share_bad: float
    share_normal: float
    requests: int
    mean_with: float
    mean_others: float
    others: str  # which requests the others are: "focus" or "reference"
    explains: float
    p: float
    same_as: list[tuple[str, str, str]] = field(default_factory=list)


def _columns(table: pa.Table) -> list[tuple[str, str]]:
    found = [(column, key) for column, key in _BASE.items()]
    for name in table.column_names:
        if spans.is_attribute_column(name):
            _, letter, key = spans.split_attribute_column(name)
            if letter in "sib" and key not in _IGNORED:
                found.append((name, key))
    return found


def _marks(requests: Requests) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64], list[tuple[str, str, str]]]:
    """Pairs (request, mark), each once, and what each mark says: (service, key, value)."""
    rows = np.flatnonzero(requests.request >= 0)
    table = requests.table.take(pa.array(rows))
    request = requests.request[rows]
    service, services = spans.codes(table["service"])
    owners, codes, described = [], [], []
    offset = 0
    for column, key in _columns(table):
        values = table[column]
        if key == "db.query.text":
            values = without_literals(pa.concat_arrays(values.chunks))
        code, distinct = spans.codes(values)
        if not 0 < len(distinct) <= MOST_VALUES:
            continue
        present = code >= 0
        width = len(services) * len(distinct)
        mark = service[present] * len(distinct) + code[present]
        pair = np.unique(request[present] * width + mark)
        used, compact = np.unique(pair % width, return_inverse=True)
        owners.append(pair // width)
        codes.append(compact.reshape(-1) + offset)
        offset += len(used)
        described += [(services[u // len(distinct)], key, str(distinct[u % len(distinct)])) for u in used]
    if not owners:
        return np.zeros(0, np.int64), np.zeros(0, np.int64), []
    return np.concatenate(owners), np.concatenate(codes), described


def who_stands_out(requests: Requests, bad: npt.NDArray[np.bool_], values: Floats, most: int = 30) -> list[Standout]:
    """Values that mark ``bad`` requests, after control of false discoveries; those that explain most first.

    ``bad`` and ``values`` have one entry a request; ``values`` is what the symptom measures.
    """
    count = len(requests)
    owner, mark, described = _marks(requests)
    marks = len(described)
    if not marks or not bad.any() or bad.all():
        return []
    focus, weight = requests.in_focus, requests.weight
    has = np.bincount(mark, minlength=marks)
    has_bad = np.bincount(mark, weights=bad[owner].astype(float), minlength=marks)
    total_bad = float(bad.sum())
    p = adjusted(association(has_bad, has - has_bad, total_bad - has_bad, (count - total_bad) - (has - has_bad)))

    in_focus = focus[owner].astype(float) * weight[owner]
    with_weight = np.bincount(mark, weights=in_focus, minlength=marks)
    with_rows = np.bincount(mark, weights=focus[owner].astype(float), minlength=marks)
    with_sum = np.bincount(mark, weights=in_focus * values[owner], minlength=marks)
    all_weight, all_sum = weight[focus].sum(), (weight * values)[focus].sum()
    reference_mean = (weight * values)[~focus].sum() / weight[~focus].sum()
    delta = all_sum / all_weight - reference_mean
    enough_others = focus.sum() - with_rows >= OTHERS_NEEDED
    with np.errstate(divide="ignore", invalid="ignore"):
        mean_with = with_sum / with_weight
        mean_others = np.where(enough_others, (all_sum - with_sum) / (all_weight - with_weight), reference_mean)
        explains = with_weight / all_weight * (mean_with - mean_others) / delta
    # Distinct marks of the same requests are one finding: sums of random words tell them apart.
    words = np.random.default_rng(1).integers(1, 2**62, count)
    fingerprint = np.zeros(marks, np.int64)
    np.add.at(fingerprint, mark, words[owner])

    share_bad, share_normal = has_bad / total_bad, (has - has_bad) / max(count - total_bad, 1.0)
    kept = np.flatnonzero((p < SIGNIFICANT) & (share_bad > share_normal) & (with_rows > 0) & (has >= LEAST_SHARE * count) & (explains > 0))
    found: dict[int, Standout] = {}
    for i in kept[np.lexsort((kept, p[kept], -np.round(explains[kept], 3)))]:
        same = found.get(int(fingerprint[i]))
        if same is not None:
            same.same_as.append(described[i])
            continue
        service, key, value = described[i]
        found[int(fingerprint[i])] = Standout(
            service, key, value, float(share_bad[i]), float(share_normal[i]), int(with_rows[i]), float(mean_with[i]), float(mean_others[i]),
            "focus" if enough_others[i] else "reference", float(min(explains[i], 1.0)), float(p[i]),
        )
        if len(found) >= most:
            break
    return list(found.values())
