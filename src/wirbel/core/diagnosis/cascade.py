"""The steps from the reference to the focus: each part's net change, the largest first. They touch, and end at the focus."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace

from wirbel.core import text
from wirbel.core.diagnosis.attribution import Contribution, Effect
from wirbel.core.diagnosis.sentences import short_part_name

MOST_STEPS = 7  # parts drawn one by one; the rest are one step
_TOLD = 1.2  # times the calls, or one call's time, to be said


@dataclass(frozen=True)
class CascadeStep:
    """From ``start`` to ``end``, which differ by ``amount``, in the symptom's unit; ``main`` is the largest.

    ``more_calls`` and ``slower_calls`` are the two effects that a part's amount is made of; None of what is no single part, or no time.
    """

    label: str
    amount: float
    start: float
    end: float
    main: bool
    more_calls: float | None = None
    slower_calls: float | None = None


def cascade(effect: Effect, contributions: Sequence[Contribution], timed: bool) -> list[CascadeStep]:
    """``timed``: the parts are times, so that it can be said whether calls became more or slower."""
    moves = sorted(contributions, key=lambda c: -abs(c.delta))
    shown = moves[:MOST_STEPS]
    names = [short_part_name(c.part, timed) for c in shown]
    alike = Counter(names)
    steps, at = [], effect.reference
    for index, (c, name) in enumerate(zip(shown, names, strict=True)):
        # Parts of one name are told apart by their operation, which comes last: the rest is read first.
        operation = f", {c.part.operation}" if alike[name] > 1 or not timed else ""
        effects = (c.more_calls, c.slower_calls) if timed else (None, None)
        label = f"{name}{_how(c) if timed else ''}{operation}"
        steps.append(CascadeStep(label, c.delta, at, at + c.delta, index == 0, *effects))
        at += c.delta
    rest = len(moves) - len(steps)
    if rest > 0:
        return [*steps, CascadeStep(f"{rest} smaller parts", effect.focus - at, at, effect.focus, False)]
    # What sums only round is no step of its own.
    return [*steps[:-1], replace(steps[-1], end=effect.focus)] if steps else []


def _how(c: Contribution) -> str:
    if c.calls_reference and c.calls_focus and not 1 / _TOLD < c.calls_focus / c.calls_reference < _TOLD:
        return f", calls {text.number(c.calls_reference)} → {text.number(c.calls_focus)}"
    return " slower" if c.delta > 0 else " faster"
