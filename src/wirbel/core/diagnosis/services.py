"""What every service, and everything it calls, did in both windows, from minute summaries: also what the symptom's requests never met."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc
from scipy.sparse.csgraph import connected_components

from wirbel.core import arrow
from wirbel.core.diagnosis.clock import Clock
from wirbel.core.diagnosis.model import Question, Sampled, Signal
from wirbel.core.diagnosis.responsibility import ENTITY_KIND
from wirbel.core.series import cells as cell_series
from wirbel.core.series import events
from wirbel.core.signals import spans
from wirbel.core.signals.entities import first_part, place_of

Floats = npt.NDArray[np.float64]
Bools = npt.NDArray[np.bool_]
Entity = tuple[str, str]
SMOOTHED = 5  # steps
STEPS = 60  # of the walk along calls
BACKTRACK = 0.1  # how willing it is to go back to a caller
LEAST = 1e-6  # of a count: less is what summing leaves


@dataclass(frozen=True)
class Services:
    """Entities (rows) by steps of time (clock.py), all (entities, steps): ``total`` time in s, ``failures`` and requests (``rate``) of each step; of the calls
    that clients tell of, how many an entity made (``made``) and how many of them failed for it (``failed_calls``), how long it waited for all of
    them in s (``waited``), and how many it was to answer (``asked``)."""

    entities: list[Entity]
    total: Floats
    failures: Floats
    rate: Floats
    made: Floats
    failed_calls: Floats
    waited: Floats
    asked: Floats
    calls: Bools  # (entities, entities): the first calls the second
    is_consumer: Bools
    reference: Bools
    focus: Bools
    symptom: int | None  # row of the service that is asked about
    first: int  # ns, of the ``recent`` steps
    recent: slice
    step_s: int
    asking: Mapping[str, Floats]  # calls of databases under way in each service, mean of each step, shape (steps,)
    sending: Mapping[str, Floats]  # messages that each service sends through brokers, of each step, shape (steps,)

    @classmethod
    def of(cls, table: pa.Table, question: Question) -> Services:
        """From cells, in the question's steps, of the time from the reference to the end of the focus."""
        clock = Clock(question, question.step_s, of_cells=True)
        table = table.filter(pa.array(_step(clock, table) >= 0))
        served = cell_series.entries(table)
        called = cell_series.of_kind(table, spans.CALL_KINDS)
        called = called.filter(pc.is_valid(called["peer"]))
        behind = called.filter(pc.invert(pc.equal(called["peer_kind"], "service")))
        group, names = arrow.codes(served["service"])
        peer, peers = arrow.codes(behind["peer"])
        kinds = dict(zip(behind["peer"].to_pylist(), behind["peer_kind"].to_pylist(), strict=True)) if behind.num_rows else {}
        parts = [
            cell_series.by_step(part, _step(clock, part), clock.count, len(found), of)
            for part, found, of in ((served, names, group), (behind, peers, peer))
            if found
        ]
        nothing = np.zeros((0, clock.count))
        total, failed, rate = (np.concatenate([nothing, *(getattr(part, name) for part in parts)]) for name in ("total", "failed", "count"))
        entities: list[Entity] = [("service", name) for name in names] + [(ENTITY_KIND.get(kinds[name] or "external", "external"), name) for name in peers]
        # A service and a database may have one name: each is known by its kind too.
        place_of_service = {name: n for n, (kind, name) in enumerate(entities) if kind == "service"}
        place_behind = {name: n for n, (kind, name) in enumerate(entities) if kind != "service"}
        made, failed_calls, waited = _calls(called, "service", place_of_service, len(entities), clock)
        is_service = pc.equal(called["peer_kind"], "service").fill_null(False)
        to_services, _, _ = _calls(called.filter(is_service), "peer", place_of_service, len(entities), clock)
        to_others, _, _ = _calls(called.filter(pc.invert(is_service)), "peer", place_behind, len(entities), clock)
        asked = to_services + to_others
        calls = np.zeros((len(entities), len(entities)), np.bool_)
        for pair in called.group_by(["service", "peer", "peer_kind"]).aggregate([]).to_pylist():
            to = (place_of_service if pair["peer_kind"] == "service" else place_behind).get(pair["peer"])
            if pair["service"] in place_of_service and to is not None:
                calls[place_of_service[pair["service"]], to] = True
        consuming = set(cell_series.of_kind(served, [spans.CONSUMER])["service"].unique().to_pylist())
        consumer = np.array([kind == "service" and name in consuming for kind, name in entities], np.bool_)
        symptom = place_of_service.get(question.service)
        return cls(
            entities=entities,
            total=total,
            failures=failed,
            rate=rate,
            made=made,
            failed_calls=failed_calls,
            waited=waited,
            asked=asked,
            calls=calls,
            is_consumer=consumer,
            reference=clock.reference & ~events.paused(rate.sum(axis=0)),
            focus=clock.focus,
            symptom=symptom,
            first=clock.recent_first,
            recent=clock.recent,
            step_s=clock.step_s,
            asking=_asking(behind, clock),
            sending=_sending(behind, clock),
        )

    def linked_with(self, names: Collection[str]) -> Services:
        """Those that calls link with entities of these names, through any number of others; and consumers: calls do not tell who feeds them."""
        _, group = connected_components(self.calls, directed=False)
        named = np.array([name in names for _, name in self.entities], np.bool_)
        kept = np.flatnonzero(np.isin(group, group[named]) | self.is_consumer)
        place = {n: at for at, n in enumerate(kept.tolist())}
        return replace(
            self,
            entities=[self.entities[n] for n in kept],
            total=self.total[kept],
            failures=self.failures[kept],
            rate=self.rate[kept],
            made=self.made[kept],
            failed_calls=self.failed_calls[kept],
            waited=self.waited[kept],
            asked=self.asked[kept],
            calls=self.calls[np.ix_(kept, kept)],
            is_consumer=self.is_consumer[kept],
            symptom=None if self.symptom is None else place.get(self.symptom),
        )

    @cached_property
    def busier(self) -> Floats:
        """log2 of the rate, focus over reference."""
        before, after = (self.rate[:, window].mean(axis=1) if window.any() else np.zeros(len(self.entities)) for window in (self.reference, self.focus))
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.nan_to_num(np.log2((after + 1e-3) / (before + 1e-3)))

    def sampled(self, signal: Signal) -> Sampled | None:
        """The symptom's series: mean time, share of failures, or requests a second."""
        if self.symptom is None:
            return None
        unit, values = {"latency": ("s", self.total), "errors": ("share", self.failures), "throughput": ("/s", self.rate)}[signal]
        of = np.where(self.rate > 0, self.rate, np.nan) if signal != "throughput" else np.full_like(self.rate, self.step_s)
        return Sampled(self.first, self.step_s, unit, tuple((values / of)[self.symptom, self.recent].tolist()))

    @cached_property
    def by_address(self) -> dict[str, Entity]:
        """Databases and outside providers by where they are called, where only one is."""
        return self._named(lambda name: {place_of(name)["server.address"]})

    @cached_property
    def by_label(self) -> dict[str, Entity]:
        """The same by all that a measure of them may name: address, the first part of it (an agent's own host), and namespace."""
        return self._named(
            lambda name: {place_of(name)["server.address"], first_part(place_of(name)["server.address"]), place_of(name).get("db.namespace", name)}
        )

    def _named(self, texts: Callable[[str], set[str]]) -> dict[str, Entity]:
        called = [(text, (kind, name)) for kind, name in self.entities if kind != "service" for text in texts(name)]
        count = Counter(text for text, _ in called)
        services = {name for kind, name in self.entities if kind == "service"}
        return {text: entity for text, entity in called if count[text] == 1 and text not in services}

    @cached_property
    def seconds(self) -> Floats:
        """Mean time of a few steps, shape (entities, steps)."""
        return _means(self.total, self.rate)

    @cached_property
    def failed(self) -> Floats:
        """Share of failures of a few steps, shape (entities, steps)."""
        return _means(self.failures, self.rate)

    @cached_property
    def failed_before(self) -> Floats:
        """Share of requests that failed in the reference, shape (entities,)."""
        return self._a_request(self.failures, self.reference)

    @cached_property
    def fails_more(self) -> Floats:
        """By how much the share of requests that fail rose, shape (entities,)."""
        return self._a_request(self.failures, self.focus) - self.failed_before

    @cached_property
    def fails_by_itself(self) -> Floats:
        """By how much more its requests fail than any that it calls, and than its own calls fail as it sees them, shape (entities,).

        Who gives up on a call that would have been answered sees a failure that its callee does not.
        """
        seen = self._a_request(self.failed_calls, self.focus) - self._a_request(self.failed_calls, self.reference)
        of_callees = np.where(self.calls, self.fails_more[None, :], 0.0).max(axis=1, initial=0.0)
        return np.asarray(self.fails_more - np.maximum(seen, of_callees))

    @cached_property
    def held_longer(self) -> Floats:
        """How much more of its requests' time at once its calls would take, were they no more than before, as a share of all of that time before, shape (entities,).

        Requests under way are rate × duration (Little's law): those that wait for a call hold a worker, and others wait for one.
        """
        if not (self.reference.any() and self.focus.any()):
            return np.zeros(len(self.entities))
        calls, slow_calls = (self.made[:, window].mean(axis=1) for window in (self.reference, self.focus))
        before, after = (self.waited[:, window].mean(axis=1) for window in (self.reference, self.focus))
        slower = after / np.maximum(slow_calls, 1e-9) * calls - before
        return np.where(slow_calls > 0, slower, 0.0) / np.maximum(self.total[:, self.reference].mean(axis=1), 1e-6)

    def _a_request(self, counts: Floats, window: Bools) -> Floats:
        return np.asarray(counts[:, window].sum(axis=1) / np.maximum(self.rate[:, window].sum(axis=1), 1e-9))

    @cached_property
    def slower(self) -> Floats:
        """How far the mean time left its range in the reference, in its standard deviations, shape (entities,)."""
        return self._z(np.log(np.maximum(self.seconds, 1e-6)), 0.05)

    @cached_property
    def failing(self) -> Floats:
        """The same of the share that fails."""
        return self._z(self.failed, 0.01)

    @cached_property
    def anomaly(self) -> Floats:
        """How far the mean time or the failures left their range, whichever is farther."""
        return np.maximum(self.slower, self.failing)

    @cached_property
    def took(self) -> tuple[Floats, Floats]:
        """Mean time of a request in the reference and in the focus, s, each of shape (entities,)."""
        return self._a_request(self.total, self.reference), self._a_request(self.total, self.focus)

    @cached_property
    def walk(self) -> Floats:
        """How often a walker comes by who goes from callers to callees, the rather the more one moved with the symptom; the most visited has 1.

        Random walk on the call graph (Kim, Sumbaly and Shah, SIGMETRICS 2013).
        """
        if self.symptom is None or not len(self.entities):
            return np.zeros(len(self.entities))
        visited = visits(self.calls, self.similar, self.symptom, STEPS)
        visited[self.symptom] = 0.0
        return np.asarray(visited / max(visited.max(), 1e-12))

    @cached_property
    def similar(self) -> Floats:
        """The highest correlation of an entity's time or failures with the symptom's, shape (entities,)."""
        used = self.reference | self.focus
        values = np.stack([self.seconds[:, used], self.failed[:, used]], axis=1)
        return correlated(values, values[self.symptom or 0])

    def _z(self, values: Floats, floor: float) -> Floats:
        before, after = values[:, self.reference], values[:, self.focus]
        if not before.shape[1] or not after.shape[1]:
            return np.zeros(len(values))
        return np.asarray((after.mean(axis=1) - before.mean(axis=1)) / np.maximum(before.std(axis=1), floor))


def beneath(calls: Bools, rows: Collection[int]) -> Bools:
    """Entities that are called from some (``rows``) of them, through any number of others, and these: shape (entities,)."""
    found = np.zeros(len(calls), np.bool_)
    found[list(rows)] = True
    while True:
        further = found | calls[found].any(axis=0)
        if (further == found).all():
            return found
        found = further


def correlated(values: Floats, own: Floats) -> Floats:
    """The highest correlation, whichever its sign, of any series of each entity with one of ``own``.

    ``values`` is of shape (entities, series, minutes), ``own`` of shape (series, minutes); the result of shape (entities,).
    """
    z, ours = (_standardised(x) for x in (values, own))
    corr = np.abs(np.einsum("smt,ot->smo", z, ours) / max(values.shape[2], 1))
    return np.asarray(corr.reshape(len(corr), -1).max(axis=1))


def _standardised(values: Floats) -> Floats:
    return (values - values.mean(axis=-1, keepdims=True)) / np.maximum(values.std(axis=-1, keepdims=True), 1e-12)


def visits(calls: Bools, similar: Floats, start: int, steps: int) -> Floats:
    """How often a walker from ``start`` comes by each entity, shape (entities,), who goes from callers to callees by how ``similar`` these are.

    Random walk on the call graph (Kim, Sumbaly and Shah, SIGMETRICS 2013). ``calls`` (entities, entities): the first calls the second.
    """
    similar = np.maximum(similar, 1e-6)
    forward = np.where(calls, similar[None, :], 0.0)
    stay = np.diag(np.maximum(similar - forward.max(axis=1), 0))
    step = forward + np.where(calls.T, BACKTRACK * similar[None, :], 0.0) + stay
    step = step / np.maximum(step.sum(axis=1, keepdims=True), 1e-12)
    at, visited = np.zeros(len(step)), np.zeros(len(step))
    at[start] = 1.0
    for _ in range(steps):
        at = at @ step
        visited += at
    return visited


def _asking(behind: pa.Table, clock: Clock) -> dict[str, Floats]:
    """How many calls of databases are under way in each service: what they take in a step over its length (Little's law, Operations Research 9, 1961)."""
    queries = behind.filter(pc.equal(behind["peer_kind"], "database"))
    group, names = arrow.codes(queries["service"])
    if not names:
        return {}
    found = cell_series.by_step(queries, _step(clock, queries), clock.count, len(names), group)
    return dict(zip(names, np.asarray(found.total) / clock.step_s, strict=True))


def _step(clock: Clock, table: pa.Table) -> npt.NDArray[np.int64]:
    """The step of each cell; −1 where it is of none."""
    return clock.place(arrow.numbers(table["minute"]))


def _sending(behind: pa.Table, clock: Clock) -> dict[str, Floats]:
    sent = behind.filter(pc.equal(behind["peer_kind"], "broker"))
    names = sorted(set(sent["service"].to_pylist()))
    counts, _, _ = _calls(sent, "service", {name: n for n, name in enumerate(names)}, len(names), clock)
    return dict(zip(names, counts, strict=True))


def _calls(called: pa.Table, side: str, place: Mapping[str, int], count: int, clock: Clock) -> tuple[Floats, Floats, Floats]:
    """Calls, those that failed, and how long all took (s), by the ``service`` that made them or the ``peer`` that was to answer, at its ``place``: shape (count, steps) each."""
    code, names = arrow.codes(called[side])
    row = np.array([place.get(name, -1) for name in names] + [-1])[code]
    at = np.where(row < 0, -1, row * clock.count + _step(clock, called))
    found = cell_series.totals(called, at, count * clock.count, quantiles=False)
    took = np.bincount(at[at >= 0], arrow.numbers(called["total"])[at >= 0], count * clock.count).astype(float)
    shape = (count, clock.count)
    return found.count.reshape(shape), found.failed.reshape(shape), took.reshape(shape)


def _means(amounts: Floats, counts: Floats) -> Floats:
    """Of a few steps each; of steps in which nothing is served the last that is known, or the first."""
    amount, count = _smooth(amounts), _smooth(counts)
    known = count > LEAST
    step = np.arange(count.shape[1])
    last = np.maximum.accumulate(np.where(known, step, -1), axis=1)
    from_step = np.where(last < 0, known.argmax(axis=1)[:, None], last) if count.shape[1] else last
    return np.asarray(np.take_along_axis(amount / np.maximum(count, 1e-9), from_step, axis=1))


def _smooth(values: Floats) -> Floats:
    total = np.cumsum(np.pad(values, ((0, 0), (1, 0))), axis=1)
    last = np.arange(values.shape[1]) + 1
    first = np.maximum(last - SMOOTHED, 0)
    return np.asarray(total[:, last] - total[:, first])
