"""What was found: deviations of a stretch of time, and the disturbances that they make."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from django.db.models import Q, QuerySet

from wirbel.core.deviation import links
from wirbel.core.deviation.disturbance import Disturbance, Of
from wirbel.core.deviation.grouping import Linked, group
from wirbel.core.deviation.symptoms import SYMPTOMS
from wirbel.store import reading
from wirbel.store.streams import DAY_NS
from wirbel.watch import together
from wirbel.watch.models import DeviationRecord, Position, WatchedSeries

MOST = 3_000  # of one question: the latest
KNOWN = ("expected", "noise")  # marks of what nobody needs to be told any more
BEHIND_NS = 5 * 60 * 10**9  # that the watch may be behind a window that it has judged
LEARNED_NS = 15 * 60 * 10**9  # after its first value, until something is known of a series
REACH_NS = DAY_NS  # before a stretch, from which a disturbance may still reach into it


def records(start: int, end: int, environment: str | None = None, services: Sequence[str] | None = None, known: bool = False) -> QuerySet[DeviationRecord]:
    """Deviations that touch [start, end) ns, the latest first; of a scope, those of its services and those of none.

    What people have marked as expected or as noise is left out, unless ``known`` is asked for as well.
    """
    found = DeviationRecord.objects.select_related("series", "marked_by").filter(onset__lt=end).filter(Q(ended=None) | Q(ended__gte=start))
    found = found if known else found.exclude(mark__in=KNOWN)
    if environment is not None:
        found = found.filter(series__environment=environment)
    if services is not None:
        found = found.filter(Q(series__service__any_of=services) | Q(series__service=None))
    return found.order_by("-onset", "-id")


def disturbances(start: int, end: int, environment: str | None = None, services: Sequence[str] | None = None, known: bool = False) -> list[Disturbance]:
    """Those that touch [start, end) ns, the latest first; of a scope, those that one of its services has part in. ``known``: see :func:`records`."""
    found = [record.of() for record in records(start - REACH_NS, end, environment, None, known)[:MOST]]
    if not found:
        return []
    groups = group(found, linked(start - REACH_NS, end, environment))
    mine = [one for one in groups if one.end is None or one.end >= start]
    if services is not None:
        mine = [one for one in mine if any(member.service in services for member in one.members)]
    return mine[::-1]


def linked(start: int, end: int, environment: str | None) -> Linked:
    """Whether relations link two entities closely, by what was seen in [start, end) ns."""
    return together.linked(links.linked(lambda: reading.graph_of_hours(start, end, environment)), environment)


@dataclass(frozen=True)
class Symptoms:
    """What the watch says of requests in a window: deviations of each service it knows well enough."""

    judged: frozenset[str]
    found: Mapping[str, Sequence[Of]]


def judged(window: tuple[int, int], environment: str | None) -> frozenset[str]:
    """Services that the watch knows well enough; none where it has not come to the end of the window."""
    position = until()
    if position is None or position < min(window[1], time.time_ns()) - BEHIND_NS:
        return frozenset()
    known = WatchedSeries.objects.filter(entity_kind="service", metric="p95", is_paused=False, began__lt=window[1] - LEARNED_NS).exclude(state="learning")
    known = known if environment is None else known.filter(environment=environment)
    return frozenset(known.values_list("entity", flat=True))


def symptoms(window: tuple[int, int], environment: str | None, services: Sequence[str] | None) -> Symptoms:
    """Of services by name."""
    known, told = judged(window, environment), dict[str, list[Of]]()
    mine = records(*window, environment, services).filter(series__entity_kind="service", series__metric__in=SYMPTOMS)
    for record in mine[:MOST] if known else ():
        told.setdefault(record.series.entity, []).append(record.of())
    return Symptoms(known, told)


def until() -> int | None:
    """To which minute everything has been judged, ns; None where nothing has."""
    position = Position.objects.first()
    return position.until if position else None
