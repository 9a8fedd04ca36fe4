"""How long a question may take, and whether anybody still waits for its answer.

Whoever asks sets the bounds; whatever reads blocks looks at them between two blocks.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Hashable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, field
from typing import Any, TypeVar

from wirbel.core import text
from wirbel.core.errors import QuestionStopped, QuestionTooLarge

LONGEST_S = 60.0
R = TypeVar("R")


@dataclass(frozen=True)
class Bounds:
    longest_s: float
    began: float = field(default_factory=time.monotonic)
    stopped: threading.Event = field(default_factory=threading.Event)
    known: dict[Hashable, Any] = field(default_factory=dict)  # what has been found out for the question: see :func:`once`


_current: ContextVar[Bounds | None] = ContextVar("bounds of a question", default=None)


@contextmanager
def bounded(bounds: Bounds) -> Iterator[None]:
    token = _current.set(bounds)
    try:
        yield
    finally:
        _current.reset(token)


def once(key: Hashable, find: Callable[[], R]) -> R:
    """What ``find`` finds, once in a question; without bounds, each time."""
    bounds = _current.get()
    if bounds is None:
        return find()
    if key not in bounds.known:
        bounds.known[key] = find()
    return bounds.known[key]  # type: ignore[no-any-return]


def check(done: int, of: int) -> None:
    """Raises QuestionStopped or QuestionTooLarge. ``done`` of ``of`` records have been read."""
    bounds = _current.get()
    if bounds is None:
        return
    if bounds.stopped.is_set():
        raise QuestionStopped("The question was stopped.")
    if time.monotonic() - bounds.began > bounds.longest_s:
        raise QuestionTooLarge(
            f"After {bounds.longest_s:.0f} s only {text.number(done)} of {text.number(of)} records had been read. Choose a shorter window, one service, or one environment."
        )
