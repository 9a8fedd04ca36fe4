"""The diagnosis: from spans and changes of two windows to an answer with evidence."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa
from scipy import stats

from wirbel.core import arrow
from wirbel.core.diagnosis import attribution, contrast, onset, requests
from wirbel.core.diagnosis import changes as change_tests
from wirbel.core.diagnosis.attribution import Contribution, Effect
from wirbel.core.diagnosis.model import Answer, Moved, Question
from wirbel.core.diagnosis.ranking import OUTSIDE, Findings, rank, rank_traffic
from wirbel.core.diagnosis.requests import Part, Requests
from wirbel.core.errors import NotEnoughData
from wirbel.core.signals.changes import Change

Floats = npt.NDArray[np.float64]
ENOUGH = 20  # requests in each window
CONTRAST_REQUESTS = 3_000  # a window, for who stands out; more change the shares by less than 2 points
CARRIED = 0.8  # of the change, by the operations on which onsets and changes are judged
SLOW_SHARE = 0.95  # of the reference: what is above this quantile of it is slow
MINUTE_NS = 60 * 10**9


def diagnose(question: Question, table: pa.Table, changes: list[Change], notes: list[str]) -> Answer:
    """Answers ``question`` from the spans of both windows and the time between them.

    ``table`` holds whole traces (spans schema); rows may be weighted. Raises NotEnoughData when a
    window has fewer than 20 requests of the symptom.
    """
    everything = requests.build(table, requests.symptom_rows(table, question.service, question.operation), (question.focus.start, question.focus.end))
    in_reference = (everything.start >= question.reference.start) & (everything.start < question.reference.end)
    here = requests.restrict(everything, everything.in_focus | in_reference)
    if question.signal == "throughput":
        return _throughput(question, here, changes, notes)
    _check_enough(question, here)
    notes = notes + _missing_parents(here)
    values = _measured(question, here)
    unit, statistic = ("s", "mean") if question.signal == "latency" else ("share", "failed share")
    change_of_symptom = attribution.effect(here, values, unit, statistic)
    parts = attribution.where_the_time_went(here) if question.signal == "latency" else attribution.where_errors_began(here)
    over, bad = requests.excess(here, values), _bad(question, here)
    sampled = _sample(here)
    standouts = contrast.who_stands_out(requests.restrict(here, sampled), bad[sampled], over[sampled], change_of_symptom.delta)

    carrying, carriers = _carriers(here, over)
    if carriers:
        notes = [*notes, f"Onsets and changes were judged on {', '.join(carriers)}: most of the change is there."]
    told = requests.restrict(everything, np.isin(everything.stratum, carrying))
    amounts = attribution.per_service(told) if question.signal == "latency" else attribution.failures_by_service(told)
    started = onset.find(told.start, requests.excess(told, _measured(question, told)))
    moved = _what_moved(told, amounts, question, started)
    since = started or onset.Onset(question.focus.start, question.reference.end, question.focus.start, 0.0)
    judged = change_tests.judge(told, changes, since, amounts, _change_of(told, _measured(question, told)))
    ratio, explained = _load(question, here, over, change_of_symptom)
    findings = Findings(change_of_symptom, question.signal, started, parts, standouts, judged, moved, ratio, explained)
    suspects, unexplained = rank(findings)
    return Answer(
        question, change_of_symptom, _percentiles(here), started, parts, standouts, judged, moved, suspects, unexplained, _examples(here, bad, carrying), notes
    )


def _measured(question: Question, found: Requests) -> Floats:
    return found.seconds if question.signal == "latency" else found.failed.astype(float)


def _change_of(found: Requests, values: Floats) -> float:
    return float(values[found.in_focus].mean() - values[~found.in_focus].mean()) if found.in_focus.any() and not found.in_focus.all() else 0.0


def _carriers(here: Requests, over: Floats) -> tuple[npt.NDArray[np.int64], list[str]]:
    """The fewest operations that carry most of the change, and their names if they are not all.

    In the others nothing moved, so that they would only hide when it began.
    """
    focus = here.in_focus
    carried = np.bincount(here.stratum[focus], weights=(here.weight * over)[focus])
    order = np.argsort(-carried)
    positive = np.maximum(carried[order], 0)
    if positive.sum() <= 0:
        return np.unique(here.stratum), []
    most = order[: int(np.searchsorted(np.cumsum(positive), CARRIED * positive.sum())) + 1]
    if len(most) == len(np.unique(here.stratum)):
        return most, []
    names = here.table["operation"]
    return most, [names[int(here.roots[np.flatnonzero(here.stratum == code)[0]])].as_py() for code in most[:5]]


def _check_enough(question: Question, here: Requests) -> None:
    for name, rows in (("focus", here.in_focus), ("reference", ~here.in_focus)):
        count = int(rows.sum())
        if count < ENOUGH:
            what = f"{question.service} {question.operation or ''}".strip()
            raise NotEnoughData(f"the {name} holds {count} requests of {what}; at least {ENOUGH} are needed. Widen the {name}.")


def _missing_parents(here: Requests) -> list[str]:
    rows = here.request >= 0
    orphans = int((~here.table["parent_id"].is_null().to_numpy() & (here.parent < 0)).sum())
    if orphans > 0.02 * max(int(rows.sum()), 1):
        return [f"{orphans} spans name a parent that has not arrived; time under them is counted where it is seen."]
    return []


def _bad(question: Question, here: Requests) -> npt.NDArray[np.bool_]:
    """Failed, or slower than nearly all requests for the same operation in the reference."""
    if question.signal == "errors":
        return here.failed
    bound = np.full(int(here.stratum.max()) + 1, np.quantile(here.seconds[~here.in_focus], SLOW_SHARE))
    for code in np.unique(here.stratum):
        usual = here.seconds[(here.stratum == code) & ~here.in_focus]
        if len(usual) >= ENOUGH:
            bound[code] = np.quantile(usual, SLOW_SHARE)
    return here.seconds > bound[here.stratum]


def _sample(here: Requests) -> npt.NDArray[np.bool_]:
    """At most CONTRAST_REQUESTS of each window, evenly over time."""
    keep = np.zeros(len(here), np.bool_)
    for rows in (np.flatnonzero(here.in_focus), np.flatnonzero(~here.in_focus)):
        keep[rows[:: max(1, -(-len(rows) // CONTRAST_REQUESTS))]] = True
    return keep


def _what_moved(everything: Requests, amounts: dict[str, Floats], question: Question, started: onset.Onset | None) -> list[Moved]:
    moved = []
    for service, values in amounts.items():
        touched = values > 0 if question.signal == "latency" else np.ones(len(values), np.bool_)
        at = onset.find(everything.start[touched], requests.excess(everything, values)[touched])
        if at is not None and at.size > 0:
            moved.append(Moved(f"{service}, own part", service, at))
    if started is not None:
        moved.append(Moved(f"{question.service}, the symptom", question.service, started, is_symptom=True))
    return sorted(moved, key=lambda m: (m.onset.at, m.is_symptom))


def _load(question: Question, here: Requests, values: Floats, change: Effect) -> tuple[float, float]:
    """Traffic, focus over reference, and the share of the change that the reference's own slope predicts."""
    rate = [float(here.weight[rows].sum()) / window.seconds for rows, window in ((here.in_focus, question.focus), (~here.in_focus, question.reference))]
    ratio = rate[0] / rate[1]
    quiet = ~here.in_focus
    minute = (here.start[quiet] - question.reference.start) // MINUTE_NS
    count = np.bincount(minute, weights=here.weight[quiet])
    total = np.bincount(minute, weights=here.weight[quiet] * values[quiet])
    used = count > 0
    if used.sum() < 10 or change.delta == 0:
        return ratio, 0.0
    mean, count = total[used] / count[used], count[used]
    if np.ptp(count) == 0 or np.ptp(mean) == 0:
        return ratio, 0.0
    slope = stats.theilslopes(mean, count).slope
    predicted = slope * 60 * (rate[0] - rate[1])
    return ratio, float(np.clip(predicted / change.delta, 0, 1))


def _percentiles(here: Requests) -> dict[str, tuple[float | None, float | None]]:
    found: dict[str, tuple[float | None, float | None]] = {}
    for share in (50, 75, 90, 95, 99):
        before, after = (
            float(np.quantile(here.seconds[rows], share / 100, method="inverted_cdf", weights=here.weight[rows])) for rows in (~here.in_focus, here.in_focus)
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
    caller, callers = arrow.codes(here.table["service"])
    operation, operations = arrow.codes(here.table["operation"])
    above = here.parent[here.roots]
    who = np.where(above >= 0, caller[above], -1)
    what = operation[here.roots]
    seconds = {True: question.focus.seconds, False: question.reference.seconds}
    parts = []
    for pair in np.unique(np.stack([who, what]), axis=1).T if len(here) else []:
        rows = (who == pair[0]) & (what == pair[1])
        rate = {side: float(here.weight[rows & (here.in_focus == side)].sum()) / seconds[side] for side in (True, False)}
        name = callers[pair[0]] if pair[0] >= 0 else OUTSIDE
        delta = rate[True] - rate[False]
        part = Part(requests.OWN, name, operations[pair[1]], question.service, "service")
        parts.append(
            Contribution(
                part, rate[False], rate[True], rate[False], rate[True], delta, delta, 0.0, *_rate_interval(here.weight[rows], here.in_focus[rows], seconds)
            )
        )
    total = {side: float(here.weight[here.in_focus == side].sum()) / seconds[side] for side in (True, False)}
    low, high = _rate_interval(here.weight, here.in_focus, seconds)
    change = Effect(
        total[False], total[True], total[True] - total[False], low, high, "requests/s", "rate", int((~here.in_focus).sum()), int(here.in_focus.sum())
    )
    parts.sort(key=lambda c: -abs(c.delta))
    suspects, unexplained = rank_traffic(change, parts)
    started = onset.find(np.sort(here.start)[1:], np.diff(np.sort(here.start)).astype(float)) if len(here) > 1 else None
    judged = [
        change_tests.Judged(
            c, c.service == question.service, ((started.at if started else question.focus.start) - c.at) / 1e9, None, None, 0.0, None, None, "unclear"
        )
        for c in changes
    ]
    return Answer(question, change, {}, started, parts, [], judged, [], suspects, unexplained, {}, notes)


def _rate_interval(weight: Floats, in_focus: npt.NDArray[np.bool_], seconds: dict[bool, float]) -> tuple[float, float]:
    """95 % interval of a difference of Poisson rates; the variance of a weighted count is Σ weight²."""
    focus, reference = weight[in_focus], weight[~in_focus]
    delta = focus.sum() / seconds[True] - reference.sum() / seconds[False]
    spread = np.sqrt((focus**2).sum() / seconds[True] ** 2 + (reference**2).sum() / seconds[False] ** 2)
    return float(delta - 1.96 * spread), float(delta + 1.96 * spread)
