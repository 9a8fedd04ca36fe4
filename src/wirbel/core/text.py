"""Numbers as people read them: SI units, three significant digits."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime

MINUS = "\u2212"
MOST_NAMED = 5  # of a list of names


def number(value: float) -> str:
    """Three significant digits."""
    if value == 0:
        return "0"
    if abs(value) >= 1000:
        return f"{value:,.0f}".replace(",", "\u202f").replace("-", MINUS)
    return f"{value:.3g}".replace("-", MINUS)


def seconds(value: float) -> str:
    """A duration in the unit that suits it: s, ms or µs."""
    size = abs(value)
    if size >= 1:
        return f"{number(value)} s"
    if size >= 1e-3 or size == 0:
        return f"{number(value * 1e3)} ms"
    return f"{number(value * 1e6)} µs"


def share(value: float) -> str:
    """A share as per cent."""
    return f"{number(value * 100)} %"


def quantity(value: float, unit: str) -> str:
    """A value in its unit: ``s``, ``share``, or any other as it is called."""
    return {"s": seconds, "share": share}.get(unit, lambda v: f"{number(v)} {unit}")(value)


def time(at_ns: int) -> str:
    """ns since 1970 in a sentence: RFC 3339 in UTC, to the second, which a screen can show in its reader's zone."""
    return f"{datetime.fromtimestamp(at_ns // 10**9, UTC):%Y-%m-%dT%H:%M:%SZ}"


def span_of_time(value_s: float) -> str:
    """How long something lasts: seconds, minutes or hours."""
    size = abs(value_s)
    if size < 90:
        return f"{size:.0f} s"
    if size < 5400:
        return f"{size / 60:.0f} min"
    return f"{size / 3600:.1f} h"


def rfc3339(at_ns: int) -> str:
    """ns since 1970 as RFC 3339 in UTC, to the millisecond."""
    whole, rest = divmod(int(at_ns), 10**9)
    return f"{datetime.fromtimestamp(whole, UTC):%Y-%m-%dT%H:%M:%S}.{rest // 10**6:03d}Z"


def listed(names: Sequence[str]) -> str:
    """The first names, and how many more there are."""
    return ", ".join(names[:MOST_NAMED]) + (f" and {len(names) - MOST_NAMED} more" if len(names) > MOST_NAMED else "")
