"""Where there are no traces: the mean request of each minute, with what is called under it, as if it had been traced.

Metrics say how many requests each service took, how many calls it made to whom, and how long both lasted. So of each
minute, and of each group of requests that labels tell apart, one request is drawn up that stands for all of
them: its calls take the share of it that all calls of the service take of all its requests, and so on beneath. A
group of which failures are counted is one of its own; a failure is laid where most of those of the minute came from.
What varies from request to request is lost, and so is which of the requests made a call.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow
from wirbel.core.cells import MINUTE_NS
from wirbel.core.signals import spans

Floats = npt.NDArray[np.float64]
Bools = npt.NDArray[np.bool_]
Ints = npt.NDArray[np.int64]
MOST_NODES = 60
MOST_SPANS = 300_000
MOST_COPIES = 30  # of one call in a request
WHOLE = 0.98  # of a service's time that its calls may take
LEAST = 0.002  # of a request: what takes less is left out
PASSED_ON = 0.3  # of the failures: from there on they came from a call
EVERYTHING = "all operations"
SEED = 1


@dataclass(frozen=True)
class _Counted:
    """Counts, total time (s) and failures of something, by minute; shape (minutes,) each."""

    count: Floats
    total: Floats
    failed: Floats


@dataclass
class _Node:
    """A span of the mean request of each minute: where it begins and how long it lasts, as shares of the request; shape (minutes,) each."""

    service: str
    kind: int
    peer: str | None
    peer_kind: str | None
    above: int  # number of the node above, −1 for the request itself
    offset: Floats
    share: Floats
    times: Floats  # in place of one
    fails: Bools  # with a request that fails
    path: tuple[str, ...] = field(default_factory=tuple)


def of_cells(table: pa.Table, service: str, operation: str | None, window: tuple[int, int]) -> pa.Table:
    """Spans of the mean requests for a service (and operation) in a window (ns), from cells of all services; see the module."""
    minute = arrow.numbers(table["minute"])
    table = table.filter(pa.array((minute >= window[0] - window[0] % MINUTE_NS) & (minute < window[1])))
    roots = table.filter(pc.and_(table["entry"], pc.equal(table["service"], service)))
    if operation is not None:
        roots = roots.filter(pc.equal(roots["operation"], operation))
    if not roots.num_rows:
        return spans.empty()
    first = int(window[0] - window[0] % MINUTE_NS)
    minutes = int((window[1] - first) // MINUTE_NS) + 1
    nodes = _tree(_Flows(table, first, minutes), service, min(MOST_NODES, max(MOST_SPANS // roots.num_rows, 1)))
    return _spans(roots, ((arrow.numbers(roots["minute"]) - first) // MINUTE_NS), nodes)


class _Flows:
    """What all services were asked, and asked, by minute."""

    def __init__(self, table: pa.Table, first: int, minutes: int) -> None:
        self._first, self._minutes = first, minutes
        called = table.filter(pc.and_(pc.invert(table["entry"]), pc.is_valid(table["peer"])))
        self.served = self._by(table.filter(table["entry"]), ["service"])
        self.calls = self._by(called, ["service", "peer", "peer_kind"])
        self.into = self._by(called, ["peer"])
        self.none = np.zeros(minutes)

    def _by(self, table: pa.Table, keys: list[str]) -> dict[tuple[str, ...], _Counted]:
        minute = (arrow.numbers(table["minute"]) - self._first) // MINUTE_NS
        group = np.zeros(table.num_rows, np.int64)
        values = []
        for key in keys:
            code, names = arrow.codes(table[key])
            group = group * len(names) + code
            values.append(names)
        width = int(np.prod([len(names) for names in values])) if values else 1
        count, total = arrow.numbers(table["count"]), arrow.numbers(table["total"])
        failed = np.where(arrow.numbers(table["outcome"]) == spans.ERROR, count, 0.0)
        place = group * self._minutes + minute
        sums = [np.bincount(place, x, width * self._minutes).reshape(width, self._minutes) for x in (count, total, failed)]
        found = {}
        for number in np.unique(group).tolist():
            at = np.unravel_index(number, [len(names) for names in values])
            found[tuple(names[n] for names, n in zip(values, at, strict=True))] = _Counted(*(x[number] for x in sums))
        return found

    def under(self, service: str) -> Iterator[tuple[str, str, _Counted]]:
        """What a service calls, and by what kind of thing that is."""
        for (caller, peer, kind), counted in self.calls.items():
            if caller == service:
                yield peer, kind, counted


def _share(part: Floats, whole: Floats) -> Floats:
    return np.where(whole > 0, part / np.maximum(whole, 1e-12), 0.0)


def _tree(flows: _Flows, service: str, most: int) -> list[_Node]:
    everywhere = np.ones_like(flows.none)
    nodes = [_Node(service, spans.SERVER, None, None, -1, flows.none, everywhere, everywhere, everywhere > 0, (service,))]
    for number, node in enumerate(nodes):  # those that are added are come to in turn
        if node.kind == spans.SERVER and len(nodes) < most:
            nodes += _called(flows, nodes, number)[: max(most - len(nodes), 0)]
    return nodes


def _called(flows: _Flows, nodes: Sequence[_Node], number: int) -> list[_Node]:
    """The calls of a service in the mean request, with what services do that are called."""
    above = nodes[number]
    own = flows.served.get((above.service,))
    calls = [(peer, kind, c) for peer, kind, c in flows.under(above.service) if peer not in above.path]
    if own is None or not calls:
        return []
    shares = np.stack([_share(c.total, own.total) for _, _, c in calls])
    shares *= np.minimum(WHOLE / np.maximum(shares.sum(axis=0), 1e-12), 1.0)
    failing = np.stack([_share(c.failed, own.failed) for _, _, c in calls])
    blamed = np.where((failing.max(axis=0) >= PASSED_ON) & above.fails, failing.argmax(axis=0), -1)
    at = above.offset.copy()
    found: list[_Node] = []
    for n in np.argsort(-shares.mean(axis=1), kind="stable"):
        peer, kind, c = calls[n]
        share = above.share * shares[n]
        if share.mean() < LEAST and not (blamed == n).any():
            continue
        is_service = kind == "service" and (peer,) in flows.served
        times = np.ones_like(at) if is_service else np.clip(_share(c.count, own.count), 0, MOST_COPIES)
        found.append(_Node(above.service, spans.CLIENT, peer, kind, number, at.copy(), share, times, blamed == n))
        if is_service:
            inside = np.minimum(_share(flows.served[peer,].total, flows.into[peer,].total), 1.0)
            place = len(nodes) + len(found) - 1
            start = at + share * (1 - inside) / 2
            found.append(_Node(peer, spans.SERVER, None, None, place, start, share * inside, np.ones_like(at), blamed == n, (*above.path, peer)))
        at = at + share
    return found


def _spans(roots: pa.Table, minute: Ints, nodes: Sequence[_Node]) -> pa.Table:
    """A trace for each row of ``roots``."""
    count = len(minute)
    weight = arrow.numbers(roots["count"])
    seconds = _share(arrow.numbers(roots["total"]), weight)
    failed = arrow.numbers(roots["outcome"]) == spans.ERROR
    start = arrow.numbers(roots["minute"]) + MINUTE_NS // 2
    rng = np.random.default_rng(SEED)
    parts = [_root(roots, start, seconds, weight)]
    for number, node in enumerate(nodes[1:], 1):
        share, offset = node.share[minute], node.offset[minute]
        # As many calls as are made in the mean: a whole number in each request, and right in all together. What is called
        # less than once is told as once, or a request that calls it would have no room for it.
        times = np.maximum(node.times[minute], 1.0)
        copies = np.where(share > 0, np.floor(times + rng.random(count)), 0).astype(np.int64)
        row = np.repeat(np.arange(count), copies)
        turn = np.arange(len(row)) - np.repeat(np.cumsum(copies) - copies, copies)
        each = (share / np.maximum(times, copies))[row]
        parts.append(
            {
                "row": row,
                "node": np.full(len(row), number),
                "turn": turn,
                "above": np.full(len(row), node.above),
                "start": start[row] + ((offset[row] + turn * each) * seconds[row] * 1e9).astype(np.int64),
                "duration": (each * seconds[row] * 1e9).astype(np.int64),
                "outcome": np.where(failed[row] & node.fails[minute][row] & (turn == 0), spans.ERROR, spans.OK),
                "weight": weight[row],
            }
        )
    joined = {name: np.concatenate([part[name] for part in parts]) for name in parts[0]}
    return _table(roots, joined, nodes)


def _root(roots: pa.Table, start: Ints, seconds: Floats, weight: Floats) -> dict[str, npt.NDArray[np.generic]]:
    nothing = np.zeros(len(start), np.int64)
    return {
        "row": np.arange(len(start)),
        "node": nothing,
        "turn": nothing,
        "above": nothing - 1,
        "start": start,
        "duration": (seconds * 1e9).astype(np.int64),
        "outcome": arrow.numbers(roots["outcome"]).astype(np.int64),
        "weight": weight,
    }


def _table(roots: pa.Table, made: dict[str, npt.NDArray[np.generic]], nodes: Sequence[_Node]) -> pa.Table:
    row, node = made["row"].astype(np.int64), made["node"].astype(np.int64)
    above = made["above"].astype(np.int64)
    # Of the copies of a call the first holds what is beneath.
    of_node = np.uint64(MOST_COPIES + 1) * node.astype(np.uint64) + made["turn"].astype(np.uint64)
    own = (row.astype(np.uint64) << np.uint64(24)) + of_node + np.uint64(1)
    parent = (row.astype(np.uint64) << np.uint64(24)) + np.uint64(MOST_COPIES + 1) * np.maximum(above, 0).astype(np.uint64) + np.uint64(1)
    is_root = node == 0

    def of_nodes(name: str) -> pa.Array:
        return pa.array([getattr(one, name) for one in nodes], pa.string()).take(pa.array(node))

    def of_root(name: str) -> pa.Array:
        """What is known of the request itself: of what is called it is not."""
        return roots[name].combine_chunks().take(pa.array(row, mask=~is_root))

    operations = pa.array([one.peer or EVERYTHING for one in nodes], pa.string()).take(pa.array(node))
    return spans.conform(
        pa.table(
            {
                "trace_id": _ids(np.stack([np.full(len(row), 1, np.uint64), row.astype(np.uint64) + np.uint64(1)], axis=1)),
                "span_id": _ids(own[:, None]),
                "parent_id": _ids(parent[:, None], is_root),
                "start": pa.array(made["start"]),
                "duration": pa.array(made["duration"]),
                "environment": roots["environment"].combine_chunks().take(pa.array(row)),
                "service": of_nodes("service"),
                "version": of_root("version"),
                "instance": of_root("instance"),
                "host": of_root("host"),
                "operation": pc.coalesce(of_root("operation"), operations),
                "kind": pa.array(np.array([one.kind for one in nodes], np.int8)[node]),
                "peer": of_nodes("peer"),
                "peer_kind": of_nodes("peer_kind"),
                "outcome": pa.array(made["outcome"].astype(np.int8)),
                "weight": pa.array(made["weight"]),
            }
        )
    )


def _ids(words: npt.NDArray[np.uint64], missing: Bools | None = None) -> pa.Array:
    width = words.shape[1] * 8
    data = pa.py_buffer(np.ascontiguousarray(words, dtype=">u8").tobytes())
    found = pa.FixedSizeBinaryArray.from_buffers(pa.binary(width), len(words), [None, data])
    return found if missing is None else pc.if_else(pa.array(missing), pa.scalar(None, pa.binary(width)), found)
