"""The first steps of a team: what has arrived, and what is still missing."""

from __future__ import annotations

from django.db.models import Max, Model, QuerySet

from wirbel.core.text import rfc3339
from wirbel.explore.schemas import Arrived
from wirbel.store.models import AttributeName, ChangeRecord, Entity, Stream
from wirbel.store.scan import blocks_of

STREAMS = {"traces": Stream.SPANS, "metrics": Stream.POINTS, "logs": Stream.LOGS}


def arrived(environment: str | None) -> list[Arrived]:
    """Everything that Wirbel understands, in the order in which a team sends it; what has not come yet has no newest record."""

    def within(found: QuerySet[Model]) -> QuerySet[Model]:
        return found if environment is None else found.filter(environment=environment)

    def newest(found: QuerySet[Model], column: str) -> str | None:
        at = found.aggregate(at=Max(column))["at"]
        return None if at is None else rfc3339(at)

    streams = {what: newest(blocks_of(environment).filter(stream=stream, step=0), "time_to") for what, stream in STREAMS.items()}
    versions = within(AttributeName.objects.filter(name="service.version")).exists()
    times = {
        **streams,
        "changes": newest(within(ChangeRecord.objects.all()), "at"),
        "versions": streams["traces"] if versions else None,
        "hosts": newest(within(Entity.objects.filter(kind="host")), "last_seen"),
    }
    return [Arrived(what=what, newest=at) for what, at in times.items()]
