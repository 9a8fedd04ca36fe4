"""Which attribute values requests touch: the same request, one value of one attribute of one service at a time."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow
from wirbel.core.diagnosis.requests import Requests
from wirbel.core.signals.operations import without_literals

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]

MOST_VALUES = 200  # values of one attribute of one service that are compared
IDENTITY_SHARE = 0.5  # values for each request that touches one: from there on they name requests, not groups
MOST_MARKS_IN_TABLE = 2**24  # bytes
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
OUTCOMES = ("http.response.", "http.request.resend", "error.", "exception.", "rpc.grpc.status", "otel.status", "db.response.")
ASKED = ("db.", "server.", "http.route", "http.request.method", "url.", "code.", "messaging.", "rpc.", "network.", "peer.")
"""Beginnings of keys that say how a request ended, and of those that say what is asked of whom: neither says who asks."""

_STATEMENTS = arrow.attribute_column("span", "s", "db.query.text")
_LIST_OF_ONE = r'^\["([^"\\]*)"\]$'
_BASE = {"version": "service.version", "instance": "service.instance.id", "host": "host.name", "operation": "operation"}


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
class Marks:
    """Pairs (request, mark), each once; what each mark says, and its group: one attribute of one service."""

    owner: Ints
    mark: Ints
    described: list[tuple[str, str, str]]
    group: Ints  # of each mark
    group_owner: Ints  # pairs (request, group), each once
    group_of_pair: Ints
    groups: int

    def __len__(self) -> int:
        return len(self.described)

    def both(self, values: Floats, stratum: Ints, width: int) -> tuple[Floats, Floats]:
        """Sums of one value a request over each mark and over its siblings, in each of ``width`` strata of requests: shape (marks, width) each."""
        own = np.bincount(self.mark * width + stratum[self.owner], weights=values[self.owner], minlength=len(self) * width)
        group = np.bincount(self.group_of_pair * width + stratum[self.group_owner], weights=values[self.group_owner], minlength=self.groups * width)
        by_mark = np.asarray(own, np.float64).reshape(len(self), width)
        by_group = np.asarray(group, np.float64).reshape(self.groups, width)
        return by_mark, by_group[self.group] - by_mark


def marks_of(requests: Requests, over: Floats) -> tuple[Marks, list[str]]:
    """Marks of all attributes, and what of them was left out because there were too many; ``over``, shape (requests,), is how bad each request is."""
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
        return Marks(nothing, nothing, [], nothing, nothing, nothing, 0), left_out
    joined = [np.concatenate(x) for x in (owners, codes, groups, group_owners, group_pairs)]
    return Marks(joined[0], joined[1], described, joined[2], joined[3], joined[4], group_offset), left_out


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
