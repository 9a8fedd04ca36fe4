"""What the API answers with; the front end's types are generated from these."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from wirbel.core.series.logs import Level
from wirbel.core.signals.changes import Change, lines
from wirbel.core.signals.spans import Outcome
from wirbel.core.text import rfc3339

MOST_LINES = 20  # of a change's configuration


class WindowOut(BaseModel):
    start: str
    end: str


class ConfigurationLine(BaseModel):
    """A line of configuration that a change touched; null where there was none, or is none any more."""

    model_config = ConfigDict(from_attributes=True)

    key: str
    before: str | None
    after: str | None


class ChangeOut(BaseModel):
    id: str
    kind: str
    at: str
    until: str | None
    service: str | None
    version: str | None
    environment: str | None
    entity: dict[str, str] = {}
    actor: str | None
    summary: str
    before: Any = None
    after: Any = None
    lines: list[ConfigurationLine] = []  # the first that differ
    more_lines: int = 0
    link: str | None


def change_out(given: Change) -> ChangeOut:
    differing = lines(given)
    return ChangeOut(
        id=given.id,
        kind=given.kind,
        at=rfc3339(given.at),
        until=rfc3339(given.until) if given.until else None,
        service=given.service,
        version=given.version,
        environment=given.environment,
        entity=dict(given.entity),
        actor=given.actor,
        summary=given.summary,
        before=given.before,
        after=given.after,
        lines=[ConfigurationLine.model_validate(line) for line in differing[:MOST_LINES]],
        more_lines=max(len(differing) - MOST_LINES, 0),
        link=given.link,
    )


Before = Literal["day", "week"]


class Earlier(BaseModel):
    """What a line of a chart was a day or a week before; ``start`` is where it is drawn. Null where nothing is kept."""

    before: Before
    name: str
    start: str
    step_s: int
    values: list[float | None]


class Ribbon(BaseModel):
    """The scope's p95 by minute; null where there was no request or no band yet."""

    start: str
    end: str
    step_s: int
    label: str
    unit: str
    values: list[float | None]
    expected: list[float | None]
    low: list[float | None]
    high: list[float | None]
    samples: list[int]
    earlier: list[Earlier]
    deviations: list[WindowOut]
    changes: list[ChangeOut]
    focus: WindowOut
    reference: WindowOut
    departed: bool
    newest: str | None
    oldest: str | None
    is_all: bool  # there is no more than this range
    until_now: bool  # it ends now, not with the newest record because none is recent
    left_out: int = Field(description="Records of any time that wait to be packed and are read by no question yet: too much waits.")
    environments: list[str]


class Arrived(BaseModel):
    """Something that Wirbel understands, and the newest record of it; null if none has come yet."""

    what: str  # traces, metrics, logs, changes, versions, hosts
    newest: str | None


class Interval(BaseModel):
    """95 % bounds; null on a side that the sample is too small to bound."""

    low: float | None
    high: float | None


class Figures(BaseModel):
    """Requests of one window. Shares come with their 95 % Wilson interval, percentiles with that of order statistics."""

    requests: int
    rate: float
    failed_share: float | None
    failed_low: float
    failed_high: float
    mean: float | None
    p50: float | None
    p95: float | None
    p99: float | None
    p50_interval: Interval
    p95_interval: Interval
    p99_interval: Interval


class Spark(BaseModel):
    values: list[float | None]
    low: list[float | None]
    high: list[float | None]


class ServiceHealth(BaseModel):
    service: str
    health: str
    signal: str | None  # to ask for the cause of; null where nothing stands out
    since: str | None
    priority: float
    bits: float
    traffic_share: float
    focus: Figures
    reference: Figures
    p95_difference: float | None
    p95_ratio: float | None
    failed_difference: float | None
    rate_spark: Spark
    latency_spark: Spark


class ServiceFigures(BaseModel):
    requests: int
    rate: float
    failed_share: float | None
    p95: float | None


class ServiceRow(BaseModel):
    """A service in the table of all; without health and figures where it serves no requests."""

    service: str
    sends: list[str]  # traces, metrics, logs
    newest: str | None  # null where it has just come
    health: str | None
    since: str | None
    focus: ServiceFigures | None
    reference: ServiceFigures | None


class Since(BaseModel):
    """A disturbance that goes on."""

    id: str
    since: str
    sentence: str


class Overview(BaseModel):
    services: list[ServiceHealth] = Field(description="Those asked for, worst first.")
    found: int = Field(description="How many there are.")
    sentence: str
    detail: str
    minutes_a_point: int
    disturbances: list[Since] = Field(description="That go on in the focus, the latest first.")


class PercentileLine(BaseModel):
    name: str
    is_headline: bool  # the one that the band is of
    values: list[float | None]


class OutcomeSeries(BaseModel):
    name: Outcome
    values: list[float | None]


class LogLevelSeries(BaseModel):
    name: Level
    values: list[float | None]


class LogRates(BaseModel):
    """Records a second by how serious they are, the most serious first; null before the service's first record."""

    start: str
    step_s: int
    levels: list[LogLevelSeries]
    earlier: list[Earlier]


class LogRecord(BaseModel):
    at: str
    service: str | None
    severity: str
    body: str
    instance: str | None
    trace: str | None
    span: str | None


class LogRecords(BaseModel):
    """The first records of a pattern in a window, of ``count``."""

    count: int
    records: list[LogRecord]


class ChangeList(BaseModel):
    """The newest first; ``found`` are all that touch the range."""

    rows: list[ChangeOut]
    found: int


class EarlierCharts(BaseModel):
    rate: Earlier
    latency: Earlier
    failed_share: Earlier


class ServiceCharts(BaseModel):
    start: str
    step_s: int
    outcomes: list[OutcomeSeries]
    latency: list[PercentileLine]
    expected: list[float | None]
    low: list[float | None]
    high: list[float | None]
    failed_share: list[float | None]
    samples: list[int]
    earlier: list[EarlierCharts]


class OperationRow(BaseModel):
    operation: str
    share_of_added_latency: float | None
    focus: Figures
    reference: Figures


class CallRow(BaseModel):
    name: str
    kind: str
    calls_focus: float | None
    calls_reference: float | None
    focus: Figures
    reference: Figures


class InstanceRow(BaseModel):
    instance: str
    version: str | None
    host: str | None
    focus: Figures
    reference: Figures


class PartRow(BaseModel):
    """A version or a host of a service, beside the others."""

    name: str
    focus: Figures
    reference: Figures


class StatusRow(BaseModel):
    """How requests ended: the exact status code where there is one; a second in each window."""

    outcome: Outcome
    code: int | None
    focus_rate: float
    reference_rate: float


class InAll(BaseModel):
    """How many rows there are, of which the busiest are sent."""

    operations: int
    calls: int
    called_by: int
    instances: int
    versions: int
    hosts: int


class ServiceView(BaseModel):
    service: str
    health: str
    signal: str | None  # to ask for the cause of; null where nothing stands out
    since: str | None
    versions: list[str]
    charts: ServiceCharts
    operations: list[OperationRow]
    calls: list[CallRow]
    called_by: list[CallRow]
    instances: list[InstanceRow]
    by_version: list[PartRow]
    by_host: list[PartRow]
    statuses: list[StatusRow]
    in_all: InAll
    changes: list[ChangeOut]
    focus: Figures
    reference: Figures


class Distribution(BaseModel):
    """Shares of requests by duration: between each edge (s) and the next."""

    edges: list[float]
    focus: list[float | None]
    reference: list[float | None]


class TraceRow(BaseModel):
    trace: str
    span: str
    at: str
    seconds: float
    service: str
    operation: str
    outcome: Outcome
    status_code: int | None
    version: str | None
    instance: str | None
    spans: int
    services: int


class TraceList(BaseModel):
    rows: list[TraceRow]
    found: int
    stand_for: float  # requests, where what was found is a sample
    detail: str | None  # what of the window is not kept in full
    shown: int
    hidden_by: list[str]


class EventOut(BaseModel):
    at_ms: float
    name: str
    attributes: dict[str, Any]


class AlikeOut(BaseModel):
    """What many spans of a trace have in common."""

    service: str
    operation: str
    peer: str | None
    kind: str
    outcome: Outcome
    channel: int


class SpanColumns(BaseModel):
    """The spans of a trace in reading order, parents before children; the n-th of each list is of the n-th span.

    ``of`` counts in ``alike``, ``parent`` (−1: none here), ``on_path``, ``missing_parent`` and ``moved`` in the spans themselves.
    ``start_ms`` is as drawn: where clocks disagree, ``moved_ms`` after what was sent for those ``moved``.
    """

    span: list[str]
    parent: list[int]
    depth: list[int]
    alike: list[AlikeOut]
    of: list[int]
    start_ms: list[float]
    duration_ms: list[float]
    self_ms: list[float]
    events: list[int]
    on_path: list[int]
    missing_parent: list[int]
    moved: list[int]
    moved_ms: list[float]


class SpanOut(BaseModel):
    """All that was sent about one span; events at so many ms after it began."""

    span: str
    service: str
    name: str
    kind: str
    outcome: Outcome
    status_message: str | None
    peer: str | None
    attributes: dict[str, Any]
    resource: dict[str, Any]
    events: list[EventOut]


class Steps(BaseModel):
    """The critical path in order of time: from ``at_ms[n]`` to ``at_ms[n + 1]`` it passes in ``span[n]``, counted in the trace's spans."""

    at_ms: list[float]
    span: list[int]


class Run(BaseModel):
    """Like calls one after another (or side by side)."""

    channel: int
    count: int
    from_ms: float
    to_ms: float
    total_ms: float
    label: str
    sequential: bool


class PathPart(BaseModel):
    label: str
    kind: str
    calls: int
    here_ms: float
    normal_calls: int | None = None
    normal_ms: float | None = None
    more_ms: float | None = None


class TraceView(BaseModel):
    trace: str
    root: int
    at: str
    service: str
    operation: str
    seconds: float
    outcome: Outcome
    channels: list[str]
    spans: SpanColumns
    steps: Steps
    runs: list[Run]
    more_runs: int
    parts: list[PathPart]
    left_out: int
    beside: int
    levels: int
    notes: list[str]


class TracePair(BaseModel):
    """A trace and, for comparison, a normal one of the same operation."""

    this: TraceView
    normal: TraceView | None
    ratio: float | None


class BreakdownRow(BaseModel):
    """Requests with one value of an attribute (null: without it). What they add to the change is against the reference's own mean and share."""

    value: str | None
    focus: Figures
    reference: Figures
    more_seconds: float | None
    more_failures: float | None


class Breakdown(BaseModel):
    by: str
    rows: list[BreakdownRow]
    values: int
    detail: str | None


class AttributeRow(BaseModel):
    """An attribute and the share of its stream's records that carry it."""

    level: str
    name: str
    share: float


class KnownMetric(BaseModel):
    service: str
    environment: str
    name: str
    unit: str | None
    kind: str
    newest: str


class EntityRow(BaseModel):
    kind: str
    name: str
    environment: str
    runs_on_kind: str | None
    runs_on: str | None
    services: list[str]
    newest: str


class MetricLine(BaseModel):
    """Values by point, null where nothing was sent; their bounds if they are not exact; means of the two windows."""

    label: str
    values: list[float | None]
    low: list[float | None] | None
    high: list[float | None] | None
    focus: float | None
    reference: float | None


class MetricExample(BaseModel):
    """One measurement that the sender linked to the request it was made in."""

    value: float
    at: str
    trace: str
    span: str


class MetricView(BaseModel):
    metric: str
    unit: str | None
    kind: str
    meaning: str
    note: str | None
    start: str
    step_s: int
    series: int
    labels: list[str]
    lines: list[MetricLine]
    earlier: list[Earlier]
    examples: list[MetricExample]
