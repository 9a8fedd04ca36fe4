"""Reading what is stored: the ribbon, services, requests, traces, metrics, changes and exports."""

from __future__ import annotations

from typing import Annotated, Any, Literal
from urllib.parse import unquote

from django.http import HttpRequest, StreamingHttpResponse
from ninja import Query, Router, Schema
from ninja.decorators import decorate_view
from pydantic import AfterValidator, Field

from wirbel.core.errors import InvalidQuestion, NotFound
from wirbel.core.signals.spans import Outcome
from wirbel.core.text import rfc3339
from wirbel.explore import export, known, schemas, windows
from wirbel.explore.arrived import arrived
from wirbel.explore.asked import Compared, Within, range_of, window_of
from wirbel.explore.breakdown import MOST_VALUES, breakdown
from wirbel.explore.distribution import latency_distribution
from wirbel.explore.earlier import Beside, earlier, shifted
from wirbel.explore.figures import listed, window_out
from wirbel.explore.health import PAGE, overview
from wirbel.explore.log_rates import log_rates
from wirbel.explore.log_records import log_records, trace_logs
from wirbel.explore.metrics import Wanted, metric_view
from wirbel.explore.schemas import change_out
from wirbel.explore.service import service_view
from wirbel.explore.services import services_table
from wirbel.explore.together import together
from wirbel.explore.trace import parse_id, span_view, trace_pair
from wirbel.explore.traces import Filter, list_traces
from wirbel.store import reading, segments
from wirbel.store.models import Service, Stream

MOST_ROWS = 500
SOME_ROWS = 100  # of each table of a service
MOST_PARTS = 5_000
MOST_TRACES = 2_000
LONGEST_NAME = 200  # of what names are searched for
Seconds = Annotated[float, Field(ge=0, le=10**9, allow_inf_nan=False)]
Name = Annotated[str, AfterValidator(unquote)]  # as it stands in the address: server.middleware.NamesAsSent
Code = Annotated[int, Field(ge=0, le=9_999)]  # of a status
router = Router()


@router.get("/ribbon", response=schemas.Ribbon)
@decorate_view(together)
def ribbon(
    request: HttpRequest,
    asked: Query[Within],
    also: Query[Beside],
    start: str | None = None,
    end: str | None = None,
    last_s: int | None = None,
    service: str | None = None,
) -> Any:
    """The p95 of a service, or of a scope's entry points, with its band, its changes, and the two windows that Wirbel proposes."""
    shown = windows.Shown(asked.environment, service, asked.services())
    low, high = range_of(start, end, asked.environment, last_s)
    found = windows.signal(low, high, shown)
    band, grid = found.band, found.series.grid

    def times(pair: tuple[int, int]) -> tuple[int, int]:
        return grid.first + pair[0] * grid.step_ns, min(grid.first + pair[1] * grid.step_ns, high)

    stored = found.stored
    focus, reference = windows.in_minutes(times(found.proposal.focus), times(found.proposal.reference), found.proposal.departed)
    return schemas.Ribbon(
        start=rfc3339(grid.first),
        end=rfc3339(high),
        step_s=grid.step,
        label=service or asked.scope or "all entry points",
        unit=found.series.unit,
        values=listed(found.series.values[0]),
        expected=listed(band.expected[0]),
        low=listed(band.low[0]),
        high=listed(band.high[0]),
        samples=[int(n) for n in found.series.sample_size[0]],
        earlier=[earlier(windows.latency_before(*shifted(low, high, before), shown), before) for before in also.beside],
        deviations=[window_out(*times(pair)) for pair in found.deviations],
        changes=[change_out(c) for c in reading.changes(low, high, shown.environment, shown.among)][-MOST_ROWS:],
        focus=window_out(*focus),
        reference=window_out(*reference),
        departed=found.proposal.departed,
        newest=rfc3339(stored[1]) if stored else None,
        oldest=rfc3339(stored[0]) if stored else None,
        is_all=stored is not None and start is None and last_s is None and low > high - windows.RANGE_NS,
        until_now=end is None and (stored is None or high != stored[1]),
        left_out=segments.room().left_out,
        environments=list(Service.objects.order_by("environment").values_list("environment", flat=True).distinct()[:50]),
    )


@router.get("/arrived", response=list[schemas.Arrived])
def get_arrived(request: HttpRequest, environment: str | None = None) -> Any:
    """What has been sent so far, and what has not."""
    return arrived(environment)


@router.get(
    "/export/{stream}",
    openapi_extra={"responses": {200: {"description": "The file", "content": {kind.partition(";")[0]: {} for kind in export.FORMATS.values()}}}},
)
def get_export(
    request: HttpRequest,
    stream: str,
    start: str,
    end: str,
    form: str = "parquet",
    environment: str | None = None,
    service: str | None = None,
    containing: str | None = None,
) -> Any:
    """The records of a window as Parquet, OTLP JSON Lines (jsonl) or CSV; logs may be searched for words."""
    wanted = export.Wanted(stream, *window_of(start, end, "window"), form, environment, service, containing)
    pieces = export.write(wanted)
    return StreamingHttpResponse(pieces, content_type=export.FORMATS[form], headers={"Content-Disposition": f'attachment; filename="{wanted.file_name}"'})


@router.get("/overview", response=schemas.Overview)
@decorate_view(together)
def get_overview(request: HttpRequest, asked: Query[Compared], first: Annotated[int, Field(ge=0, le=10**6)] = 0, most: int = PAGE) -> Any:
    """The health of all services, worst first; of those from the ``first`` on."""
    return overview(*asked.range(), *asked.windows(), asked.environment, asked.services(), first, max(1, min(most, PAGE)))


@router.get("/services", response=list[str])
def services(request: HttpRequest, environment: str | None = None, containing: str | None = None) -> Any:
    """Services by name. Agents that only send metrics of machines and databases serve nobody, and are no services here."""
    found = Service.objects.order_by("name").exclude(streams=[Stream.POINTS])
    if environment:
        found = found.filter(environment=environment)
    if containing:
        found = found.filter(name__icontains=containing[:LONGEST_NAME])
    return list(found.values_list("name", flat=True).distinct()[:MOST_ROWS])


@router.get("/services-table", response=list[schemas.ServiceRow])
@decorate_view(together)
def get_services_table(request: HttpRequest, asked: Query[Compared]) -> Any:
    """All services with their figures, also those that send no requests."""
    return services_table(*asked.range(), *asked.windows(), asked.environment, asked.services())


@router.get("/services/{name}", response=schemas.ServiceView)
@decorate_view(together)
def service(request: HttpRequest, name: Name, asked: Query[Compared], also: Query[Beside], rows: int = SOME_ROWS) -> Any:
    """One service; of each of its tables the ``rows`` busiest, and how many there are."""
    if not known.has_sent(name):
        raise NotFound(f"No service {name!r} has sent anything.")
    return service_view(name, *asked.range(), *asked.windows(), asked.environment, max(1, min(rows, MOST_PARTS)), also.beside)


class Conditions(Schema):
    """Which requests; each condition may be left out."""

    service: str | None = None
    operation: str | None = None
    version: str | None = None
    instance: str | None = None
    outcome: Outcome | None = None
    status: Code | None = None
    slower_than_s: Seconds | None = None
    faster_than_s: Seconds | None = None
    carrying: list[str] = Field(default=[], max_length=10, description="ATTRIBUTE=VALUE; a request must have them all")

    def filter(self, among: tuple[str, ...] | None) -> Filter:
        """``among``: the services of a scope."""
        pairs = [text.partition("=") for text in self.carrying]
        if wrong := next((key for key, sign, _ in pairs if not sign or not key), None):
            raise InvalidQuestion(f"write ATTRIBUTE=VALUE, not {wrong!r}")
        own = self.model_dump(exclude={"carrying"})
        return Filter(**own, attributes=tuple((key, value) for key, _, value in pairs), among=among)


@router.get("/traces", response=schemas.TraceList)
@decorate_view(together)
def traces(
    request: HttpRequest,
    start: str,
    conditions: Query[Conditions],
    asked: Query[Within],
    end: str | None = None,
    order: Literal["slowest", "fastest", "newest", "oldest"] = "slowest",
    most: int = 100,
) -> Any:
    """Requests that meet all conditions; without an end, up to now."""
    return list_traces(window_of(start, end, "range"), conditions.filter(asked.services()), order, max(1, min(most, MOST_TRACES)), asked.environment)


@router.get("/breakdown", response=schemas.Breakdown)
@decorate_view(together)
def get_breakdown(request: HttpRequest, by: str, conditions: Query[Conditions], asked: Query[Compared], most: int = 50) -> Any:
    """Requests split by the values of an attribute, focus beside reference."""
    return breakdown(*asked.windows(), conditions.filter(asked.services()), by, asked.environment, max(1, min(most, MOST_VALUES)))


@router.get("/distribution", response=schemas.Distribution)
@decorate_view(together)
def get_distribution(request: HttpRequest, conditions: Query[Conditions], asked: Query[Compared]) -> Any:
    """How long requests take, focus beside reference; of any duration."""
    return latency_distribution(*asked.windows(), conditions.filter(asked.services()), asked.environment)


@router.get("/known/values", response=list[str])
def known_values(request: HttpRequest, attribute: str, start: str, end: str, asked: Query[Within], service: str | None = None) -> Any:
    """The commonest values of an attribute of requests in a window."""
    return known.values(attribute, window_of(start, end, "window"), Filter(service=service, among=asked.services()), asked.environment)


@router.get("/known/attributes", response=list[schemas.AttributeRow])
def known_attributes(request: HttpRequest, stream: Literal["spans", "logs"] = "spans", environment: str | None = None) -> Any:
    """Attributes of a stream's records, the commonest first."""
    return known.attributes(stream, environment)


@router.get("/known/metrics", response=list[schemas.KnownMetric])
def known_metrics(request: HttpRequest, service: str | None = None, environment: str | None = None) -> Any:
    return known.metrics(service, environment)


@router.get("/known/entities", response=list[schemas.EntityRow])
def known_entities(request: HttpRequest, kind: str | None = None, service: str | None = None, environment: str | None = None) -> Any:
    """Hosts, pods, containers, processes, databases …, and what each runs on."""
    return known.entities(kind, service, environment)


@router.get("/services/{name}/metric", response=schemas.MetricView)
@decorate_view(together)
def get_metric(request: HttpRequest, name: Name, metric: str, asked: Query[Compared], also: Query[Beside], by: str | None = None) -> Any:
    """A metric of a service over time, in one line or in one for each value of a label."""
    return metric_view(Wanted(name, metric, asked.environment, by), *asked.range(), list(asked.windows()), also.beside)


@router.get("/traces/{trace}", response=schemas.TracePair)
def trace(request: HttpRequest, trace: str, span: str | None = None, against: str | None = None) -> Any:
    """One trace, from its root or from ``span``; ``against`` is TRACE or TRACE:SPAN of one to compare it with."""
    return trace_pair(trace, span, against)


@router.get("/traces/{trace}/spans/{span}", response=schemas.SpanOut)
def get_span(request: HttpRequest, trace: str, span: str) -> Any:
    """One span of a trace, with all that was sent about it."""
    return span_view(trace, span)


@router.get("/traces/{trace}/logs", response=schemas.LogRecords)
def get_trace_logs(request: HttpRequest, trace: str) -> Any:
    """What was logged with the trace's id."""
    wanted = parse_id(trace, 16)
    found = reading.trace(wanted)
    return trace_logs(wanted, found) if found.num_rows else schemas.LogRecords(count=0, records=[])


@router.get("/changes", response=schemas.ChangeList)
def changes(request: HttpRequest, start: str, end: str, asked: Query[Within], service: str | None = None, most: int = SOME_ROWS) -> Any:
    """Changes of all, or of one service; of a scope, those of its services and those of no service."""
    window = window_of(start, end, "range", windows.LONGEST_RANGE_NS)
    touching = reading.changes_touching(*window, asked.environment, asked.services())
    found = touching if service is None else touching.filter(service=service)
    rows = found.order_by("-at")[: max(1, min(most, reading.MAX_CHANGES))]
    return schemas.ChangeList(rows=[change_out(reading.as_change(row)) for row in rows], found=found.count())


@router.get("/services/{name}/log-rates", response=schemas.LogRates)
@decorate_view(together)
def get_log_rates(
    request: HttpRequest,
    name: Name,
    also: Query[Beside],
    start: str | None = None,
    end: str | None = None,
    last_s: int | None = None,
    environment: str | None = None,
) -> Any:
    """Log records a second of a service, by how serious they are."""
    return log_rates(name, *range_of(start, end, environment, last_s), environment, also.beside)


@router.get("/services/{name}/log-records", response=schemas.LogRecords)
def get_log_records(request: HttpRequest, name: Name, template: Query[list[str]], start: str, end: str, environment: str | None = None, most: int = 20) -> Any:
    """The first log records of a pattern of a service, by the templates of which an inquiry says that it is made up."""
    return log_records(name, template, *window_of(start, end, "window", windows.LONGEST_RANGE_NS), environment, most)
