"""Deviations that belong together."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from wirbel.core.deviation.model import Deviation
from wirbel.core.deviation.symptoms import SYMPTOMS, harm
from wirbel.core.topology.graph import EntityId

NEAR_NS = 600 * 10**9  # between the end of one and the onset of the next
GUARD_NS = 120 * 10**9  # left free before a disturbance: it may have begun earlier than it could be seen
CLEAR = 0.1  # of the surprise of all that hurts, by which it has begun
SHORTEST_NS, LONGEST_NS = 1800 * 10**9, 5400 * 10**9  # of what it is compared with


@dataclass(frozen=True)
class Of:
    """A deviation, and the series that it is of."""

    metric: str
    service: str | None
    attributes: dict[str, str]
    unit: str
    deviation: Deviation
    entity: EntityId = field(default=EntityId("", ""))  # of whom the series tells
    environment: str = ""

    @property
    def id(self) -> str:
        """The same whenever it is found again."""
        whose = f"{self.environment} {self.entity.kind} {self.entity.name} {self.service}"
        key = f"{whose} {self.metric} {sorted(self.attributes.items())} {self.deviation.direction} {self.deviation.onset}"
        return hashlib.sha256(key.encode()).hexdigest()[:16]


@dataclass(frozen=True)
class Disturbance:
    """The first leads, the others follow in order of onset."""

    members: Sequence[Of]

    @property
    def id(self) -> str:
        """That of what was noticed first: what is noticed later changes it no more. Any member's leads to it as well."""
        return min(self.members, key=lambda one: (one.deviation.opened, one.deviation.onset, one.id)).id

    @property
    def start(self) -> int:
        """The earliest onset; of what was noticed after what leads, from ten minutes before that is clear: a noisy series may take its noise for its onset."""
        noticed, since = self.members[0].deviation.opened, self.clear - NEAR_NS
        return min(one.deviation.onset for one in self.members if one.deviation.opened <= noticed or one.deviation.onset >= since)

    @property
    def clear(self) -> int:
        """When what hurts people began, or what there is where nothing does: see :func:`clear_onset`."""
        return clear_onset(hurting(self.members) or self.members)

    @property
    def end(self) -> int | None:
        """None while one of them goes on."""
        ends = [one.deviation.ended for one in self.members]
        return None if None in ends else max(end for end in ends if end is not None)

    @property
    def hurts(self) -> bool:
        """Whether requests of people are slow, fail or do not come."""
        return bool(hurting(self.members))

    @property
    def is_better(self) -> bool:
        """Whether all of it is for the better: it disturbs nobody, and is shown apart."""
        return all(is_better(one) for one in self.members)

    @property
    def services(self) -> list[str]:
        return sorted({member.service for member in self.members if member.service is not None})


def is_better(one: Of) -> bool:
    """That requests are answered faster, or fewer fail, has no consequences."""
    return one.deviation.direction == "low" and one.metric in SYMPTOMS and one.metric != "requests"


def hurting(members: Sequence[Of]) -> list[Of]:
    """Those of which people feel something."""
    return [one for one in members if harm(one.metric, one.deviation)]


def clear_onset(members: Sequence[Of]) -> int:
    """The onset, ns, by which a tenth had begun of the surprise that began up to ten minutes after the first of them was noticed.

    What surprises little and happens to begin a little before does not date the others; what surprises more much later does not either.
    Silence is not measured in bits: it counts as much as what surprises the most.
    """
    # What a noisy series takes for its onset may be its noise before: it was noticed with the others, and dates them no earlier.
    noticed = min(one.deviation.opened for one in members)
    first = sorted((one for one in members if one.deviation.onset <= noticed + NEAR_NS), key=lambda one: one.deviation.onset)
    bits = np.array([one.deviation.bits for one in first])
    begun = np.cumsum(np.where([one.deviation.direction == "absent" for one in first], max(bits.max(), 1.0), bits))
    return first[int(np.searchsorted(begun, CLEAR * begun[-1]))].deviation.onset


def windows(one: Disturbance, now: int, began: int = 0) -> tuple[tuple[int, int], tuple[int, int]]:
    """Focus and reference that show it, ns: from when it was clear up to ``now``, and as long a time before all of it, within reason and not from before its series ``began``."""
    focus = one.clear, max(one.end or now, one.clear + GUARD_NS)
    before = min(member.deviation.onset_low for member in one.members) - GUARD_NS
    wanted = before - min(max(focus[1] - focus[0], SHORTEST_NS), LONGEST_NS)
    return focus, (min(max(wanted, began), before - GUARD_NS), before)
