"""The requests of a symptom with what is under them, as arrays that all steps share."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from wirbel.core import arrow
from wirbel.core.diagnosis import critical_path as cp
from wirbel.core.signals import spans
from wirbel.core.topology.parents import parent_rows

Ints = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]

Ids = tuple[str, str]
"""Trace id and span id of a request, hexadecimal."""

OWN, DEPENDENCY, TRANSFER = "own", "dependency", "transfer"


@dataclass(frozen=True)
class Part:
    """A place where time can go: a service's own work, a call to something that sends no spans, or the way to a service."""

    kind: str  # own, dependency or transfer
    service: str  # whose request or call it is
    operation: str
    peer: str | None = None  # who was called
    peer_kind: str | None = None


@dataclass(frozen=True)
class Requests:
    """Requests (index r) and the spans (rows) under them.

    ``start`` ns and ``seconds`` s of each request; ``in_focus`` says which window; ``weight`` is the
    adjusted count; ``stratum`` numbers the operation asked for, since what is usual differs by
    operation. For spans: ``request`` (−1 where off all of them), ``part`` (−1 where off the path),
    ``own`` ns on the critical path, ``is_call`` whether it counts as one call of its part.
    """

    table: pa.Table
    parent: Ints
    roots: Ints
    request: Ints
    start: Ints
    seconds: Floats
    failed: npt.NDArray[np.bool_]
    weight: Floats
    in_focus: npt.NDArray[np.bool_]
    stratum: Ints
    parts: list[Part]
    part: Ints
    own: Ints
    is_call: npt.NDArray[np.bool_]

    def __len__(self) -> int:
        return len(self.roots)

    def ids_of(self, index: int) -> Ids:
        row = int(self.roots[index])
        return self.table["trace_id"][row].as_py().hex(), self.table["span_id"][row].as_py().hex()

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
    quiet = ~found.in_focus
    size = int(found.stratum.max(initial=0)) + 1
    weight = np.bincount(found.stratum[quiet], weights=found.weight[quiet], minlength=size)
    total = np.bincount(found.stratum[quiet], weights=(found.weight * values)[quiet], minlength=size)
    usual = np.where(weight > 0, total / np.maximum(weight, 1e-300), total.sum() / max(weight.sum(), 1e-300))
    return values - usual[found.stratum]


def restrict(found: Requests, keep: npt.NDArray[np.bool_]) -> Requests:
    """Only the requests marked in ``keep``; spans stay, those of other requests belong to none."""
    place = np.append(np.where(keep, np.cumsum(keep) - 1, -1), -1)
    by_request = {name: getattr(found, name)[keep] for name in ("roots", "start", "seconds", "failed", "weight", "in_focus", "stratum")}
    return replace(found, request=place[found.request], **by_request)


def symptom_rows(table: pa.Table, service: str, operation: str | None) -> Ints:
    """Rows of the entry spans of a service (and operation); all its spans without a parent there if it has no entry spans."""
    match = _equal(table["service"], service)
    if operation is not None:
        match &= _equal(table["operation"], operation)
    entry = match & spans.is_entry(table)
    return np.flatnonzero(entry if entry.any() else match)


def _equal(column: pa.ChunkedArray, value: str) -> npt.NDArray[np.bool_]:
    code, values = arrow.codes(column)
    return code == (values.index(value) if value in values else -2)


def build(table: pa.Table, roots: Ints, focus: tuple[int, int]) -> Requests:
    """Critical paths and parts of the requests that start at ``roots`` (rows of ``table``).

    ``focus`` is the focus window, ns; all other requests belong to the reference.
    """
    parent = parent_rows(table)
    roots = cp.outermost(parent, roots)
    start, duration = arrow.numbers(table["start"]), arrow.numbers(table["duration"])
    kind = arrow.numbers(table["kind"]).astype(np.int64)
    path = cp.critical_path(start, duration, parent, kind, roots)
    parts, part, is_call = _parts(table, parent, kind, path)
    began = start[roots]
    return Requests(
        table=table,
        parent=parent,
        roots=roots,
        request=cp.members(parent, roots),
        start=began,
        seconds=duration[roots] / 1e9,
        failed=arrow.numbers(table["outcome"])[roots] == spans.FAILED,
        weight=arrow.numbers(table["weight"])[roots],
        stratum=arrow.codes(table["operation"])[0][roots],
        in_focus=(began >= focus[0]) & (began < focus[1]),
        parts=parts,
        part=part,
        own=path.own,
        is_call=is_call,
    )


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


def _parts(table: pa.Table, parent: Ints, kind: Ints, path: cp.Path) -> tuple[list[Part], Ints, npt.NDArray[np.bool_]]:
    service, services = arrow.codes(table["service"])
    operation, operations = arrow.codes(table["operation"])
    peer, peers = arrow.codes(table["peer"])
    peer_kind, peer_kinds = arrow.codes(table["peer_kind"])
    on_path = path.on_path
    calls_out = np.isin(kind, spans.CALL_KINDS)
    to_service = calls_out & (peer_kind == (peer_kinds.index("service") if "service" in peer_kinds else -2))

    # A span inside a service counts with the entry span above it: follow parents of the same
    # service until one that was called from elsewhere.
    entry = np.arange(len(parent))
    above = np.where(parent >= 0, parent, 0)
    inner = (parent >= 0) & on_path & on_path[above] & (service == service[above]) & ~calls_out & ~np.isin(kind, spans.ENTRY_KINDS) & ~calls_out[above]
    entry[inner] = parent[inner]
    while True:  # pointer jumping: log2(depth) rounds
        further = entry[entry]
        if (further == entry).all():
            break
        entry = further

    kinds = np.select([to_service, calls_out], [2, 1], 0)
    rows = np.flatnonzero(on_path)
    head = entry[rows]
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
    return parts, part, on_path & (entry == np.arange(len(parent)))
