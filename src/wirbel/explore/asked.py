"""Times in questions: ranges and the two windows."""

from __future__ import annotations

import time

from ninja import Schema
from pydantic import Field

from wirbel.core.cells import MINUTE_NS
from wirbel.core.errors import InvalidQuestion
from wirbel.core.signals.changes import parse_time
from wirbel.explore import windows
from wirbel.scopes.members import services_of
from wirbel.store import reading
from wirbel.store.streams import DAY_NS

SHORTEST_LAST_S = 60
TICK_NS = 2 * 10**9  # of the clock of those who follow now: who asks at one tick asks the same, and is answered together


def now() -> int:
    """The tick before now, ns."""
    at = time.time_ns()
    return at - at % TICK_NS


def window_of(start: str, end: str | None, name: str, longest_ns: int = windows.LONGEST_NS) -> tuple[int, int]:
    """Without an end, up to now: who follows it asks the same again and again, which can be answered for many together."""
    window = (parse_time(start, f"{name} from"), now() if end is None else parse_time(end, f"{name} to"))
    if window[1] <= window[0]:
        raise InvalidQuestion(f"{name} ends before it starts")
    if window[1] - window[0] > longest_ns:
        raise InvalidQuestion(f"{name} is longer than {longest_ns // DAY_NS} days; choose a shorter one")
    return window


def range_of(start: str | None, end: str | None, environment: str | None = None, last_s: int | None = None) -> tuple[int, int]:
    """The range asked for, or the last so many seconds; without either, what there is of the six hours up to now, or up to the newest record if none is recent."""
    if start and end:
        return window_of(start, end, "range", windows.LONGEST_RANGE_NS)
    until = now()
    if last_s is not None:
        if not SHORTEST_LAST_S <= last_s <= windows.LONGEST_RANGE_NS // 10**9:
            raise InvalidQuestion(f"last_s must be from {SHORTEST_LAST_S} to {windows.LONGEST_RANGE_NS // 10**9} seconds")
        return until - last_s * 10**9, until
    stored = reading.time_range(environment, summaries=True)
    if not stored:
        return until - windows.RANGE_NS, until
    if stored[1] < until - windows.RANGE_NS:
        until = stored[1]
    oldest = min(stored[0] - windows.MARGIN_NS, until - windows.SHORTEST_RANGE_NS)
    return max(oldest - oldest % MINUTE_NS, until - windows.RANGE_NS), until


class Within(Schema):
    """Of which part of everything is asked."""

    environment: str | None = None
    scope: str | None = Field(default=None, description="The name of a scope: its services only.")

    def services(self) -> tuple[str, ...] | None:
        """The services of the scope; None for all. Raises NotFound."""
        return services_of(self.scope, self.environment)


class Compared(Within):
    """The two windows, and the range around them."""

    focus_from: str
    focus_to: str | None = Field(default=None, description="Left out: up to now.")
    reference_from: str
    reference_to: str
    start: str | None = None
    end: str | None = None
    last_s: int | None = None

    def range(self) -> tuple[int, int]:
        return range_of(self.start, self.end, self.environment, self.last_s)

    def windows(self) -> tuple[tuple[int, int], tuple[int, int]]:
        return window_of(self.focus_from, self.focus_to, "focus"), window_of(self.reference_from, self.reference_to, "reference")
