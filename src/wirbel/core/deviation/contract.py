"""What scripts get of deviations and disturbances: the JSON of docs/guide.md."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

from wirbel.core.deviation.disturbance import Of
from wirbel.core.deviation.grouping import Linked, all_linked, group, in_order
from wirbel.core.text import rfc3339


def contract(found: Sequence[Of], linked: Linked = all_linked) -> dict[str, Any]:
    """The JSON that scripts rely on (docs/guide.md)."""
    return {
        "deviations": [_deviation(one) for one in sorted(found, key=in_order)],
        "disturbances": [
            {
                "id": one.id,
                "from": rfc3339(one.start),
                "to": None if one.end is None else rfc3339(one.end),
                "deviations": [member.id for member in one.members],
                "services": one.services,
                "first": one.members[0].id,
            }
            for one in group(found, linked)
            if not one.is_better
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
        "noticed_at": rfc3339(d.opened),
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
