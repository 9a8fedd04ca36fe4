"""The one place where deviations become English."""

from __future__ import annotations

import re
from collections.abc import Mapping

from wirbel.core.deviation.disturbance import Disturbance, Of
from wirbel.core.text import quantity

MOST_NAMED = 3
ANNOTATION = re.compile(r"\{[^{}]*\}")
FAILED, REQUESTS = "failed share", "requests"
NAMES = {FAILED: "share of failed requests", REQUESTS: "requests a second", "log records": "log records a second", "log errors": "logged errors a second"}
SIGNALS = {FAILED: "errors", REQUESTS: "throughput", "p50": "latency", "p95": "latency", "p99": "latency"}
"""What an inquiry asks about, by the metric that deviates; nothing for others."""


def measure(one: Of) -> str:
    """What is measured."""
    return named(one.metric, one.attributes)


def named(metric: str, attributes: Mapping[str, str]) -> str:
    """A metric in words, with the values of its attributes."""
    values = ", ".join(attributes.values())
    return NAMES.get(metric, metric) + (f" ({values})" if values else "")


def told(value: float, unit: str) -> str:
    """A value of a series, in its unit as OpenTelemetry writes it (UCUM): what stands in braces only says what is counted."""
    return quantity(value, "share" if unit == "1" else ANNOTATION.sub("", unit)).strip()


def deviates(one: Of) -> str:
    """By how much, at its farthest: what is, and what was expected; of what surprises only by going on, that it does."""
    peak = one.deviation.peak
    if one.deviation.direction == "absent":
        return "nothing is sent any more"
    actual = "nothing" if peak.actual is None else told(peak.actual, one.unit)
    if peak.actual is not None and peak.low <= peak.actual <= peak.high:
        return f"{actual} for long; single values may lie from {told(peak.low, one.unit)} to {told(peak.high, one.unit)}"
    return _beside(actual, peak.low, peak.high, one.unit)


def at_a_moment(value: float | None, low: float | None, high: float | None, unit: str) -> str:
    """A value, and between what it was expected, as far as they are known."""
    actual = "nothing was sent" if value is None else told(value, unit)
    return f"{actual}; what to expect is not known yet" if low is None or high is None else _beside(actual, low, high, unit)


def _beside(actual: str, low: float, high: float, unit: str) -> str:
    return f"{actual}, expected {told(low, unit)} to {told(high, unit)}"


def disturbed(one: Disturbance) -> str:
    """What led, and what followed; last what hurt people a little before."""
    first = one.members[0]
    whose = first.service or first.entity.name
    sentence = f"{whose}: {measure(first)} {deviates(first)}"
    following = sorted(one.members[1:], key=lambda member: member.deviation.onset < first.deviation.onset)
    others = list(dict.fromkeys(name for member in following if (name := member.service or member.entity.name) != whose))
    if not others:
        return sentence
    named, more = others[:MOST_NAMED], len(others) - MOST_NAMED
    return f"{sentence}; then {', '.join(named)}{f' and {more} more' if more > 0 else ''}"
