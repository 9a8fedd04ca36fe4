"""The requests of a symptom with what is under them, as arrays that all steps share."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt
from scipy import sparse

from wirbel.core.diagnosis import critical_path as cp
from wirbel.core.diagnosis.parts import DEPENDENCY, OWN, TRANSFER, Part
from wirbel.core.signals import spans
from wirbel.core.topology.trace_set import TraceSet

Ints = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]

Ids = tuple[str, str]
"""Trace id and span id of a request, hexadecimal."""


@dataclass(frozen=True)
class Requests:
    """Requests (index r) and the spans (rows) under them.

    ``start`` ns and ``seconds`` s of each request; ``in_focus`` and ``in_reference`` say in which window it is (in none: it is of the
    time just before the focus, which helps to place an onset and is no part of what is usual); ``adjusted_count`` is the adjusted count; ``stratum`` numbers the operation asked for, since what is usual differs by
    operation. For spans: the critical ``path`` and the attempt that each one ``repeats`` (see :func:`repeated_calls`), ``request`` and ``part`` (−1 where off all requests), ``self_time`` ns on the critical
    path, of which ``pause`` ns passed between a failed attempt and its repeat, ``is_call`` whether it is a call of
    its part, on the path or not, ``repeated`` whether it is under an attempt that follows a failed one. Such an
    attempt is no call of its own: its time, and the pause before it, belong to the call that it repeats.
    """

    traces: TraceSet
    path: cp.Path
    repeats: Ints
    roots: Ints
    request: Ints
    start: Ints
    seconds: Floats
    failed: npt.NDArray[np.bool_]
    adjusted_count: Floats
    in_focus: npt.NDArray[np.bool_]
    in_reference: npt.NDArray[np.bool_]
    stratum: Ints
    parts: list[Part]
    part: Ints
    self_time: Ints
    pause: Ints
    is_call: npt.NDArray[np.bool_]
    repeated: npt.NDArray[np.bool_]

    def __len__(self) -> int:
        return len(self.roots)

    def ids_of(self, index: int) -> Ids:
        return self.traces.ids(int(self.roots[index]))

    def per_part(self, values: npt.NDArray[Any]) -> sparse.csr_array:
        """Sums ``values`` of spans by request and part: shape (requests, parts)."""
        rows = np.flatnonzero((self.request >= 0) & (values != 0))
        place = (self.request[rows], self.part[rows])
        return sparse.csr_array((np.asarray(values[rows], np.float64), place), shape=(len(self), max(len(self.parts), 1)))

    @cached_property
    def time(self) -> sparse.csr_array:
        """Time on the critical path, s: shape (requests, parts)."""
        return self.per_part(self.self_time / 1e9)

    @cached_property
    def calls(self) -> sparse.csr_array:
        """Calls that the requests ask for by themselves, repeats left out: shape (requests, parts)."""
        return self.per_part(self.is_call & ~self.repeated)

    def failures(self, began: Ints) -> sparse.csc_array:
        """1 where a request failed because of a part: shape (requests, parts). ``began`` are rows as error_origins.origins has them."""
        place = (self.request[began], self.part[began])
        return sparse.csc_array((np.ones(len(began)), place), shape=(len(self), max(len(self.parts), 1)))

    def means(self, values: Floats | sparse.csr_array) -> tuple[Floats, Floats]:
        """Weighted means of ``values``, shape (requests, …), over the reference and over the focus, which both must have requests."""
        sides = (np.where(side, self.adjusted_count, 0.0) for side in (self.in_reference, self.in_focus))
        before, after = (np.asarray(weight @ values) / weight.sum() for weight in sides)
        return before, after

    def touched(self, **values: str) -> npt.NDArray[np.bool_]:
        """Requests with a span under them that has all these values of its columns (service, version, …). Shape (requests,)."""
        rows = self.request >= 0
        for column, value in values.items():
            rows &= self.traces.equal(column, value)
        met = np.zeros(len(self), np.bool_)
        met[self.request[rows]] = True
        return met

    def at_quantile(self, among: npt.NDArray[np.bool_], values: Floats, share: float) -> int | None:
        """The request at a quantile of ``values`` among those marked; None if none is."""
        chosen = np.flatnonzero(among)
        if not len(chosen):
            return None
        return int(chosen[np.argsort(values[chosen], kind="stable")[int(share * (len(chosen) - 1))]])


def excess(found: Requests, values: Floats) -> Floats:
    """``values`` (one a request) less the reference's mean for the same operation.

    A shift between operations then looks like no change of any of them. An operation that the
    reference lacks is held against the mean of all.
    """
    quiet = found.in_reference
    size = int(found.stratum.max(initial=0)) + 1
    weight = np.bincount(found.stratum[quiet], weights=found.adjusted_count[quiet], minlength=size)
    total = np.bincount(found.stratum[quiet], weights=(found.adjusted_count * values)[quiet], minlength=size)
    usual = np.where(weight > 0, total / np.maximum(weight, 1e-300), total.sum() / max(weight.sum(), 1e-300))
    return values - usual[found.stratum]


def restrict(found: Requests, keep: npt.NDArray[np.bool_]) -> Requests:
    """Only the requests marked in ``keep``, shape (requests,); spans stay, those of other requests belong to none."""
    place = np.append(np.where(keep, np.cumsum(keep) - 1, -1), -1)
    by_request = {name: getattr(found, name)[keep] for name in ("roots", "start", "seconds", "failed", "adjusted_count", "in_focus", "in_reference", "stratum")}
    return replace(found, request=place[found.request], **by_request)


def symptom_rows(traces: TraceSet, service: str, operation: str | None) -> Ints:
    """Rows of the entry spans of a service (and operation); all its spans without a parent there if it has no entry spans."""
    match = traces.equal("service", service)
    if operation is not None:
        match &= traces.equal("operation", operation)
    entry = match & traces.is_entry
    return np.flatnonzero(entry if entry.any() else match)


def build(traces: TraceSet, roots: Ints, focus: tuple[int, int], reference: tuple[int, int] | None = None) -> Requests:
    """Critical paths and parts of the requests that start at ``roots`` (rows of ``traces``).

    ``focus`` and ``reference`` are [start, end) of the windows, ns; without a reference all that is not in the focus is it.
    """
    parent = traces.parent
    roots = cp.outermost(parent, roots)
    path = cp.critical_path(traces.start, traces.duration, parent, traces.kind, roots)
    request = cp.members(parent, roots)
    repeats = repeated_calls(traces)
    parts, part, is_call = _parts(traces, request)
    began = traces.start[roots]
    pause = _pauses(path, parent, repeats)
    in_focus = (began >= focus[0]) & (began < focus[1])
    return Requests(
        traces=traces,
        path=path,
        repeats=repeats,
        roots=roots,
        request=request,
        start=began,
        seconds=traces.duration[roots] / 1e9,
        failed=traces.failed[roots],
        adjusted_count=traces.adjusted_count[roots],
        stratum=traces.codes("operation")[0][roots],
        in_focus=in_focus,
        in_reference=~in_focus if reference is None else (began >= reference[0]) & (began < reference[1]),
        parts=parts,
        part=part,
        self_time=_with_pauses(path.self_time, pause, parent),
        pause=pause,
        is_call=is_call,
        repeated=cp.members(parent, np.flatnonzero(repeats >= 0)) >= 0,
    )


def repeated_calls(traces: TraceSet) -> Ints:
    """For each span the row of the failed attempt that it repeats, −1 where it repeats none. Shape (rows,).

    A repeat asks the same peer for the same operation under the same parent, after the attempt has failed.
    """
    parent, start, end = traces.parent, traces.start, traces.end
    found = np.full(len(traces), -1, np.int64)
    calls = np.flatnonzero(np.isin(traces.kind, spans.CALL_KINDS) & (parent >= 0))
    if not len(calls):
        return found
    peer, operation = traces.codes("peer")[0], traces.codes("operation")[0]
    calls = calls[np.lexsort((start[calls], operation[calls], peer[calls], parent[calls]))]
    earlier, later = calls[:-1], calls[1:]
    same = (parent[earlier] == parent[later]) & (peer[earlier] == peer[later]) & (operation[earlier] == operation[later])
    again = same & traces.failed[earlier] & (start[later] >= end[earlier])
    found[later[again]] = earlier[again]
    return found


def _pauses(path: cp.Path, parent: Ints, repeats: Ints) -> Ints:
    """Time on the path, ns, between each failed attempt and its repeat. Shape (rows,)."""
    pauses = np.zeros(len(parent), np.int64)
    rows = np.flatnonzero(path.on_path & (parent >= 0))
    rows = rows[np.lexsort((path.low[rows], parent[rows]))]
    earlier, later = rows[:-1], rows[1:]
    pause = (repeats[later] == earlier) & (parent[earlier] == parent[later])  # side by side on the path: nothing was between
    pauses[earlier[pause]] = (path.low[later] - path.high[earlier])[pause]
    return pauses


def _with_pauses(self_time: Ints, pause: Ints, parent: Ints) -> Ints:
    """Self time where a pause is the failed attempt's, not its caller's."""
    attempts = np.flatnonzero(pause)
    counted = self_time + pause
    np.subtract.at(counted, parent[attempts], pause[attempts])
    return counted


def _distinct(key: Ints) -> tuple[Ints, Ints]:
    """Distinct columns of ``key`` (fields, rows) as rows, and for each column which of them it is.

    One number a column is sorted, not the columns themselves; −1 marks a missing field.
    """
    sizes = key.max(axis=1) + 2
    packed = np.zeros(key.shape[1], np.int64)
    for field, size in zip(key, sizes, strict=True):
        packed = packed * size + (field + 1)
    _used, first, code = np.unique(packed, return_index=True, return_inverse=True)
    return key[:, first].T, code.reshape(-1)


def _with_consumers(peer: Ints, peers: list[str], consumer: Ints, services: list[str]) -> tuple[Ints, list[str]]:
    """Who is called by each span, where a message is taken by a service: its ``consumer``, a number of ``services`` (−1: none)."""
    place = {name: n for n, name in enumerate(peers)}
    found = peer.copy()
    for code in np.unique(consumer[consumer >= 0]).tolist():
        found[consumer == code] = place.setdefault(services[code], len(place))
    return found, list(place)


def _parts(traces: TraceSet, request: Ints) -> tuple[list[Part], Ints, npt.NDArray[np.bool_]]:
    parent = traces.parent
    service, services = traces.codes("service")
    operation, operations = traces.codes("operation")
    peer, peers = traces.codes("peer")
    peer_kind, peer_kinds = traces.codes("peer_kind")
    inside = request >= 0
    calls_out = np.isin(traces.kind, spans.CALL_KINDS)
    # A message that somebody takes within the trace is the way to who takes it: what waits in a queue waits for its consumer.
    taken = np.flatnonzero((traces.kind == spans.CONSUMER) & (parent >= 0))
    taken = taken[calls_out[parent[taken]]]
    consumer = np.full(len(parent), -1, np.int64)
    consumer[parent[taken]] = service[taken]
    to_service = (calls_out & traces.equal("peer_kind", "service")) | (consumer >= 0)

    # A span inside a service counts with the entry span above it: follow parents of the same
    # service until one that was called from elsewhere.
    entry = np.arange(len(parent))
    above = np.where(parent >= 0, parent, 0)
    inner = (parent >= 0) & inside & inside[above] & (service == service[above]) & ~calls_out & ~np.isin(traces.kind, spans.ENTRY_KINDS) & ~calls_out[above]
    entry[inner] = parent[inner]
    while True:  # pointer jumping: log2(depth) rounds
        further = entry[entry]
        if (further == entry).all():
            break
        entry = further

    kinds = np.select([to_service, calls_out], [2, 1], 0)
    rows = np.flatnonzero(inside)
    head = entry[rows]
    peer, peers = _with_consumers(peer, peers, consumer, services)
    as_service, peer_kinds = (peer_kinds.index("service"), peer_kinds) if "service" in peer_kinds else (len(peer_kinds), [*peer_kinds, "service"])
    peer_kind = np.where(consumer >= 0, as_service, peer_kind)
    key = np.stack([kinds[rows], service[rows], operation[head], np.where(calls_out[rows], peer[rows], -1), np.where(calls_out[rows], peer_kind[rows], -1)])
    if not len(rows):
        return [], np.full(len(parent), -1, np.int64), np.zeros(len(parent), np.bool_)
    distinct, code = _distinct(key)
    parts = [
        Part(
            (OWN, DEPENDENCY, TRANSFER)[kind_code],
            services[s],
            operations[o],
            peers[p] if p >= 0 else None,
            peer_kinds[k] if k >= 0 else None,
        )
        for kind_code, s, o, p, k in distinct
    ]
    part = np.full(len(parent), -1, np.int64)
    part[rows] = code
    return parts, part, inside & (entry == np.arange(len(parent)))
