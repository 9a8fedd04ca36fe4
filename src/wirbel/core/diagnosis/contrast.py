"""Who stands out: attribute values that slow or failed requests have and others have not."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow
from wirbel.core.diagnosis.requests import Requests
from wirbel.core.signals.operations import without_literals
from wirbel.core.stats.tests import Counts, adjusted, stratified_association, weighted_association

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]

MOST_VALUES = 200  # values of one attribute of one service that are compared
IDENTITY_SHARE = 0.5  # values for each request that touches one: from there on they name requests, not groups
MIN_REQUESTS = 5  # in the focus, that a value marks
MOST_STRATA = 30  # operations that are compared each for itself
OTHERS_NEEDED = 20  # siblings in the focus, to say how others behave
LEAST_EXPLAINED = 0.02  # of the change
SIGNIFICANT = 0.01  # adjusted p
MOST_MARKS_IN_TABLE = 2**24  # bytes
NEW = 0.1  # of its rate in the focus: a value seen less often before is new
COMPARED_TYPES = "sibj"  # letters of attribute columns whose values are compared: text, integers, booleans and lists
IDENTITIES = {
    "url.full",
    "url.path",
    "url.query",
    "user.id",
    "session.id",
    "thread.id",
    "thread.name",
    "network.peer.port",
    "client.port",
    "server.port",  # on spans of servers older instrumentation puts the client's there
    "code.line.number",
    "code.function.name",
}
"""Never a group: every request has its own, or, of code, the operation says the same."""

_STATEMENTS = arrow.attribute_column("span", "s", "db.query.text")
_LIST_OF_ONE = r'^\["([^"\\]*)"\]$'
_BASE = {"version": "service.version", "instance": "service.instance.id", "host": "host.name", "operation": "operation"}


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


def _columns(table: pa.Table) -> list[tuple[str, str]]:
    found = [(column, key) for column, key in _BASE.items()]
    for name in table.column_names:
        if arrow.is_attribute_column(name):
            _, letter, key = arrow.split_attribute_column(name)
            if letter in COMPARED_TYPES and key not in IDENTITIES:
                found.append((name, key))
    return found


def compared(values: pa.ChunkedArray, column: str) -> pa.Array | pa.ChunkedArray:
    """What is compared of an attribute's values: statements without what they look for; the one text in a list, as captured headers are sent."""
    if column == _STATEMENTS:
        return without_literals(pa.concat_arrays(arrow.decoded(values).chunks))
    if arrow.is_attribute_column(column) and arrow.split_attribute_column(column)[1] == "j":
        return pc.replace_substring_regex(arrow.decoded(values), _LIST_OF_ONE, r"\1")
    return values


@dataclass(frozen=True)
class _Marks:
    """Pairs (request, mark), each once; what each mark says, and its group: one attribute of one service."""

    owner: Ints
    mark: Ints
    described: list[tuple[str, str, str]]
    group: Ints  # of each mark
    group_owner: Ints  # pairs (request, group), each once
    group_of_pair: Ints
    groups: int


def _marks(requests: Requests, over: Floats) -> tuple[_Marks, list[str]]:
    """Marks of all attributes, and what of them was left out because there were too many."""
    rows = np.flatnonzero(requests.request >= 0)
    columns = _columns(requests.traces.table)
    # Most columns are read here only, of the sampled requests: cheaper to encode than the whole of them.
    table = requests.traces.table.select([name for name, _ in columns]).take(pa.array(rows))
    request = requests.request[rows]
    codes_of_service, services = requests.traces.codes("service")
    service = codes_of_service[rows]
    owners, codes, groups, group_owners, group_pairs, left_out = [], [], [], [], [], []
    described: list[tuple[str, str, str]] = []
    offset = group_offset = 0
    telling = np.abs(np.where(requests.in_focus, requests.adjusted_count * over, 0.0))
    for column, key in columns:
        values = compared(table[column], column)
        code, distinct = arrow.codes(values)
        if not len(distinct):
            continue
        present = code >= 0
        width = len(services) * len(distinct)
        pair = _distinct(request[present] * width + service[present] * len(distinct) + code[present], len(requests) * width)
        pair, dropped = _bounded(pair, width, len(distinct), telling)
        left_out += [f"{count} values of {key} at {services[s]}" for s, count in dropped.items()]
        if not len(pair):
            continue
        used, compact, _ = _numbered(pair % width, width)
        owners.append(pair // width)
        codes.append(compact + offset)
        groups.append(used // len(distinct) + group_offset)
        touching = _distinct(request[present] * len(services) + service[present], len(requests) * len(services))
        group_owners.append(touching // len(services))
        group_pairs.append(touching % len(services) + group_offset)
        described += [(services[u // len(distinct)], key, str(distinct[u % len(distinct)])) for u in used]
        offset += len(used)
        group_offset += len(services)
    if not owners:
        nothing = np.zeros(0, np.int64)
        return _Marks(nothing, nothing, [], nothing, nothing, nothing, 0), left_out
    joined = [np.concatenate(x) for x in (owners, codes, groups, group_owners, group_pairs)]
    return _Marks(joined[0], joined[1], described, joined[2], joined[3], joined[4], group_offset), left_out


def _distinct(keys: Ints, bound: int) -> Ints:
    """The distinct ones of numbers below ``bound``, in order; by a table of marks where one is small enough, which no sorting beats."""
    if bound > MOST_MARKS_IN_TABLE:
        return np.unique(keys)
    seen = np.zeros(bound, np.bool_)
    seen[keys] = True
    return np.flatnonzero(seen)


def _numbered(keys: Ints, bound: int) -> tuple[Ints, Ints, Ints]:
    """The distinct ones of numbers below ``bound``, which of them each number is, and how often each is there."""
    if bound * 8 > MOST_MARKS_IN_TABLE:
        used, at, count = np.unique(keys, return_inverse=True, return_counts=True)
        return used, at.reshape(-1), count
    count = np.bincount(keys, minlength=bound)
    used = np.flatnonzero(count)
    place = np.zeros(bound, np.int64)
    place[used] = np.arange(len(used))
    return used, place[keys], count[used]


def _bounded(pair: Ints, width: int, values: int, telling: Floats) -> tuple[Ints, dict[int, int]]:
    """Pairs (request, service, value) of at most MOST_VALUES values a service: the commonest, and those with the most excess.

    An attribute of which every second request has a value of its own names requests, not groups: none of it is
    kept. Also returns how many values of each service (its code) were left out.
    """
    used, at, requests_of = _numbered(pair % width, width)
    excess = np.bincount(at, weights=telling[pair // width], minlength=len(used))
    service = used // values
    keep = np.ones(len(used), np.bool_)
    left_out = {}
    for s in np.unique(service):
        mine = np.flatnonzero(service == s)
        if len(mine) <= MOST_VALUES:
            continue
        keep[mine] = False
        if len(mine) > IDENTITY_SHARE * requests_of[mine].sum():
            continue
        half = MOST_VALUES // 2
        chosen = {*mine[np.argsort(-requests_of[mine], kind="stable")[:half]], *mine[np.argsort(-excess[mine], kind="stable")[:half]]}
        keep[list(chosen)] = True
        left_out[int(s)] = len(mine) - len(chosen)
    return pair[keep[at]], left_out


def _examples(requests: Requests, found: _Marks, mark: int, bad: npt.NDArray[np.bool_], over: Floats) -> tuple[tuple[str, str] | None, tuple[str, str] | None]:
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
    found, left_out = _marks(requests, over)
    marks = len(found.described)
    if not marks:
        return [], left_out
    focus, weight = requests.in_focus.astype(float), requests.adjusted_count
    stratum, width = _strata(requests)

    def both(values: Floats) -> tuple[Floats, Floats]:
        """Sums of one value a request over each mark and over its siblings, by operation: (marks, strata)."""
        own = np.bincount(found.mark * width + stratum[found.owner], weights=values[found.owner], minlength=marks * width)
        group = np.bincount(found.group_of_pair * width + stratum[found.group_owner], weights=values[found.group_owner], minlength=found.groups * width)
        by_mark = np.asarray(own, np.float64).reshape(marks, width)
        by_group = np.asarray(group, np.float64).reshape(found.groups, width)
        return by_mark, by_group[found.group] - by_mark

    is_bad = bad.astype(float)
    bad_with, bad_others = both(is_bad * weight)
    good_with, good_others = both((1 - is_bad) * weight)
    p = adjusted(_association(weight, is_bad, both))
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
    fingerprint = np.zeros(marks, np.int64)
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
            )
    return list(standouts.values()), left_out


def _strata(requests: Requests) -> tuple[Ints, int]:
    """The operation asked for of each request, as numbers 0 … width − 1; rare ones share the last."""
    _, code, count = np.unique(requests.stratum, return_inverse=True, return_counts=True)
    place = np.empty(len(count), np.int64)
    place[np.argsort(-count, kind="stable")] = np.arange(len(count))
    return np.minimum(place, MOST_STRATA - 1)[code], min(len(count), MOST_STRATA)


def _association(weight: Floats, is_bad: Floats, both: Callable[[Floats], tuple[Floats, Floats]]) -> Floats:
    """p of each mark. Equal weights are none: the tests that are exact for small counts will do."""
    if weight.min() == weight.max():
        bad, good = both(is_bad), both(1 - is_bad)
        return stratified_association(bad[0], good[0], bad[1], good[1])
    sums, squares = ((both(is_bad * x), both((1 - is_bad) * x)) for x in (weight, weight**2))
    (a, c), (b, d) = ((tuple(Counts(s, q) for s, q in zip(sums[row], squares[row], strict=True))) for row in (0, 1))
    return weighted_association(a, b, c, d)
