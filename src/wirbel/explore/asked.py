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


def window_of(start: str, end: str, name: str, longest_ns: int = windows.LONGEST_NS) -> tuple[int, int]:
    window = (parse_time(start, f"{name} from"), parse_time(end, f"{name} to"))
    if window[1] <= window[0]:
        raise InvalidQuestion(f"{name} ends before it starts")
    if window[1] - window[0] > longest_ns:
        raise InvalidQuestion(f"{name} is longer than {longest_ns // DAY_NS} days; choose a shorter one")
    return window


def range_of(start: str | None, end: str | None, environment: str | None = None, last_s: int | None = None) -> tuple[int, int]:
    """The range asked for, or the last so many seconds; without either, what there is of the six hours up to now, or up to the newest record if none is recent."""
    if start and end:
        return window_of(start, end, "range", windows.LONGEST_RANGE_NS)
    now = time.time_ns()
    if last_s is not None:
        if not SHORTEST_LAST_S <= last_s <= windows.LONGEST_RANGE_NS // 10**9:
            raise InvalidQuestion(f"last_s must be from {SHORTEST_LAST_S} to {windows.LONGEST_RANGE_NS // 10**9} seconds")
        return now - last_s * 10**9, now
    stored = reading.time_range(environment)
    if not stored:
        return now - windows.RANGE_NS, now
    if stored[1] < now - windows.RANGE_NS:
        now = stored[1]
    oldest = min(stored[0] - windows.MARGIN_NS, now - windows.SHORTEST_RANGE_NS)
    return max(oldest - oldest % MINUTE_NS, now - windows.RANGE_NS), now


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
    focus_to: str
    reference_from: str
    reference_to: str
    start: str | None = None
    end: str | None = None
    last_s: int | None = None

    def range(self) -> tuple[int, int]:
        return range_of(self.start, self.end, self.environment, self.last_s)

    def windows(self) -> tuple[tuple[int, int], tuple[int, int]]:
        return window_of(self.focus_from, self.focus_to, "focus"), window_of(self.reference_from, self.reference_to, "reference")
