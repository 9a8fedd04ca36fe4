"""The percentiles that are shown, by name. Adding one here is all that the computation needs."""

from __future__ import annotations

from typing import Final

SHARES: Final[dict[str, float]] = {"p50": 0.5, "p95": 0.95, "p99": 0.99}
"""Name of each percentile and the share of requests at or below it, in rising order."""

HEADLINE: Final = "p95"
"""The one that bands, verdicts and lists go by."""


def place(name: str) -> int:
    """The column of a percentile where there is one for each. Raises KeyError, naming those there are."""
    if name not in SHARES:
        raise KeyError(f"{name} is not one of {', '.join(SHARES)}")
    return list(SHARES).index(name)
