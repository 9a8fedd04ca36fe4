"""Deviations that belong together, and what scripts get of them."""

from __future__ import annotations

import hashlib
import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from wirbel.core.deviation.model import Deviation
from wirbel.core.text import rfc3339

NEAR_NS = 600 * 10**9  # between the end of one and the onset of the next


@dataclass(frozen=True)
class Of:
    """A deviation, and the series that it is of."""

    metric: str
    service: str | None
    attributes: dict[str, str]
    unit: str
    deviation: Deviation

    @property
    def id(self) -> str:
        """The same whenever it is found again."""
        key = f"{self.metric} {self.service} {sorted(self.attributes.items())} {self.deviation.direction} {self.deviation.onset}"
        return hashlib.sha256(key.encode()).hexdigest()[:16]


@dataclass(frozen=True)
class Disturbance:
    """In order of onset: the first leads."""

    members: Sequence[Of]

    @property
    def start(self) -> int:
        return self.members[0].deviation.onset

    @property
    def end(self) -> int | None:
        """None while one of them goes on."""
        ends = [one.deviation.ended for one in self.members]
        return None if None in ends else max(end for end in ends if end is not None)


def group(found: Sequence[Of]) -> list[Disturbance]:
    """Deviations that overlap, or nearly do, in order of time."""
    groups: list[list[Of]] = []
    reach: float = 0.0
    for one in sorted(found, key=lambda of: of.deviation.onset):
        ended = one.deviation.ended
        if groups and one.deviation.onset <= reach + NEAR_NS:
            groups[-1].append(one)
        else:
            groups.append([one])
            reach = 0.0
        reach = max(reach, float("inf") if ended is None else ended)
    return [Disturbance(members) for members in groups]


def contract(found: Sequence[Of]) -> dict[str, Any]:
    """The JSON that scripts rely on (docs/guide.md)."""
    groups = group(found)
    return {
        "deviations": [_deviation(one) for one in sorted(found, key=lambda of: of.deviation.onset)],
        "disturbances": [
            {
                "id": hashlib.sha256(" ".join(member.id for member in one.members[:1]).encode()).hexdigest()[:16],
                "from": rfc3339(one.start),
                "to": None if one.end is None else rfc3339(one.end),
                "deviations": [member.id for member in one.members],
                "services": sorted({member.service for member in one.members if member.service is not None}),
                "first": one.members[0].id,
            }
            for one in groups
        ],
    }


def _known(value: float) -> float | None:
    """JSON has no not-a-number and no infinity."""
    return value if math.isfinite(value) else None


def _deviation(one: Of) -> dict[str, Any]:
    d = one.deviation
    return {
        "id": one.id,
        "series": {"metric": one.metric, "service": one.service, "attributes": one.attributes},
        "direction": d.direction,
        "onset": rfc3339(d.onset),
        "ended": None if d.ended is None else rfc3339(d.ended),
        "peak": {
            "at": rfc3339(d.peak.at),
            "actual": d.peak.actual,
            "expected": _known(d.peak.expected),
            "low": _known(d.peak.low),
            "high": _known(d.peak.high),
            "unit": one.unit,
        },
        "surprise_bits": round(d.bits, 1),
        "lead_over_threshold_s": d.lead_s,
    }
