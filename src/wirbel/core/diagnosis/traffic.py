"""More or fewer requests: the change of the rate by who calls and for what. The parts add up to it.

Traffic rises and falls by itself: intervals are of a rate that wanders, learned from the reference (core/stats/drift.py).
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from scipy import special

from wirbel.core.diagnosis.attribution import Contribution, Effect
from wirbel.core.diagnosis.heard import Heard
from wirbel.core.diagnosis.model import Question
from wirbel.core.diagnosis.parts import ASKED, OUTSIDE, Part
from wirbel.core.diagnosis.requests import Requests
from wirbel.core.stats import drift

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
Bools = npt.NDArray[np.bool_]
STEPS, LONGEST_S = 20, 60.0  # of the focus, each of which has a rate
SURELY = 0.05  # p, below which a rate wanders


def effect(question: Question, here: Requests) -> Effect:
    """Change of the rate, requests/s, with its interval."""
    heard, all_alike = Heard.of(question, here), np.zeros(len(here), np.int64)
    before, after = _rates(question, here, heard, all_alike, 1)
    below, above, p = _uncertain(question, here, heard, all_alike, 1)
    delta = float(after[0] - before[0])
    return Effect(
        reference=float(before[0]),
        focus=float(after[0]),
        delta=delta,
        low=delta + float(below[0]),
        high=delta + float(above[0]),
        unit="requests/s",
        statistic="rate",
        requests_reference=int((~here.in_focus).sum()),
        requests_focus=int(here.in_focus.sum()),
        p=float(p[0]),
    )


def by_caller(question: Question, here: Requests) -> list[Contribution]:
    """What each caller and operation adds to the rate; largest first."""
    if not len(here):
        return []
    caller, callers = here.traces.codes("service")
    operation, operations = here.traces.codes("operation")
    parent = here.traces.parent[here.roots]
    asked = np.stack([np.where(parent >= 0, caller[parent], -1), operation[here.roots]])
    pairs, which = np.unique(asked, axis=1, return_inverse=True)
    which = which.reshape(-1)
    heard = Heard.of(question, here)
    before, after = _rates(question, here, heard, which, pairs.shape[1])
    below, above, _ = _uncertain(question, here, heard, which, pairs.shape[1])
    parts = []
    for n, (who, what) in enumerate(pairs.T):
        delta = float(after[n] - before[n])
        parts.append(
            Contribution(
                part=Part(ASKED, callers[who] if who >= 0 else OUTSIDE, operations[what], question.service, "service"),
                calls_reference=float(before[n]),
                calls_focus=float(after[n]),
                reference=float(before[n]),
                focus=float(after[n]),
                delta=delta,
                more_calls=delta,
                slower_calls=0.0,
                low=delta + float(below[n]),
                high=delta + float(above[n]),
            )
        )
    return sorted(parts, key=lambda c: -abs(c.delta))


def _rates(question: Question, here: Requests, heard: Heard, which: Ints, count: int) -> tuple[Floats, Floats]:
    """Requests a second of each kind in the reference and in the focus, of the time in which they could be heard of; ``which`` kind each request is."""
    seconds = {False: heard.seconds, True: question.focus.seconds}
    before, after = (np.bincount(which[here.in_focus == side], here.adjusted_count[here.in_focus == side], count) / seconds[side] for side in (False, True))
    return before, after


def _uncertain(question: Question, here: Requests, heard: Heard, which: Ints, count: int) -> tuple[Floats, Floats, Floats]:
    """How far the interval of each change reaches below and above it, and its p.

    Rates of short steps are alike from one to the next, and wander; where those of the reference scatter no more than by chance (a test of dispersion: Fisher 1925), chance is all there is.
    """
    time, rates, by_chance, focus = _steps(question, here, heard, which, count)
    wandering = drift.difference(time - time.min(), rates, np.ones(len(time)), focus)
    quiet = rates[~focus]
    expected = by_chance[~focus].mean(axis=0)
    scatter = ((quiet - quiet.mean(axis=0)) ** 2).sum(axis=0)
    wanders = special.chdtrc(max(len(quiet) - 1, 1), scatter / np.maximum(expected, 1e-300)) < SURELY
    error = np.sqrt(sum(by_chance[rows].sum(axis=0) / rows.sum() ** 2 for rows in (focus, ~focus)))
    with np.errstate(divide="ignore", invalid="ignore"):
        p = np.where(wandering.delta == 0, 1.0, 2 * special.ndtr(-np.abs(wandering.delta) / error))
    reach = special.ndtri(0.975) * error
    return (
        np.where(wanders, wandering.low - wandering.delta, -reach),
        np.where(wanders, wandering.high - wandering.delta, reach),
        np.where(wanders, wandering.p, p),
    )


def _steps(question: Question, here: Requests, heard: Heard, which: Ints, count: int) -> tuple[Floats, Floats, Floats, Bools]:
    """The middles of steps (s, shape (steps,)), the rate of each kind in them and its variance by chance (that of a weighted count is Σ weight²), shape (steps, kinds), and which steps are the focus's."""
    step = min(question.focus.seconds / STEPS, LONGEST_S)
    times, sums, focus = [], [], []
    for side, window in ((False, question.reference), (True, question.focus)):
        steps = max(int(window.seconds / step), 1)
        place = np.floor((here.start - window.start) / (step * 1e9)).astype(np.int64)
        rows = (here.in_focus == side) & (place >= 0) & (place < steps)
        weight, cell = here.adjusted_count[rows], place[rows] * count + which[rows]
        each = np.stack([np.bincount(cell, weight**power, steps * count).reshape(steps, count) / step**power for power in (1, 2)])
        middle = np.asarray(window.start / 1e9 + (np.arange(steps) + 0.5) * step, np.float64)
        used = np.ones(steps, np.bool_) if side else heard.at(middle)
        times.append(middle[used])
        sums.append(each[:, used])
        focus.append(np.full(int(used.sum()), side))
    rates, by_chance = np.concatenate(sums, axis=1)
    return np.concatenate(times), rates, by_chance, np.concatenate(focus)
