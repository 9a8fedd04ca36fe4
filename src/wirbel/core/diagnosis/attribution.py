"""Splits the change of the symptom into parts that add up to it.

For each part: Δ = Δcalls × time per call before + calls after × Δtime per call. Both sides are
means over requests, so the sum over parts is the change of the mean request duration, exactly.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from wirbel.core import arrow
from wirbel.core.diagnosis.requests import Ids, Part, Requests
from wirbel.core.signals import spans
from wirbel.core.stats.intervals import poisson_weights

Floats = npt.NDArray[np.float64]
REPEATS = 200
SEED = 7  # the same question has the same answer


@dataclass(frozen=True)
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
    low: float  # 95 % bootstrap interval of delta
    high: float
    example: Ids | None = None  # a request of the focus in which much of it is this part
    beside: Ids | None = None  # an ordinary one of the reference, for the same operation


@dataclass(frozen=True)
class Effect:
    """The change of the symptom itself, with its interval."""

    reference: float
    focus: float
    delta: float
    low: float
    high: float
    unit: str
    statistic: str
    requests_reference: int
    requests_focus: int


def _matrix(requests: Requests, values: Floats) -> Floats:
    """Sums ``values`` of spans by request and part: shape (requests, parts)."""
    rows = np.flatnonzero((requests.part >= 0) & (requests.request >= 0))
    width = max(len(requests.parts), 1)
    cell = requests.request[rows] * width + requests.part[rows]
    flat = np.bincount(cell, weights=values[rows], minlength=len(requests) * width)
    return np.asarray(flat, np.float64).reshape(len(requests), width)


def _means(values: Floats, weight: Floats) -> Floats:
    return (weight @ values) / weight.sum()


def _interval(values: Floats, requests: Requests) -> tuple[Floats, Floats]:
    """95 % interval of the difference of weighted means, focus − reference, for each column."""
    means = []
    for seed, rows in ((SEED, requests.in_focus), (SEED + 1, ~requests.in_focus)):
        weights = poisson_weights(int(rows.sum()), REPEATS, seed) * requests.weight[rows]
        means.append((weights @ values[rows]) / np.maximum(weights.sum(axis=1, keepdims=True), 1e-9))
    low, high = np.quantile(means[0] - means[1], (0.025, 0.975), axis=0)
    return low, high


def effect(requests: Requests, values: Floats, unit: str, statistic: str) -> Effect:
    """Change of the weighted mean of ``values`` (one a request) from reference to focus."""
    focus = requests.in_focus
    before = float(_means(values[~focus], requests.weight[~focus]))
    after = float(_means(values[focus], requests.weight[focus]))
    low, high = _interval(values[:, None], requests)
    return Effect(before, after, after - before, float(low[0]), float(high[0]), unit, statistic, int((~focus).sum()), int(focus.sum()))


def where_the_time_went(requests: Requests) -> list[Contribution]:
    """Contributions to the change of the mean duration, s; largest first. They sum to it."""
    time = _matrix(requests, requests.own / 1e9)
    calls = _matrix(requests, requests.is_call.astype(float))
    return _contributions(requests, time, calls)


def _contributions(requests: Requests, amount: Floats, calls: Floats) -> list[Contribution]:
    focus = requests.in_focus
    t0, t1 = _means(amount[~focus], requests.weight[~focus]), _means(amount[focus], requests.weight[focus])
    n0, n1 = _means(calls[~focus], requests.weight[~focus]), _means(calls[focus], requests.weight[focus])
    with np.errstate(divide="ignore", invalid="ignore"):
        each = np.where(n0 > 0, t0 / n0, np.where(n1 > 0, t1 / n1, 0.0))  # time per call before; if there was none, after
    more = (n1 - n0) * each
    slower = (t1 - t0) - more
    low, high = _interval(amount, requests)
    columns = (n0, n1, t0, t1, t1 - t0, more, slower, low, high)
    found = []
    for i, part in enumerate(requests.parts):
        calls_0, calls_1, before, after, delta, by_more, by_slower, least, most = (float(column[i]) for column in columns)
        example, beside = _example(requests, amount[:, i])
        found.append(Contribution(part, calls_0, calls_1, before, after, delta, by_more, by_slower, least, most, example, beside))
    return sorted(found, key=lambda c: -abs(c.delta))


def _example(requests: Requests, amount: Floats) -> tuple[Ids | None, Ids | None]:
    """The request at the 90th percentile of those of the focus that a part touches (telling, but not the
    oddest one), and the middle one of the reference for the same operation."""
    telling = requests.at_quantile(requests.in_focus & (amount > 0), amount, 0.9)
    if telling is None:
        return None, None
    usual = requests.at_quantile(~requests.in_focus & (requests.stratum == requests.stratum[telling]), requests.seconds, 0.5)
    return requests.ids_of(telling), None if usual is None else requests.ids_of(usual)


def where_errors_began(requests: Requests) -> list[Contribution]:
    """Contributions to the change of the error share; each failing request is given to one origin.

    The origin is the deepest failed span that nothing failed beneath, the earliest of them if
    there are several: what is above it only passed the failure on.
    """
    origin = _origins(requests)
    parts, code = _origin_parts(requests, origin)
    amount = np.zeros((len(requests), max(len(parts), 1)))
    amount[requests.request[origin], code] = 1.0
    return _contributions(replace(requests, parts=parts), amount, (amount > 0).astype(float))


def _origins(requests: Requests) -> npt.NDArray[np.int64]:
    """The row where the failure of each failing request began, in order of request."""
    failed_row = arrow.numbers(requests.table["outcome"]) == spans.FAILED
    inside = requests.request >= 0
    beneath = np.zeros(len(failed_row), np.bool_)
    with_parent = np.flatnonzero(failed_row & (requests.parent >= 0))
    beneath[requests.parent[with_parent]] = True
    origin = np.flatnonzero(failed_row & ~beneath & inside)
    origin = origin[requests.failed[requests.request[origin]]]
    end = arrow.numbers(requests.table["start"]) + arrow.numbers(requests.table["duration"])
    origin = origin[np.lexsort((origin, end[origin], requests.request[origin]))]
    _, first = np.unique(requests.request[origin], return_index=True)
    return origin[first]


def failures_by_service(requests: Requests) -> dict[str, Floats]:
    """1 for each failing request whose failure began in the service or in what it asks. Shape of each: (requests,)."""
    origin = _origins(requests)
    service, services = arrow.codes(requests.table["service"])
    found = {name: np.zeros(len(requests)) for name in services}
    for code, name in enumerate(services):
        found[name][requests.request[origin[service[origin] == code]]] = 1.0
    return found


def _origin_parts(requests: Requests, rows: npt.NDArray[np.int64]) -> tuple[list[Part], npt.NDArray[np.int64]]:
    small = requests.table.select(["service", "operation", "kind", "peer", "peer_kind"]).take(rows).to_pylist()
    parts: dict[Part, int] = {}
    code = []
    for record in small:  # one failing request each, not one a span
        called = record["kind"] in spans.CALL_KINDS
        kind = "own" if not called else "transfer" if record["peer_kind"] == "service" else "dependency"
        part = Part(kind, record["service"], record["operation"], record["peer"] if called else None, record["peer_kind"] if called else None)
        code.append(parts.setdefault(part, len(parts)))
    return list(parts), np.array(code, np.int64)


def per_service(requests: Requests) -> dict[str, Floats]:
    """Seconds that each service adds to each request: its own work, what it asks of others that send
    no spans, and the way to those it calls. Shape of each: (requests,)."""
    time = _matrix(requests, requests.own / 1e9)
    found: dict[str, Floats] = {}
    for column, part in enumerate(requests.parts):
        found[part.service] = found.get(part.service, np.zeros(len(requests))) + time[:, column]
    return found
