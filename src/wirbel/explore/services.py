"""All services in one table: the health of those that serve requests, and what the others send."""

from __future__ import annotations

from collections.abc import Sequence

from wirbel.core.text import rfc3339
from wirbel.explore.health import overview
from wirbel.explore.schemas import Figures, ServiceFigures, ServiceHealth, ServiceRow
from wirbel.store.models import Service, Stream

Window = tuple[int, int]
SENT = {Stream.SPANS: "traces", Stream.POINTS: "metrics", Stream.LOGS: "logs"}
MOST_SERVICES = 20_000


def services_table(start: int, end: int, focus: Window, reference: Window, environment: str | None, among: Sequence[str] | None = None) -> list[ServiceRow]:
    """Every service, of all or ``among`` some, that sent anything, by name; figures of those that served requests in [start, end)."""
    serving = {row.service: row for row in overview(start, end, focus, reference, environment, among).services}
    known = Service.objects.all() if environment is None else Service.objects.filter(environment=environment)
    known = known if among is None else known.filter(name__in=among)
    sent: dict[str, set[str]] = {}
    newest: dict[str, int] = {}
    for name, streams, last in known.values_list("name", "streams", "last_seen")[:MOST_SERVICES]:
        sent.setdefault(name, set()).update(streams)
        newest[name] = max(last, newest.get(name, 0))
    return [_row(name, sent[name], newest[name], serving.get(name)) for name in sorted(sent)]


def _row(name: str, streams: set[str], newest: int, health: ServiceHealth | None) -> ServiceRow:
    return ServiceRow(
        service=name,
        sends=[word for stream, word in SENT.items() if stream in streams],
        newest=rfc3339(newest),
        health=health.health if health else None,
        since=health.since if health else None,
        focus=_brief(health.focus) if health else None,
        reference=_brief(health.reference) if health else None,
    )


def _brief(figures: Figures) -> ServiceFigures:
    return ServiceFigures(requests=figures.requests, rate=figures.rate, failed_share=figures.failed_share, p95=figures.p95)
