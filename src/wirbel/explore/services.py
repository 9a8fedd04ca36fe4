"""All services in one table: the health of those that serve requests, and what the others send."""

from __future__ import annotations

from collections.abc import Sequence

from wirbel.core.series.cells import Totals, window_seconds
from wirbel.core.series.percentiles import HEADLINE
from wirbel.core.text import rfc3339
from wirbel.explore import read_series
from wirbel.explore.figures import maybe
from wirbel.explore.fleet import Fleet, fleet
from wirbel.explore.schemas import ServiceFigures, ServiceRow
from wirbel.store.models import Service, Stream
from wirbel.store.scan import snapshot

Window = tuple[int, int]
SENT = {Stream.SPANS: "traces", Stream.POINTS: "metrics", Stream.LOGS: "logs"}
MOST_SERVICES = 20_000


@snapshot()
def services_table(start: int, end: int, focus: Window, reference: Window, environment: str | None, among: Sequence[str] | None = None) -> list[ServiceRow]:
    """Every service, of all or ``among`` some, that sent anything, by name; figures of those that served requests in [start, end)."""
    focus, reference = (read_series.aligned(window, environment) for window in (focus, reference))
    whole = fleet(start, end, focus, reference, environment, among, quantiles=True)
    known = Service.objects.all() if environment is None else Service.objects.filter(environment=environment)
    known = known if among is None else known.filter(name__any_of=among)
    sent: dict[str, set[str]] = {name: set() for name in whole.names}
    newest: dict[str, int] = {}
    for name, streams, last in known.values_list("name", "streams", "last_seen")[:MOST_SERVICES]:
        sent.setdefault(name, set()).update(streams)
        newest[name] = max(last, newest.get(name, 0))
    return [_row(name, sent[name], newest.get(name), whole, (focus, reference)) for name in sorted(sent)]


def _row(name: str, streams: set[str], newest: int | None, whole: Fleet, windows: tuple[Window, Window]) -> ServiceRow:
    place = whole.place.get(name)
    verdict = None if place is None else whole.verdicts[place]
    focus, reference = (None if place is None else _brief(totals, place, window) for totals, window in zip((whole.now, whole.before), windows, strict=True))
    return ServiceRow(
        service=name,
        sends=[word for stream, word in SENT.items() if stream in streams],
        newest=rfc3339(newest) if newest is not None else None,
        health=verdict.word if verdict else None,
        since=rfc3339(verdict.since) if verdict and verdict.since else None,
        focus=focus,
        reference=reference,
    )


def _brief(totals: Totals, place: int, window: Window) -> ServiceFigures:
    return ServiceFigures(
        requests=int(totals.sample_size[place]),
        rate=float(totals.count[place] / window_seconds(window)),
        failed_share=maybe(totals.failed_share[place]),
        p95=maybe(totals.percentile(HEADLINE)[place]),
    )
