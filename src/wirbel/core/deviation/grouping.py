"""Which deviations belong together: near in time, at the same entity or linked ones."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Sequence

import numpy as np
import numpy.typing as npt
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from wirbel.core.deviation.disturbance import GUARD_NS, NEAR_NS, Disturbance, Of, clear_onset, hurting, is_better
from wirbel.core.deviation.symptoms import SYMPTOMS, harm
from wirbel.core.topology.graph import EntityId

TOGETHER_NS = 1800 * 10**9  # between onsets of what is only linked: what goes on for hours does not take in all that happens meanwhile
SURE_NS = 60 * 10**9  # what began in the middle of a minute is seen in that or the next
FOR_EVER = 2**62

Ints = npt.NDArray[np.int64]
Places = tuple[Ints, Ints]
Linked = Callable[[EntityId, EntityId], bool]


def all_linked(one: EntityId, other: EntityId) -> bool:
    """Of series of which nothing is known but their times."""
    return True


def group(found: Sequence[Of], linked: Linked = all_linked) -> list[Disturbance]:
    """Deviations near in time and of entities that are linked, directly or by others that deviate; in order of time."""
    if not found:
        return []
    ordered = sorted(found, key=in_order)
    pairs = _Pairs(ordered)
    label = _with_late(_components(pairs.near(linked), len(ordered)), pairs.still())
    groups: dict[int, list[Of]] = {}
    for one, number in zip(ordered, label.tolist(), strict=True):
        groups.setdefault(number, []).append(one)
    return sorted((one for members in groups.values() for one in _apart(members, linked)), key=lambda one: one.start)


class _Pairs:
    """Pairs of deviations in order, of one environment, of which the second begins while the first goes on or just after: places, each of shape (pairs,)."""

    def __init__(self, ordered: Sequence[Of]) -> None:
        onset, over = (np.array(times, np.int64) for times in zip(*((one.deviation.onset, one.deviation.ended or FOR_EVER) for one in ordered), strict=True))
        environment, self._entity, series = (_codes(keys) for keys in zip(*((one.environment, one.entity, _which(one)) for one in ordered), strict=True))
        self.first, self.later = np.nonzero(np.triu((onset <= over[:, None] + NEAR_NS) & (environment == environment[:, None]), 1))
        self._entities = list(dict.fromkeys(one.entity for one in ordered))
        first, later = self.first, self.later
        self._is_same = self._entity[first] == self._entity[later]
        self._is_again = self._is_same & (series[first] == series[later])
        self._goes_on = onset[later] <= over[first] + GUARD_NS
        better = np.array([is_better(one) for one in ordered])
        self._is_soon = self._goes_on & ~better[first] & (onset[later] <= onset[first] + TOGETHER_NS)
        self._is_trouble = np.array([one.metric not in SYMPTOMS or harm(one.metric, one.deviation) is not None for one in ordered])[first]

    def near(self, linked: Linked) -> Places:
        """The same again, or what begins soon after at the same entity or a linked one."""
        ask = np.flatnonzero(self._is_soon & ~self._is_same)
        count = len(self._entities)
        keys, at = np.unique(self._entity[self.first[ask]] * count + self._entity[self.later[ask]], return_inverse=True)
        known = np.array([linked(self._entities[key // count], self._entities[key % count]) for key in keys.tolist()], np.bool_)
        taken = self._is_again | (self._is_soon & self._is_same)
        taken[ask] = known[at]
        return self.first[taken], self.later[taken]

    def still(self) -> Places:
        """What begins at an entity that is disturbed still; that more is asked for hours does not take in what goes wrong meanwhile."""
        taken = self._is_same & self._goes_on & self._is_trouble
        return self.first[taken], self.later[taken]


def _codes(keys: Sequence[Hashable]) -> Ints:
    """A number each, the same for the same."""
    numbers: dict[Hashable, int] = {}
    return np.array([numbers.setdefault(key, len(numbers)) for key in keys], np.int64)


def _components(pairs: Places, count: int) -> Ints:
    """A number of what each place is connected with."""
    _, label = connected_components(coo_array((np.ones(len(pairs[0])), pairs), shape=(count, count)), directed=False)
    return np.asarray(label, np.int64)


def _with_late(label: Ints, still: Places) -> Ints:
    """What begins long after, at an entity that is disturbed still, is part of that; what then happens to others too is something new."""
    meant: dict[int, set[int]] = {}  # of each place, what goes on where it is
    for first, later in zip(*(places.tolist() for places in still), strict=True):
        meant.setdefault(later, set()).add(int(label[first]))
    into = np.arange(len(label))
    for number in dict.fromkeys(label.tolist()):
        before = set.intersection(*({int(into[one]) for one in meant.get(place, ())} for place in np.flatnonzero(label == number).tolist())) - {number}
        if before:
            into[number] = min(before)
    return into[label]


def _apart(members: Sequence[Of], linked: Linked) -> list[Disturbance]:
    """What began before what hurts people did, and hurts nobody, is another disturbance: it may only happen to go on."""
    felt = hurting(members)
    since = _leading_onset(members, felt or members)
    kept: list[Of] = []
    before: list[Of] = []
    for one in members:
        (before if felt and one.deviation.onset < since and harm(one.metric, one.deviation) is None else kept).append(one)
    return [*group(before, linked), Disturbance(_led(kept, since))]


def _leading_onset(members: Sequence[Of], clear: Sequence[Of]) -> int:
    """The onset of what led to what is clear: of that itself, or of what began in the ten minutes before and went on still."""
    at = clear_onset(clear)
    return clear_onset([one for one in members if at - NEAR_NS <= one.deviation.onset <= at and (one.deviation.ended is None or one.deviation.ended >= at)])


def _led(members: Sequence[Of], since: int) -> list[Of]:
    """The earliest from ``since`` on leads; of those that may have begun as early, as far as onsets are known, what hurts people, and what could be told the soonest."""
    able = [one for one in members if one.deviation.onset >= since]
    latest = able[0].deviation.onset_high + SURE_NS
    first = min((one for one in able if one.deviation.onset_low <= latest), key=_urgency)
    return [first, *(one for one in members if one is not first)]


def _urgency(one: Of) -> tuple[bool, bool, int, float]:
    """A service before many together: one of them made these slow, and of it a cause can be asked for."""
    hurts = harm(one.metric, one.deviation) is not None
    return not hurts, hurts and one.service is None, one.deviation.opened, -one.deviation.bits


def in_order(one: Of) -> tuple[int, int, float, str]:
    """By onset; of the same minute, what could be told the soonest and most clearly first."""
    return one.deviation.onset, one.deviation.opened, -one.deviation.bits, one.id


def _which(one: Of) -> Hashable:
    return one.metric, tuple(sorted(one.attributes.items())), one.deviation.direction
