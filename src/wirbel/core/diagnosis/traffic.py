"""More or fewer requests: the change of the rate by who calls and for what. The parts add up to it."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from wirbel.core.diagnosis.attribution import Contribution, Effect
from wirbel.core.diagnosis.load import heard_s
from wirbel.core.diagnosis.model import Question
from wirbel.core.diagnosis.parts import OWN, Part
from wirbel.core.diagnosis.requests import Requests

Floats = npt.NDArray[np.float64]
OUTSIDE = "from outside"  # who calls where no instrumented caller is seen


def effect(question: Question, here: Requests) -> Effect:
    """Change of the rate, requests/s, with its interval."""
    seconds = _seconds(question, here)
    total = {side: float(here.adjusted_count[here.in_focus == side].sum()) / seconds[side] for side in (True, False)}
    low, high = _interval(here.adjusted_count, here.in_focus, seconds)
    return Effect(
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


def by_caller(question: Question, here: Requests) -> list[Contribution]:
    """What each caller and operation adds to the rate; largest first."""
    caller, callers = here.traces.codes("service")
    operation, operations = here.traces.codes("operation")
    above = here.traces.parent[here.roots]
    who, what = np.where(above >= 0, caller[above], -1), operation[here.roots]
    seconds = _seconds(question, here)
    parts = []
    for pair in np.unique(np.stack([who, what]), axis=1).T if len(here) else []:
        rows = (who == pair[0]) & (what == pair[1])
        rate = {side: float(here.adjusted_count[rows & (here.in_focus == side)].sum()) / seconds[side] for side in (True, False)}
        delta = rate[True] - rate[False]
        low, high = _interval(here.adjusted_count[rows], here.in_focus[rows], seconds)
        part = Part(OWN, callers[pair[0]] if pair[0] >= 0 else OUTSIDE, operations[pair[1]], question.service, "service")
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
    return sorted(parts, key=lambda c: -abs(c.delta))


def _seconds(question: Question, here: Requests) -> dict[bool, float]:
    """By whether it is the focus: how long requests could be heard of."""
    return {True: question.focus.seconds, False: heard_s(question, here)}


def _interval(weight: Floats, in_focus: npt.NDArray[np.bool_], seconds: dict[bool, float]) -> tuple[float, float]:
    """95 % interval of a difference of Poisson rates; the variance of a weighted count is Σ weight²."""
    focus, reference = weight[in_focus], weight[~in_focus]
    delta = focus.sum() / seconds[True] - reference.sum() / seconds[False]
    spread = np.sqrt((focus**2).sum() / seconds[True] ** 2 + (reference**2).sum() / seconds[False] ** 2)
    return float(delta - 1.96 * spread), float(delta + 1.96 * spread)
