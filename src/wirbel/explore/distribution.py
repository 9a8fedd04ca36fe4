"""The latency distribution of requests that meet all conditions, focus beside reference."""

from __future__ import annotations

from dataclasses import replace

from wirbel.core.series.durations import distribution
from wirbel.explore.breakdown import split
from wirbel.explore.figures import listed
from wirbel.explore.schemas import Distribution
from wirbel.explore.traces import Filter

Window = tuple[int, int]


def latency_distribution(focus: Window, reference: Window, wanted: Filter, environment: str | None) -> Distribution:
    """Of requests of any duration: bounds of it are what the picture is for."""
    whole = replace(wanted, slower_than_s=None, faster_than_s=None)
    found = distribution([split(window, whole, "service", environment) for window in (focus, reference)])
    now, before = (listed(shares) for shares in found.shares)
    return Distribution(edges=[float(edge) for edge in found.edges], focus=now, reference=before)
