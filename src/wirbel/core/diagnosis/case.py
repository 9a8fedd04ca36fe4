"""Everything about one question, read and encoded once: what sources of evidence look at."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt
import pyarrow as pa
from scipy import sparse

from wirbel.core import cells
from wirbel.core.diagnosis import attribution, contrast, load, onset, requests, responsibility, traffic
from wirbel.core.diagnosis import changes as change_tests
from wirbel.core.diagnosis.attribution import Contribution, Effect
from wirbel.core.diagnosis.clock import Clock
from wirbel.core.diagnosis.contrast import Standout
from wirbel.core.diagnosis.error_origins import origins
from wirbel.core.diagnosis.measures import Measures, measure
from wirbel.core.diagnosis.model import MINUTE_S, Doubt, Load, Moved, Question
from wirbel.core.diagnosis.onset import Onset
from wirbel.core.diagnosis.pace import Pace
from wirbel.core.diagnosis.parts import Part
from wirbel.core.diagnosis.requests import Requests
from wirbel.core.diagnosis.responsibility import Doer, Responsibility
from wirbel.core.diagnosis.services import Services, beneath
from wirbel.core.errors import NotEnoughData
from wirbel.core.patterns.counts import COUNTED
from wirbel.core.signals.changes import Change
from wirbel.core.signals.points import POINT_SCHEMA
from wirbel.core.topology.trace_set import TraceSet

Floats = npt.NDArray[np.float64]
Bools = npt.NDArray[np.bool_]
Entity = tuple[str, str]
"""Kind and name."""

WHATEVER_IS_ASKED = ("traces", "operations_by_trace", "everything", "here", "measures", "services")  # of a case: the same for all signals
MIN_REQUESTS = 20  # in each window
MIN_MEANS = 5  # minutes in each window, where there are means only
MOST_ENTITIES = 24  # of which it is found out when they moved
LEAST_EXPLAINED = 0.03  # parts below it are noise
CONTRAST_REQUESTS = 3_000  # a window, for who stands out; more change the shares by less than 2 points
STEADY = 0.02  # of what is usual, by which what is steady may move: no matter for anybody
UNCLEAR_MEAN = 0.5  # of the mean's change, that counts as certain where its logarithm or its tail is clear and it is not
CARRIED = 0.8  # of the change, by the operations on which onsets and changes are judged
SLOW_SHARE = 0.95  # of the reference: what is above this quantile of it is slow


@dataclass(frozen=True, kw_only=True)
class Records:
    """What is known of the time around a question.

    ``spans`` are whole traces of the symptom's requests, in both windows and between them; ``cells`` and ``points`` are of
    everything that may have to do with it, from the start of the reference to the end of the focus, points in the
    order of signals.points.combine; ``patterns`` are counts of what was logged (patterns/counts.py).
    """

    spans: pa.Table
    cells: pa.Table | None = None
    points: pa.Table = field(default_factory=POINT_SCHEMA.empty_table)
    patterns: pa.Table = field(default_factory=COUNTED.empty_table)
    changes: list[Change] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    by_metrics: bool = False  # spans are drawn up from what metrics count (mean_requests.py)


@dataclass(frozen=True)
class Share:
    """What a doer adds to the change, in the symptom's unit, and the parts of requests that it is read from."""

    doer: Doer
    amount: float
    parts: list[Part]


@dataclass(frozen=True)
class Case:
    """A question with its records; what is reckoned from them is reckoned when it is first asked for."""

    question: Question
    records: Records

    # The symptom's requests.

    @cached_property
    def traces(self) -> TraceSet:
        return TraceSet(self.records.spans)

    @cached_property
    def operations_by_trace(self) -> tuple[npt.NDArray[np.int64], sparse.csr_array]:
        """The trace of each span, as a number, and 1 where an operation of a service is met in a trace: shape (operations, traces)."""
        trace = np.unique(self.traces.words, return_inverse=True)[1].reshape(-1)
        (service, names), (operation, _) = self.traces.codes("service"), self.traces.codes("operation")
        pair = np.unique(operation * (len(names) + 1) + service, return_inverse=True)[1].reshape(-1)
        cell = np.unique(pair * (int(trace.max(initial=0)) + 1) + trace)
        shape = (int(pair.max(initial=0)) + 1, int(trace.max(initial=0)) + 1)
        return trace, sparse.csr_array((np.ones(len(cell)), (cell // shape[1], cell % shape[1])), shape=shape)

    @cached_property
    def everything(self) -> Requests:
        """Requests of both windows and of the time between."""
        question = self.question
        roots = requests.symptom_rows(self.traces, question.service, question.operation)
        focus, reference = ((window.start, window.end) for window in (question.focus, question.reference))
        return requests.build(self.traces, roots, focus, reference)

    @cached_property
    def here(self) -> Requests:
        """Requests of both windows."""
        return requests.restrict(self.everything, self.everything.in_focus | self.everything.in_reference)

    @cached_property
    def as_latency(self) -> Case | None:
        """The same windows asked about how long requests take; None where they are too few, or clearly take no longer."""
        found = replace(self, question=replace(self.question, signal="latency"))
        for name in WHATEVER_IS_ASKED:
            found.__dict__[name] = getattr(self, name)
        try:
            found.check_enough()
        except NotEnoughData:
            return None
        return found if not found.doubt and found.effect.delta > 0 else None

    def check_enough(self) -> None:
        """Raises NotEnoughData when a window has fewer than 20 requests of the symptom."""
        for name, rows in (("focus", self.here.in_focus), ("reference", ~self.here.in_focus)):
            # A request that is drawn up stands for all that were counted.
            count = round(self.here.adjusted_count[rows].sum()) if self.records.by_metrics and rows.sum() >= MIN_MEANS else int(rows.sum())
            if count < MIN_REQUESTS:
                what = f"{self.question.service} {self.question.operation or ''}".strip()
                raise NotEnoughData(f"the {name} holds {count} requests of {what}; at least {MIN_REQUESTS} are needed. Widen the {name}.")

    def measured(self, found: Requests) -> Floats:
        """What is asked about, of each request."""
        return found.seconds if self.question.signal == "latency" else found.failed.astype(float)

    @cached_property
    def effect(self) -> Effect:
        if self.question.signal == "throughput":
            return traffic.effect(self.question, self.here)
        unit, statistic = ("s", "mean") if self.question.signal == "latency" else ("share", "failed share")
        return attribution.effect(self.here, self.measured(self.here), unit, statistic)

    @property
    def is_better(self) -> bool:
        """The focus is faster, or fails less."""
        return self.effect.delta < 0

    @cached_property
    def over(self) -> Floats:
        """What is asked about, over what is usual for the operation; of each request in both windows."""
        return requests.excess(self.here, self.measured(self.here))

    @cached_property
    def bad(self) -> Bools:
        """Failed, or slower than nearly all requests for the same operation in the reference."""
        here = self.here
        if self.question.signal == "errors":
            return here.failed

        def slow(rows: Bools) -> float:
            return float(np.quantile(here.seconds[rows], SLOW_SHARE, method="inverted_cdf", weights=here.adjusted_count[rows]))

        bound = np.full(int(here.stratum.max()) + 1, slow(~here.in_focus))
        for code in np.unique(here.stratum):
            usual = (here.stratum == code) & ~here.in_focus
            if usual.sum() >= MIN_REQUESTS:
                bound[code] = slow(usual)
        return here.seconds > bound[here.stratum]

    # Where it went.

    def began(self, found: Requests) -> npt.NDArray[np.int64] | None:
        """Where failures began, if they are what is asked about; None for latency."""
        return None if self.question.signal == "latency" else origins(found)

    def _responsible(self, found: Requests) -> Responsibility:
        began = self.began(found)
        return responsibility.for_time(found) if began is None else responsibility.for_errors(found, began)

    @cached_property
    def contributions(self) -> list[Contribution]:
        """The parts of the change; they add up to it."""
        if self.question.signal == "throughput":
            return traffic.by_caller(self.question, self.here)
        began = self.began(self.here)
        return attribution.where_the_time_went(self.here) if began is None else attribution.where_errors_began(self.here, began)

    @cached_property
    def shares(self) -> list[Share]:
        """Who adds to the change; they add up to it."""
        doers = self._responsible(self.here)
        before, after = self.here.means(doers.amount)
        return [Share(doer, float(after[n] - before[n]), doers.parts[n]) for n, doer in enumerate(doers.doers) if doers.parts[n]]

    @cached_property
    def _standouts(self) -> tuple[list[Standout], list[str]]:
        if self.effect.delta <= 0:
            return [], []
        sampled = _sample(self.here)
        return contrast.who_stands_out(requests.restrict(self.here, sampled), self.bad[sampled], self.over[sampled], self.effect.delta)

    @property
    def standouts(self) -> list[Standout]:
        return self._standouts[0]

    @property
    def notes(self) -> list[str]:
        """What limits the answer."""
        if self.question.signal == "throughput":
            return self.records.notes
        left_out = self._standouts[1]
        found = [*self.records.notes, *_missing_parents(self.here)]
        found += [f"Too many to compare each: {', '.join(left_out)} were left out."] if left_out else []
        carriers = self._carriers[1]
        return [*found, *([f"Onsets and changes were judged on {', '.join(carriers)}: most of the change is there."] if carriers else [])]

    # When it moved, and what changed.

    @cached_property
    def _carriers(self) -> tuple[npt.NDArray[np.int64], list[str]]:
        """The fewest operations that carry most of the change, and their names if they are not all.

        In the others nothing moved, so that they would only hide when it began.
        """
        here, focus = self.here, self.here.in_focus
        carried = np.bincount(here.stratum[focus], weights=(here.adjusted_count * self.over)[focus]) * (-1.0 if self.is_better else 1.0)
        order = np.argsort(-carried)
        positive = np.maximum(carried[order], 0)  # an improvement is carried by what got faster
        if positive.sum() <= 0:
            return np.unique(here.stratum), []
        most = order[: int(np.searchsorted(np.cumsum(positive), CARRIED * positive.sum())) + 1]
        if len(most) == len(np.unique(here.stratum)):
            return most, []
        _, names = here.traces.codes("operation")
        return most, [names[code] for code in most[:5]]

    def effect_of(self, entity: Entity) -> float:
        """The share of the change that an entity adds by all it does, between 0 and 1."""
        return min(max(self.sizes.get(entity, 0.0) / self.effect.delta, 0.0), 1.0) if self.effect.delta else 0.0

    @cached_property
    def involved(self) -> set[Entity]:
        """What may have a part in it: what the symptom's requests met, what is called beneath it, and, where it sends messages, who takes them."""
        s, traces = self.services, self.traces
        met = {("service", name) for name in traces.codes("service")[1]} | {entity for entity in s.entities if entity[1] in set(traces.codes("peer")[1])}
        reached = beneath(s.calls, [n for n, entity in enumerate(s.entities) if entity in met or n == s.symptom])
        met |= {entity for entity, is_reached in zip(s.entities, reached, strict=True) if is_reached}
        if "broker" in traces.codes("peer_kind")[1]:
            met |= {entity for entity, takes in zip(s.entities, s.is_consumer, strict=True) if takes}
        return met

    @property
    def doubt(self) -> Doubt | None:
        """Why the symptom may be none: both windows are the *same*, the reference *wanders* as far by itself, or it may be too *small*, as what is steady may move as far."""
        effect, (usual, now) = self.effect, self.carried
        if effect.delta == 0:
            return "same"
        if not effect.is_clear:
            return "wanders"
        # Where not the mean is clear, half of its change is as good a guess of the least that is certain.
        certain = min(abs(effect.low), abs(effect.high)) / abs(effect.delta) if not effect.low <= 0 <= effect.high else UNCLEAR_MEAN
        return None if certain * abs(now - usual) > STEADY * usual else "small"

    @cached_property
    def carried(self) -> tuple[float, float]:
        """What is usual for the requests in the focus that carry most of the change, and what it is, in the symptom's unit.

        What is slow in one operation of ten is no small matter there.
        """
        if self.question.signal == "throughput":
            return self.effect.reference, self.effect.focus
        rows = self.here.in_focus & np.isin(self.here.stratum, self._carriers[0])
        now, more = (float(np.average(values[rows], weights=self.here.adjusted_count[rows])) for values in (self.measured(self.here), self.over))
        return now - more, now

    @cached_property
    def told(self) -> Requests:
        """Requests of all times, for the operations that carry most of the change."""
        return requests.restrict(self.everything, np.isin(self.everything.stratum, self._carriers[0]))

    @cached_property
    def symptom(self) -> Floats:
        """What is asked about, over the usual, of the requests in ``told``."""
        return requests.excess(self.told, self.measured(self.told))

    @cached_property
    def onset(self) -> Onset | None:
        if self.question.signal == "throughput":
            every = self.everything
            whole = (int(self.clock.joined(np.array([self.question.reference.start]))[0]), self.question.focus.end)
            return self._as_it_was(onset.of_rate(self.clock.joined(every.start), every.adjusted_count, *whole))
        return self._as_it_was(onset.find(self.clock.joined(self.told.start), self.symptom, self.told.adjusted_count))

    @cached_property
    def clock(self) -> Clock:
        return Clock(self.question, self.question.step_s)

    def _as_it_was(self, found: Onset | None) -> Onset | None:
        """An onset of joined times at the time at which it was."""
        return found and replace(found, at=self.clock.apart(found.at), low=self.clock.apart(found.low), high=self.clock.apart(found.high))

    @property
    def since(self) -> Onset:
        """The onset, or, where none is clear, somewhere between the windows."""
        return self.onset or Onset(self.question.focus.start, self.question.reference.end, self.question.focus.start, 0.0)

    @cached_property
    def sizes(self) -> dict[Entity, float]:
        """What each entity adds to the change, all its ways together."""
        found: dict[Entity, float] = {}
        for share in self.shares:
            found[share.doer.entity] = found.get(share.doer.entity, 0.0) + share.amount
        return found

    @cached_property
    def amounts(self) -> dict[Entity, Floats]:
        """What each entity adds to each request in ``told``, over the usual; of many, those that add or save most."""
        largest = sorted(self.sizes, key=lambda entity: -abs(self.sizes[entity]))[:MOST_ENTITIES]
        found = self._responsible(self.told).of_entities()
        return {entity: requests.excess(self.told, found[entity]) for entity in largest if entity in found}

    @cached_property
    def moved(self) -> dict[Entity, Onset | None]:
        """When what an entity adds moved, of those that add or save enough to be candidates."""
        size: dict[Entity, float] = {}
        for share in self.shares:
            size[share.doer.entity] = size.get(share.doer.entity, 0.0) + abs(share.amount)
        asked = [entity for entity in self.amounts if size[entity] >= LEAST_EXPLAINED * abs(self.effect.delta)]
        if not asked:
            return {}
        amounts = np.stack([self.amounts[entity] for entity in asked], axis=1)
        found = onset.find_all(self.clock.joined(self.told.start), amounts, self.told.adjusted_count)
        return {entity: self._as_it_was(at) for entity, at in zip(asked, found, strict=True)}

    @cached_property
    def order(self) -> list[Moved]:
        """Entities whose part moved the way the symptom did, in order of time, and the symptom."""
        found = [Moved(*entity, at) for entity, at in self.moved.items() if at is not None and at.size * self.effect.delta > 0]
        if self.onset is not None:
            found.append(Moved("service", self.question.service, self.onset, is_symptom=True))
        return sorted(found, key=lambda m: (m.onset.at, m.is_symptom))

    @cached_property
    def judged(self) -> list[change_tests.Judged]:
        """Each change with its before/after test; what one did to traffic is not judged."""
        if self.question.signal == "throughput":
            return [self._beside_traffic(change) for change in self.records.changes]
        began = self.began(self.told)
        judging = change_tests.Judging(
            requests=self.told,
            amounts=self.amounts,
            onsets=self.moved,
            symptom=self.symptom,
            symptom_onset=self.since,
            delta=_change_of(self.told, self.symptom),
            calls={pair: requests.excess(self.told, amount) for pair, amount in responsibility.of_calls(self.told, began).items()},
        )
        return change_tests.judge(judging, self.records.changes)

    def _beside_traffic(self, change: Change) -> change_tests.Judged:
        own = change.service == self.question.service
        entity = ("service", self.question.service) if own else None
        return change_tests.Judged(change=change, entity=entity, lead_s=change_tests.lead_s(change.at, self.since), verdict="unclear" if own else "off-path")

    # What goes on beside the requests.

    @cached_property
    def pace(self) -> Pace:
        """How much slower everybody became at what they do."""
        return Pace.of(self.here)

    def its_own(self, entity: Entity) -> float:
        """How much of what is seen of something is its own doing, and not that of the only one who calls it, between 0 and 1."""
        if self.question.signal != "latency":
            return 1.0
        through = self.pace.seen_through(entity)
        return 1.0 if through is None else 1.0 - through[1]

    @cached_property
    def load(self) -> Load:
        return load.of(self.question, self.here, self.over, self.effect)

    @cached_property
    def measures(self) -> Measures:
        return measure(self.records.points, self.question)

    @cached_property
    def _met(self) -> set[str]:
        """Services and peers that the symptom's requests met, and services that run on the hosts of these."""
        m, hosts = self.measures, self.traces.codes("host")[1]
        beside = {service for service, host in zip(m.service, m.host, strict=True) if service is not None and host in hosts}
        return {*self.traces.codes("service")[1], *self.traces.codes("peer")[1], *beside}

    @cached_property
    def services(self) -> Services:
        """All that may have to do with it, from cells; where there are none, or windows are too short for minutes, from the spans that there are."""
        step_s, kept = self.question.step_s, self.records.cells
        by_minute = kept is not None and step_s == MINUTE_S
        found = Services.of(kept if by_minute else cells.derive(self.records.spans, step_s * 10**9), self.question)
        return found.linked_with(self._met)

    def examples(self) -> dict[str, tuple[str, str]]:
        """A bad request near the middle of the bad ones, and a normal one near the middle of the reference."""
        here, bad = self.here, self.bad
        main = here.stratum == self._carriers[0][0]
        chosen = {
            "slow": here.at_quantile(here.in_focus & bad & main, here.seconds, 0.5),
            "normal": here.at_quantile(~here.in_focus & ~bad & main, here.seconds, 0.5),
        }
        return {name: here.ids_of(index) for name, index in chosen.items() if index is not None}


def _sample(here: Requests) -> Bools:
    """At most CONTRAST_REQUESTS of each window, by a word of each request's id: a stride would be in step with whatever comes in turn."""
    keep = np.zeros(len(here), np.bool_)
    for rows in (np.flatnonzero(here.in_focus), np.flatnonzero(~here.in_focus)):
        keep[rows[np.argsort(here.traces.words[here.roots[rows]], kind="stable")[:CONTRAST_REQUESTS]]] = True
    return keep


def _change_of(found: Requests, values: Floats) -> float:
    if not found.in_focus.any() or not found.in_reference.any():
        return 0.0
    before, after = found.means(values)
    return float(after - before)


def _missing_parents(here: Requests) -> list[str]:
    rows = here.request >= 0
    orphans = int(here.traces.lost_parent.sum())
    if orphans > 0.02 * max(int(rows.sum()), 1):
        return [f"{orphans} spans name a parent that has not arrived; time under them is counted where it is seen."]
    return []
