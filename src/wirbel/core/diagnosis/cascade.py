"""The steps from the reference to the focus: each part's net change, the largest first. They touch, and end at the focus."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from wirbel.core import text
from wirbel.core.diagnosis.attribution import Contribution, Effect
from wirbel.core.diagnosis.parts import DEPENDENCY, TRANSFER

MOST_STEPS = 7  # parts drawn one by one; the rest are one step
_TOLD = 1.2  # times the calls, or one call's time, to be said


@dataclass(frozen=True)
class CascadeStep:
    """From ``start`` to ``end``, which differ by ``amount``, in the symptom's unit; ``main`` is the largest."""

    label: str
    amount: float
    start: float
    end: float
    main: bool


def cascade(effect: Effect, contributions: Sequence[Contribution], timed: bool) -> list[CascadeStep]:
    """``timed``: the parts are times, so that it can be said whether calls became more or slower."""
    moves = sorted(contributions, key=lambda c: -abs(c.delta))
    steps, at = [], effect.reference
    for index, c in enumerate(moves[:MOST_STEPS]):
        label = f"{_name(c)}{_how(c)}" if timed else f"{_name(c)}, {c.part.operation}"
        steps.append(CascadeStep(label, c.delta, at, at + c.delta, index == 0))
        at += c.delta
    rest = len(moves) - len(steps)
    label = f"{rest} smaller parts" if rest > 0 else "rounding"
    return [*steps, CascadeStep(label, effect.focus - at, at, effect.focus, False)]


def _name(c: Contribution) -> str:
    if c.part.kind == DEPENDENCY:
        return str(c.part.peer)
    return f"{c.part.service} → {c.part.peer}" if c.part.kind == TRANSFER else f"{c.part.service} self time"


def _how(c: Contribution) -> str:
    if c.calls_reference and c.calls_focus and not 1 / _TOLD < c.calls_focus / c.calls_reference < _TOLD:
        return f", calls {text.number(c.calls_reference)} → {text.number(c.calls_focus)}"
    return " slower" if c.delta > 0 else " faster"
