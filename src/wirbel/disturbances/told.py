"""Disturbances with what scripts and screens get of them: their deviations, the changes before, the windows that show them."""

from __future__ import annotations

from collections.abc import Sequence

from wirbel.core.deviation.disturbance import Disturbance
from wirbel.core.deviation.grouping import Linked
from wirbel.core.errors import NotFound
from wirbel.core.signals.changes import Change
from wirbel.core.text import rfc3339
from wirbel.core.topology.graph import EntityId
from wirbel.disturbances.schemas import DisturbanceList, DisturbanceRow, disturbance_row
from wirbel.explore.schemas import change_out
from wirbel.store import reading
from wirbel.watch import found
from wirbel.watch.models import DeviationRecord, WatchedSeries
from wirbel.watch.watching import MOST_SERIES

BEFORE_NS = 45 * 60 * 10**9  # of a disturbance, in which a change may have to do with it
MOST_CHANGES = 10
MOST_BETTER = 20
SILENT_NS = 20 * 60 * 10**9  # without any record of an environment, after which nobody can say whether something goes on


def listed(start: int, end: int, environment: str | None, services: Sequence[str] | None, most: int) -> DisturbanceList:
    """The latest of [start, end) ns."""
    everything = found.disturbances(start, end, environment, services)
    all_of_them, better = ([one for one in everything if one.is_better is which] for which in (False, True))
    watched = WatchedSeries.objects.filter(is_paused=False)
    watched = watched if environment is None else watched.filter(environment=environment)
    until = found.until()
    shown = [*all_of_them[:most], *better[:MOST_BETTER]]
    rows = _rows(shown, environment, until or end)
    return DisturbanceList(
        start=rfc3339(start),
        end=rfc3339(end),
        rows=rows[: len(all_of_them[:most])],
        found=len(all_of_them),
        better=rows[len(all_of_them[:most]) :],
        until=None if until is None else rfc3339(until),
        series=watched.count(),
        is_full=WatchedSeries.objects.count() >= MOST_SERIES,
        learning=watched.filter(state="learning").count(),
    )


def one(identity: str) -> DisturbanceRow:
    """The disturbance that a deviation belongs to. Raises NotFound."""
    record = DeviationRecord.objects.select_related("series").filter(identity=identity).first()
    if record is None:
        raise NotFound("There is no such disturbance; what was found in data that is no longer kept is forgotten.")
    end = (record.ended or record.onset) + found.REACH_NS
    # What is marked meanwhile can still be looked at, and the mark be taken back.
    around = found.disturbances(record.onset, end, record.series.environment, known=True)
    of_it = [one for one in around if identity in {member.id for member in one.members}]
    [row] = _rows(of_it, record.series.environment, found.until() or end)
    return row


def _rows(of: Sequence[Disturbance], environment: str | None, now: int) -> list[DisturbanceRow]:
    if not of:
        return []
    ids = [member.id for one in of for member in one.members]
    records = {record.identity: record for record in DeviationRecord.objects.select_related("series", "marked_by").filter(identity__in=ids)}
    changes = reading.changes(min(one.start for one in of) - BEFORE_NS, max(one.start for one in of) + BEFORE_NS, environment)
    linked = found.linked(min(one.start for one in of) - BEFORE_NS, now, environment)
    newest = {name: _silent_since(name, now) for name in {one.members[0].environment for one in of}}
    return [
        disturbance_row(one, records, [change_out(change) for change in _before(one, changes, linked)], now, newest[one.members[0].environment]) for one in of
    ]


def _silent_since(environment: str, now: int) -> int | None:
    """The time of the newest record of an environment that has sent nothing since, ns; None where it sends."""
    stored = reading.time_range(environment)
    return stored[1] if stored is not None and stored[1] < now - SILENT_NS else None


def _before(one: Disturbance, changes: Sequence[Change], linked: Linked) -> list[Change]:
    """Of what it touches, or of what its first services are linked with, up to the time at which what is clear was noticed."""
    noticed = min(member.deviation.opened for member in one.members if member.deviation.onset >= one.clear)
    touched = {name for member in one.members for name in (member.service, member.entity.name) if name}
    lead = one.members[0].entity

    def concerns(change: Change) -> bool:
        if change.environment not in (None, one.members[0].environment):
            return False
        names = {change.service, *change.entity.values()} - {None}
        return not names or bool(names & touched) or any(linked(lead, EntityId(kind, str(name))) for name in names for kind in ("service", "host"))

    near = [change for change in changes if one.start - BEFORE_NS <= (change.until or change.at) and change.at <= noticed and concerns(change)]
    return sorted(near, key=lambda change: -change.at)[:MOST_CHANGES]
