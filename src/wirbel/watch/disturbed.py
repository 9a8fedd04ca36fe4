"""Disturbances as rows that others may refer to, and what happened to them.

A disturbance has the id of the deviation of it that was noticed first: what is noticed later changes no id, and whoever finds
the same deviations, live, after a restart, over a history or in another worker, finds the same ids. Two that turn out to
be one are merged into the one that was noticed first. One that turns out to be two is split: the part with the
deviation that was noticed first goes on, the other is new. One whose deviations are all gone is withdrawn.

Rows are written in the transaction that stores the deviations, together with what happened: whoever tells others reads that,
in order, and misses nothing.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import Literal

from django.db import connection, transaction

from wirbel.core.deviation.disturbance import Disturbance
from wirbel.watch import found
from wirbel.watch.models import DeviationRecord, DisturbanceEvent, DisturbanceRecord

What = Literal["opened", "grew", "ended", "goes on", "merged", "withdrawn"]
LOCK = 7_303  # of PostgreSQL's advisory locks: one brings rows up to date at a time
KEPT_NS = 90 * 24 * 3600 * 10**9  # of what happened


def update(environments: Collection[str], since: int, end: int, at: int) -> None:
    """Brings rows up to date with the deviations, of which those from ``since`` to ``end`` (ns) may have changed; ``at`` (ns) is when that is found.

    Call inside the transaction that stored them.
    """
    with transaction.atomic():
        with connection.cursor() as cursor:
            cursor.execute("SELECT pg_advisory_xact_lock(%s)", [LOCK])
        for environment in sorted(environments):
            _update(environment, since - found.REACH_NS, end, at)


def forget(before: int) -> None:
    """What happened so long ago that everybody has been told."""
    DisturbanceEvent.objects.filter(at__lt=before - KEPT_NS).delete()


@dataclass(frozen=True)
class _Known:
    """What is stored of the disturbances of a stretch: rows by their id, and in which each deviation is."""

    rows: dict[str, DisturbanceRecord]
    of: dict[str, str]


def _update(environment: str, start: int, end: int, at: int) -> None:
    groups = found.disturbances(start, end, environment)
    known = _known(environment, start, end, groups)
    events: list[DisturbanceEvent] = []

    def happened(which: str, what: What, other: str = "") -> None:
        events.append(DisturbanceEvent(disturbance=which, at=at, what=what, other=other))

    for one in groups:
        row, new = known.rows.get(one.id), [member.id for member in one.members if known.of.get(member.id) != one.id]
        if row is None:
            happened(one.id, "opened")
        else:
            for member in new:
                happened(one.id, "grew", member)
            if row.ended is None and one.end is not None:
                happened(one.id, "ended")
            elif row.ended is not None and (one.end is None or one.end > row.ended):
                happened(one.id, "goes on" if one.end is None else "ended")
        if new:
            DeviationRecord.objects.filter(identity__in=new).update(disturbance=one.id)
    _keep(environment, groups)
    now_in = {member.id: one.id for one in groups for member in one.members}
    for gone in known.rows.keys() - {one.id for one in groups}:
        into = next((now_in[member] for member, which in known.of.items() if which == gone and member in now_in), "")
        happened(gone, "merged" if into else "withdrawn", into)
        DisturbanceRecord.objects.filter(identity=gone).update(merged_into=into, withdrawn=not into)
    DisturbanceEvent.objects.bulk_create(events)


def _known(environment: str, start: int, end: int, groups: Sequence[Disturbance]) -> _Known:
    ids = {one.id for one in groups}
    rows = DisturbanceRecord.objects.filter(environment=environment, merged_into="", withdrawn=False)
    held = {row.identity: row for row in rows.filter(began__gte=start, began__lt=end) | rows.filter(identity__in=ids)}
    members = DeviationRecord.objects.filter(disturbance__in=held).values_list("identity", "disturbance")
    return _Known(held, dict(members))


def _keep(environment: str, groups: Sequence[Disturbance]) -> None:
    rows = [
        DisturbanceRecord(identity=one.id, environment=environment, began=one.start, clear=one.clear, ended=one.end, hurts=one.hurts, is_better=one.is_better)
        for one in groups
    ]
    fields = [field.name for field in DisturbanceRecord._meta.concrete_fields if not field.primary_key]
    DisturbanceRecord.objects.bulk_create(rows, update_conflicts=True, unique_fields=["identity"], update_fields=fields)
