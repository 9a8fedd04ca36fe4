"""Whose doing the change is: the time of each request shared out among those who could have caused it.

A caller answers for how often it calls, whoever is called for how long each call takes. Time that a service
spends because it is called more often is its caller's doing, together with all that is called beneath it; if the
caller itself is called more often, it is that one's caller's. So each execution of a service has a
value, what it usually costs with all beneath it, and a call is charged at that value to whoever makes it.

Each share is a linear function of a request's times and counts, so that the shares of a request add up to its
duration exactly, and the means of both windows differ by the change of the symptom.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy import sparse

from wirbel.core.diagnosis.attribution import Split
from wirbel.core.diagnosis.parts import DEPENDENCY, OWN, TRANSFER, Part
from wirbel.core.diagnosis.requests import Requests

Floats = npt.NDArray[np.float64]
ENTITY_KIND = {"database": "database", "cache": "database", "broker": "database", "external": "external", "service": "service"}
"""Kinds of who is called, as an answer has them: a cache or broker counts as a database."""


@dataclass(frozen=True)
class Doer:
    """Who may have caused something, and in which way."""

    kind: str  # service, database or external
    name: str
    mechanism: str  # slower-work, more-calls, waiting or errors

    @property
    def entity(self) -> tuple[str, str]:
        return self.kind, self.name


@dataclass(frozen=True)
class Responsibility:
    """``amount`` (requests, doers): what each adds to each request, in the symptom's unit; ``parts`` are what each is read from."""

    doers: list[Doer]
    amount: Floats
    parts: list[list[Part]]

    def of_entities(self) -> dict[tuple[str, str], Floats]:
        """Amounts of all that an entity does, by (kind, name). Shape of each: (requests,)."""
        found: dict[tuple[str, str], Floats] = {}
        for column, doer in enumerate(self.doers):
            found[doer.entity] = found.get(doer.entity, np.zeros(len(self.amount))) + self.amount[:, column]
        return found


def callee(part: Part) -> tuple[str, str]:
    """The entity that is called."""
    return ENTITY_KIND.get(part.peer_kind or "external", "external"), part.peer or part.operation


class _Shares:
    """Coefficients of the time and of the calls of parts, by doer."""

    def __init__(self, parts: list[Part]) -> None:
        self._of = parts
        self.doers: dict[Doer, int] = {}
        self.parts: list[set[int]] = []
        self._entries: dict[str, list[tuple[int, int, float]]] = {"time": [], "calls": []}

    def add(self, of: str, part: int, doer: Doer, times: float, about: int | None = None) -> None:
        column = self.doers.setdefault(doer, len(self.doers))
        if column == len(self.parts):
            self.parts.append(set())
        self._entries[of].append((part, column, times))
        if about is not None:
            self.parts[column].add(about)

    def matrix(self, of: str) -> sparse.csr_array:
        rows, columns, values = (list(x) for x in zip(*self._entries[of], strict=True)) if self._entries[of] else ([], [], [])
        return sparse.csr_array((values, (rows, columns)), shape=(len(self._of), max(len(self.doers), 1)))


def for_time(requests: Requests) -> Responsibility:
    """Who adds time to each request, s."""
    flow = _Flow.of(requests, Split.of(requests, requests.time, requests.calls))
    shares = _Shares(requests.parts)
    for s, service in enumerate(flow.services):
        own, outgoing, incoming = flow.own[s], flow.outgoing[s], flow.incoming[s]
        work, calling = Doer("service", service, "slower-work"), Doer("service", service, "more-calls")
        for p in own:
            shares.add("time", p, work, 1.0, about=p)
            shares.add("calls", p, work, -flow.own_value[s])
            shares.add("calls", p, calling, flow.value[s] - sum(flow.rate[e] * flow.call_value[e] for e in outgoing))
        for e in outgoing:
            shares.add("calls", e, calling, flow.call_value[e], about=e)
        for e in incoming:
            shares.add("calls", e, calling, -flow.reach[s] * flow.value[s])
    for e, part in enumerate(requests.parts):
        if part.kind != OWN:
            called = Doer(*callee(part), "waiting" if part.kind == TRANSFER else "slower-work")
            shares.add("time", e, called, 1.0, about=e)
            shares.add("calls", e, called, -flow.price[e])
    amount = (requests.time @ shares.matrix("time") + requests.calls @ shares.matrix("calls")).toarray()
    return Responsibility(list(shares.doers), amount, [[requests.parts[p] for p in sorted(about)] for about in shares.parts])


def for_errors(requests: Requests, origin: npt.NDArray[np.int64]) -> Responsibility:
    """1 for each failing request for the entity where its failure began; ``origin``, shape (failing requests,), as error_origins.origins has it."""
    doers: dict[Doer, int] = {}
    parts: list[dict[Part, None]] = []
    code = np.full(len(requests.parts), -1, np.int64)
    for p in np.unique(requests.part[origin]):
        part = requests.parts[p]
        doer = Doer("service", part.service, "errors") if part.kind == OWN else Doer(*callee(part), "errors")
        code[p] = doers.setdefault(doer, len(doers))
        if code[p] == len(parts):
            parts.append({})
        parts[code[p]][part] = None
    amount = np.zeros((len(requests), max(len(doers), 1)))
    amount[requests.request[origin], code[requests.part[origin]]] = 1.0
    return Responsibility(list(doers), amount, [list(about) for about in parts])


def of_calls(requests: Requests, began: npt.NDArray[np.int64] | None) -> dict[tuple[str, tuple[str, str]], Floats]:
    """What calls to that which sends no spans itself add to each request, by (calling service, entity called): as often as before,
    at what each costs. Shape of each: (requests,), in the symptom's unit; ``began`` as in :func:`for_errors`, None for time."""
    found: dict[tuple[str, tuple[str, str]], Floats] = {}
    amounts = _beyond_price(requests) if began is None else requests.failures(began)
    for e, part in enumerate(requests.parts):
        if part.kind == DEPENDENCY:
            pair = part.service, callee(part)
            found[pair] = found.get(pair, np.zeros(len(requests))) + amounts[:, [e]].toarray()[:, 0]
    return found


def _beyond_price(requests: Requests) -> sparse.csc_array:
    """Time of each part, less what as many calls usually cost, s: shape (requests, parts)."""
    price = _price(Split.of(requests, requests.time, requests.calls))
    return (requests.time - requests.calls @ sparse.diags_array(price)).tocsc()


def _middle(count0: Floats, of0: Floats, count1: Floats, of1: Floats) -> Floats:
    """Mean of both windows' ratios; where one has none, the other's."""
    with np.errstate(divide="ignore", invalid="ignore"):
        ratio0, ratio1 = count0 / of0, count1 / of1
    ratio0, ratio1 = np.where(of0 > 0, ratio0, ratio1), np.where(of1 > 0, ratio1, ratio0)
    return np.nan_to_num((ratio0 + ratio1) / 2, posinf=0.0, neginf=0.0)


@dataclass(frozen=True)
class _Flow:
    """How calls flow, in the middle between both windows."""

    services: list[str]
    own: list[list[int]]  # parts of each service
    outgoing: list[list[int]]
    incoming: list[list[int]]
    price: Floats  # s of a call of each part, without what is beneath
    rate: Floats  # calls of each part for an execution of its service
    reach: Floats  # executions of a service for a call of it
    own_value: Floats  # s of a service's own work in an execution
    value: Floats  # s of an execution with all beneath
    call_value: Floats  # s of a call with all beneath

    @classmethod
    def of(cls, requests: Requests, split: Split) -> _Flow:
        parts = requests.parts
        services = sorted({part.service for part in parts} | {part.peer for part in parts if part.kind == TRANSFER and part.peer})
        place = {name: s for s, name in enumerate(services)}
        own: list[list[int]] = [[] for _ in services]
        outgoing: list[list[int]] = [[] for _ in services]
        incoming: list[list[int]] = [[] for _ in services]
        for p, part in enumerate(parts):
            (own if part.kind == OWN else outgoing)[place[part.service]].append(p)
            if part.kind == TRANSFER and part.peer:
                incoming[place[part.peer]].append(p)
        ran = [np.array([n[members].sum() for members in own]) for n in split.calls]
        called = [np.array([n[members].sum() for members in incoming]) for n in split.calls]
        # The request itself is an execution that nobody in it has called.
        asked = np.array([float(name == _symptom_service(requests)) for name in services])
        at = np.array([place[part.service] for part in parts], np.int64) if parts else np.zeros(0, np.int64)
        price = _price(split)[: len(parts)]
        (n0, n1) = (n[: len(parts)] for n in split.calls)
        rate = _middle(n0, ran[0][at], n1, ran[1][at]) if len(parts) else np.zeros(0)
        reach = _middle(np.maximum(ran[0] - asked, 0), called[0], np.maximum(ran[1] - asked, 0), called[1])
        own_value = np.array([float((rate[members] * price[members]).sum()) for members in own])
        beneath = np.zeros((len(services), len(services)))
        direct = own_value.copy()
        for s, members in enumerate(outgoing):
            for e in members:
                direct[s] += rate[e] * price[e]
                if parts[e].kind == TRANSFER and parts[e].peer in place:
                    beneath[s, place[parts[e].peer or ""]] += rate[e] * reach[place[parts[e].peer or ""]]
        value = np.linalg.lstsq(np.eye(len(services)) - beneath, direct, rcond=None)[0] if services else direct
        call_value = price.copy()
        for s, members in enumerate(incoming):
            call_value[members] += reach[s] * value[s]
        return cls(services, own, outgoing, incoming, price, rate, reach, own_value, value, call_value)


def _symptom_service(requests: Requests) -> str:
    return requests.traces.text("service", int(requests.roots[0])) or "" if len(requests) else ""


def _price(split: Split) -> Floats:
    """s of a call. Where more calls and slower calls pull apart, the larger of the two answers for the whole change of the part:
    nobody is told to have caused twice the change while somebody else undid half of it."""
    apart = split.more * split.slower < 0
    more_wins = np.abs(split.more) > np.abs(split.slower)
    (n0, n1), (t0, t1) = split.calls, split.time
    with np.errstate(divide="ignore", invalid="ignore"):
        marginal = (t1 - t0) / (n1 - n0)
    return np.where(apart, np.where(more_wins, marginal, 0.0), split.price)
