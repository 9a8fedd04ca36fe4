"""The diagnosis: from spans and changes of two windows to an answer with evidence."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from wirbel.core.diagnosis import attribution, contrast, load, onset, requests, responsibility
from wirbel.core.diagnosis import changes as change_tests
from wirbel.core.diagnosis.attribution import Contribution, Effect
from wirbel.core.diagnosis.contrast import Standout
from wirbel.core.diagnosis.error_origins import origins
from wirbel.core.diagnosis.model import Answer, Moved, Question
from wirbel.core.diagnosis.onset import Onset
from wirbel.core.diagnosis.parts import OWN, Part
from wirbel.core.diagnosis.ranking import LEAST_EXPLAINED, OUTSIDE, Findings, Share, rank, rank_traffic
from wirbel.core.diagnosis.requests import Requests
from wirbel.core.diagnosis.responsibility import Responsibility
from wirbel.core.errors import NotEnoughData
from wirbel.core.signals.changes import Change
from wirbel.core.topology.trace_set import TraceSet

Floats = npt.NDArray[np.float64]
MIN_REQUESTS = 20  # in each window
MOST_ENTITIES = 24  # of which it is found out when they moved
CONTRAST_REQUESTS = 3_000  # a window, for who stands out; more change the shares by less than 2 points
CARRIED = 0.8  # of the change, by the operations on which onsets and changes are judged
SLOW_SHARE = 0.95  # of the reference: what is above this quantile of it is slow


def diagnose(question: Question, table: pa.Table, changes: list[Change], notes: list[str]) -> Answer:
    """Answers ``question`` from the spans of both windows and the time between them.

    ``table`` holds whole traces (spans schema); rows may be weighted. Raises NotEnoughData when a
    window has fewer than 20 requests of the symptom.
    """
    traces = TraceSet(table)
    everything = requests.build(traces, requests.symptom_rows(traces, question.service, question.operation), (question.focus.start, question.focus.end))
    in_reference = (everything.start >= question.reference.start) & (everything.start < question.reference.end)
    here = requests.restrict(everything, everything.in_focus | in_reference)
    if question.signal == "throughput":
        return _throughput(question, here, changes, notes)
    _check_enough(question, here)
    notes = [*notes, *_missing_parents(here)]
    values = _measured(question, here)
    unit, statistic = ("s", "mean") if question.signal == "latency" else ("share", "failed share")
    change_of_symptom = attribution.effect(here, values, unit, statistic)
    parts, shares = _shares(question, here)
    over, bad = requests.excess(here, values), _bad(question, here)
    standouts: list[Standout] = []
    if change_of_symptom.delta > 0:
        sampled = _sample(here)
        standouts, left_out = contrast.who_stands_out(requests.restrict(here, sampled), bad[sampled], over[sampled], change_of_symptom.delta)
        notes += [f"Too many to compare each: {', '.join(left_out)} were left out."] if left_out else []

    carrying, carriers = _carriers(here, over)
    if carriers:
        notes.append(f"Onsets and changes were judged on {', '.join(carriers)}: most of the change is there.")
    told = requests.restrict(everything, np.isin(everything.stratum, carrying))
    symptom = requests.excess(told, _measured(question, told))
    started = onset.find(told.start, symptom, told.adjusted_count)
    began = _began(question, told)
    amounts = {entity: requests.excess(told, amount) for entity, amount in _amounts(told, began, shares).items()}
    moved = _onsets(told, amounts, shares, change_of_symptom.delta)
    judging = change_tests.Judging(
        requests=told,
        amounts=amounts,
        onsets=moved,
        symptom=symptom,
        symptom_onset=_since(question, started),
        delta=_change_of(told, symptom),
        calls={pair: requests.excess(told, amount) for pair, amount in responsibility.of_calls(told, began).items()},
    )
    judged = change_tests.judge(judging, changes)
    findings = Findings(
        effect=change_of_symptom,
        signal=question.signal,
        service=question.service,
        onset=started,
        contributions=parts,
        shares=shares,
        standouts=standouts,
        changes=judged,
        moved=_what_moved(question, moved, started, change_of_symptom.delta),
        load=load.of(question, here, over, change_of_symptom),
    )
    candidates, unexplained = rank(findings)
    return Answer(
        question=question,
        effect=change_of_symptom,
        percentiles=_percentiles(here),
        onset=started,
        contributions=parts,
        standouts=standouts,
        changes=judged,
        moved=findings.moved,
        candidates=candidates,
        unexplained=unexplained,
        examples=_examples(here, bad, carrying),
        notes=notes,
    )


def _since(question: Question, started: Onset | None) -> Onset:
    """The onset, or, where none is clear, somewhere between the windows."""
    return started or Onset(question.focus.start, question.reference.end, question.focus.start, 0.0)


def _began(question: Question, found: Requests) -> npt.NDArray[np.int64] | None:
    """Where failures began, if they are what is asked about; None for latency."""
    return None if question.signal == "latency" else origins(found)


def _responsible(found: Requests, began: npt.NDArray[np.int64] | None) -> Responsibility:
    return responsibility.for_time(found) if began is None else responsibility.for_errors(found, began)


def _shares(question: Question, here: Requests) -> tuple[list[Contribution], list[Share]]:
    """The parts of the change, and who adds to it: both add up to it."""
    began = _began(question, here)
    parts = attribution.where_the_time_went(here) if began is None else attribution.where_errors_began(here, began)
    doers = _responsible(here, began)
    before, after = here.means(doers.amount)
    return parts, [Share(doer, float(after[n] - before[n]), doers.parts[n]) for n, doer in enumerate(doers.doers) if doers.parts[n]]


def _amounts(told: Requests, began: npt.NDArray[np.int64] | None, shares: list[Share]) -> dict[tuple[str, str], Floats]:
    """What each entity adds to each request; of many, those that add or save most."""
    size: dict[tuple[str, str], float] = {}
    for share in shares:
        size[share.doer.entity] = size.get(share.doer.entity, 0.0) + share.amount
    largest = sorted(size, key=lambda entity: -abs(size[entity]))[:MOST_ENTITIES]
    found = _responsible(told, began).of_entities()
    return {entity: found[entity] for entity in largest if entity in found}


def _onsets(told: Requests, amounts: dict[tuple[str, str], Floats], shares: list[Share], delta: float) -> dict[tuple[str, str], Onset | None]:
    """When what an entity adds moved, of those that add or save enough to be candidates."""
    size: dict[tuple[str, str], float] = {}
    for share in shares:
        size[share.doer.entity] = size.get(share.doer.entity, 0.0) + abs(share.amount)
    asked = [entity for entity in amounts if size[entity] >= LEAST_EXPLAINED * abs(delta)]
    if not asked:
        return {}
    return dict(zip(asked, onset.find_all(told.start, np.stack([amounts[entity] for entity in asked], axis=1), told.adjusted_count), strict=True))


def _what_moved(question: Question, moved: dict[tuple[str, str], Onset | None], started: Onset | None, delta: float) -> list[Moved]:
    """Entities whose part moved the way the symptom did, in order of time."""
    found = [Moved(*entity, at) for entity, at in moved.items() if at is not None and at.size * delta > 0]
    if started is not None:
        found.append(Moved("service", question.service, started, is_symptom=True))
    return sorted(found, key=lambda m: (m.onset.at, m.is_symptom))


def _measured(question: Question, found: Requests) -> Floats:
    return found.seconds if question.signal == "latency" else found.failed.astype(float)


def _change_of(found: Requests, values: Floats) -> float:
    if not found.in_focus.any() or found.in_focus.all():
        return 0.0
    before, after = found.means(values)
    return float(after - before)


def _carriers(here: Requests, over: Floats) -> tuple[npt.NDArray[np.int64], list[str]]:
    """The fewest operations that carry most of the change, and their names if they are not all.

    In the others nothing moved, so that they would only hide when it began.
    """
    focus = here.in_focus
    carried = np.bincount(here.stratum[focus], weights=(here.adjusted_count * over)[focus])
    order = np.argsort(-carried)
    positive = np.maximum(carried[order], 0)
    if positive.sum() <= 0:
        return np.unique(here.stratum), []
    most = order[: int(np.searchsorted(np.cumsum(positive), CARRIED * positive.sum())) + 1]
    if len(most) == len(np.unique(here.stratum)):
        return most, []
    _, names = here.traces.codes("operation")
    return most, [names[code] for code in most[:5]]


def _check_enough(question: Question, here: Requests) -> None:
    for name, rows in (("focus", here.in_focus), ("reference", ~here.in_focus)):
        count = int(rows.sum())
        if count < MIN_REQUESTS:
            what = f"{question.service} {question.operation or ''}".strip()
            raise NotEnoughData(f"the {name} holds {count} requests of {what}; at least {MIN_REQUESTS} are needed. Widen the {name}.")


def _missing_parents(here: Requests) -> list[str]:
    rows = here.request >= 0
    orphans = int(here.traces.lost_parent.sum())
    if orphans > 0.02 * max(int(rows.sum()), 1):
        return [f"{orphans} spans name a parent that has not arrived; time under them is counted where it is seen."]
    return []


def _bad(question: Question, here: Requests) -> npt.NDArray[np.bool_]:
    """Failed, or slower than nearly all requests for the same operation in the reference."""
    if question.signal == "errors":
        return here.failed

    def slow(rows: npt.NDArray[np.bool_]) -> float:
        return float(np.quantile(here.seconds[rows], SLOW_SHARE, method="inverted_cdf", weights=here.adjusted_count[rows]))

    bound = np.full(int(here.stratum.max()) + 1, slow(~here.in_focus))
    for code in np.unique(here.stratum):
        usual = (here.stratum == code) & ~here.in_focus
        if usual.sum() >= MIN_REQUESTS:
            bound[code] = slow(usual)
    return here.seconds > bound[here.stratum]


def _sample(here: Requests) -> npt.NDArray[np.bool_]:
    """At most CONTRAST_REQUESTS of each window, evenly over time."""
    keep = np.zeros(len(here), np.bool_)
    for rows in (np.flatnonzero(here.in_focus), np.flatnonzero(~here.in_focus)):
        keep[rows[:: max(1, -(-len(rows) // CONTRAST_REQUESTS))]] = True
    return keep


def _percentiles(here: Requests) -> dict[str, tuple[float | None, float | None]]:
    found: dict[str, tuple[float | None, float | None]] = {}
    for share in (50, 75, 90, 95, 99):
        before, after = (
            float(np.quantile(here.seconds[rows], share / 100, method="inverted_cdf", weights=here.adjusted_count[rows]))
            for rows in (~here.in_focus, here.in_focus)
        )
        found[f"p{share}"] = (before, after)
    return found


def _examples(here: Requests, bad: npt.NDArray[np.bool_], carrying: npt.NDArray[np.int64]) -> dict[str, tuple[str, str]]:
    """A bad request near the middle of the bad ones, and a normal one near the middle of the reference."""
    main = here.stratum == carrying[0]
    chosen = {
        "slow": here.at_quantile(here.in_focus & bad & main, here.seconds, 0.5),
        "normal": here.at_quantile(~here.in_focus & ~bad & main, here.seconds, 0.5),
    }
    return {name: here.ids_of(index) for name, index in chosen.items() if index is not None}


def _throughput(question: Question, here: Requests, changes: list[Change], notes: list[str]) -> Answer:
    """More or fewer requests: the change of the rate by who asks and for what. Parts sum to it."""
    caller, callers = here.traces.codes("service")
    operation, operations = here.traces.codes("operation")
    above = here.traces.parent[here.roots]
    who = np.where(above >= 0, caller[above], -1)
    what = operation[here.roots]
    seconds = {True: question.focus.seconds, False: question.reference.seconds}
    parts = []
    for pair in np.unique(np.stack([who, what]), axis=1).T if len(here) else []:
        rows = (who == pair[0]) & (what == pair[1])
        rate = {side: float(here.adjusted_count[rows & (here.in_focus == side)].sum()) / seconds[side] for side in (True, False)}
        name = callers[pair[0]] if pair[0] >= 0 else OUTSIDE
        delta = rate[True] - rate[False]
        part = Part(OWN, name, operations[pair[1]], question.service, "service")
        low, high = _rate_interval(here.adjusted_count[rows], here.in_focus[rows], seconds)
        parts.append(
            Contribution(
                part=part,
                calls_reference=rate[False],
                calls_focus=rate[True],
                reference=rate[False],
                focus=rate[True],
                delta=delta,
                more_calls=delta,
                slower_calls=0.0,
                low=low,
                high=high,
            )
        )
    total = {side: float(here.adjusted_count[here.in_focus == side].sum()) / seconds[side] for side in (True, False)}
    low, high = _rate_interval(here.adjusted_count, here.in_focus, seconds)
    effect = Effect(
        reference=total[False],
        focus=total[True],
        delta=total[True] - total[False],
        low=low,
        high=high,
        unit="requests/s",
        statistic="rate",
        requests_reference=int((~here.in_focus).sum()),
        requests_focus=int(here.in_focus.sum()),
    )
    parts.sort(key=lambda c: -abs(c.delta))
    candidates, unexplained = rank_traffic(effect, parts, question.service)
    started = onset.of_rate(here.start, here.adjusted_count, question.reference.start, question.focus.end)
    since = _since(question, started)
    judged = [_beside_traffic(question, change, since) for change in changes]
    return Answer(
        question=question,
        effect=effect,
        percentiles={},
        onset=started,
        contributions=parts,
        standouts=[],
        changes=judged,
        moved=[],
        candidates=candidates,
        unexplained=unexplained,
        examples={},
        notes=notes,
    )


def _beside_traffic(question: Question, change: Change, since: Onset) -> change_tests.Judged:
    """What a change did to traffic is not judged: only whether it is one of the service that is asked."""
    asked = change.service == question.service
    entity = ("service", question.service) if asked else None
    return change_tests.Judged(change=change, entity=entity, lead_s=change_tests.lead_s(change.at, since), verdict="unclear" if asked else "off-path")


def _rate_interval(weight: Floats, in_focus: npt.NDArray[np.bool_], seconds: dict[bool, float]) -> tuple[float, float]:
    """95 % interval of a difference of Poisson rates; the variance of a weighted count is Σ weight²."""
    focus, reference = weight[in_focus], weight[~in_focus]
    delta = focus.sum() / seconds[True] - reference.sum() / seconds[False]
    spread = np.sqrt((focus**2).sum() / seconds[True] ** 2 + (reference**2).sum() / seconds[False] ** 2)
    return float(delta - 1.96 * spread), float(delta + 1.96 * spread)
