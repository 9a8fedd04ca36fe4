"""What arrives, from whom, how fast, and what was turned away: the state of intake in a few queries."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from django.db import connection
from django.db.models import Count, Max, Min, Q, Sum
from django.db.models.functions import Coalesce
from django.utils import timezone
from pydantic import BaseModel

from wirbel.core import text
from wirbel.intake.forward import Target
from wirbel.intake.models import DropRule, Forward, Forwarded, Minute, Taken, Token
from wirbel.store.models import Arrival, Block, Failure, Segment, Stream

RECENT = timedelta(minutes=10)
CHART_MINUTES = 60
LATE_S = 10.0  # a record that waits longer to be packed is late
SIGNALS = ("traces", "metrics", "logs", "changes")
MOST_SOURCES = 500
MOST_REASONS = 100


class SignalRate(BaseModel):
    """What came of one signal in the last ten minutes, and by the minute in the last hour."""

    signal: str
    requests: int
    rows: int
    rows_per_s: float
    bytes_per_s: float
    dropped: int
    refused: int
    minutes: list[int]  # records a minute, oldest first


class StreamSize(BaseModel):
    stream: str
    blocks: int
    rows: int  # records; summaries are not counted
    size: int  # of all, with summaries
    bytes_per_row: float | None  # of records
    oldest: str | None
    newest: str | None


class Backlog(BaseModel):
    segments: int
    rows: int
    size: int
    oldest_s: float | None  # age of the oldest that waits
    set_aside: int  # segments that cannot be packed


class SourceRow(BaseModel):
    environment: str
    service: str
    stream: str
    rows: int  # in the last ten to twenty minutes
    rows_per_s: float
    newest: str
    behind_s: float  # age of the newest record


class TokenRow(BaseModel):
    id: int
    name: str
    created: str
    revoked: str | None
    quota: int | None
    rows: int  # in the last ten minutes
    refused: int
    last_used: str | None


class Turned(BaseModel):
    """Records or requests that were refused in the last hour, by reason."""

    signal: str
    token: str | None
    reason: str
    count: int
    last: str


class RuleRow(BaseModel):
    id: int
    signal: str
    attribute: str
    value: str
    enabled: bool
    created: str
    created_by: str
    dropped: int
    last_dropped: str | None
    example: dict | None  # type: ignore[type-arg]


class SentOn(BaseModel):
    """What is sent on to another endpoint (WIRBEL_FORWARD), in requests since the first."""

    to: str | None  # None: nothing is sent on any more
    waiting: int
    oldest_s: float | None  # age of the oldest that waits
    sent: int
    last_sent: str | None
    refused: int  # by the endpoint, for good
    refusal: str
    refused_at: str | None
    given_up: int  # as they were too old, or too many
    failing_since: str | None
    error: str


class IntakeState(BaseModel):
    sentence: str
    detail: str
    signals: list[SignalRate]
    backlog: Backlog
    streams: list[StreamSize]
    database_size: int
    sources: list[SourceRow]
    more_sources: int
    tokens: list[TokenRow]
    turned: list[Turned]
    more_turned: int
    rules: list[RuleRow]
    sent_on: SentOn | None  # None: nothing is, and never was


def state() -> IntakeState:
    now = timezone.now()
    taken = _taken(now)
    signals, backlog, sources, turned = _signals(taken, now), _backlog(now), _sources(now), _turned(taken)
    sent_on = _sent_on(now)
    sentence, detail = _say(signals, backlog, sources, sent_on)
    return IntakeState(
        sentence=sentence,
        detail=detail,
        signals=signals,
        backlog=backlog,
        streams=_streams(),
        database_size=_database_size(),
        sources=sources[:MOST_SOURCES],
        more_sources=max(len(sources) - MOST_SOURCES, 0),
        tokens=_tokens(taken, now),
        turned=turned[:MOST_REASONS],
        more_turned=max(len(turned) - MOST_REASONS, 0),
        rules=[_rule(rule) for rule in DropRule.objects.order_by("signal", "id")],
        sent_on=sent_on,
    )


def _say(signals: list[SignalRate], backlog: Backlog, sources: list[SourceRow], sent_on: SentOn | None) -> tuple[str, str]:
    """The state of intake in one sentence, and what of it needs a hand."""
    rate = sum(signal.rows_per_s for signal in signals)
    senders = {(row.environment, row.service) for row in sources if row.rows}
    if not rate:
        sentence = "Nothing has arrived in the last ten minutes."
    else:
        sentence = f"{text.number(rate)} records a second arrive from {len(senders)} service{'s' if len(senders) != 1 else ''}."
    told = []
    if backlog.set_aside:
        told.append(f"{backlog.set_aside} segments could not be packed and are set aside; the worker's log says why.")
    if backlog.oldest_s and backlog.oldest_s > LATE_S:
        told.append(f"Packing is behind: the oldest record waits for {text.span_of_time(backlog.oldest_s)}. Is a worker running?")
    refused = sum(signal.refused for signal in signals)
    if refused:
        told.append(f"{refused} records or requests were refused in the last ten minutes; the reasons are below.")
    told += _say_sent_on(sent_on) if sent_on else []
    told += [_say_failing(failure) for failure in Failure.objects.order_by("work")]
    return sentence, " ".join(told) or "All of it is stored and can be asked for."


def _say_failing(failure: Failure) -> str:
    return f"{failure.work[0].upper()}{failure.work[1:]} has failed since {text.time(failure.since)} and is tried again: {failure.reason}."


def _say_sent_on(sent_on: SentOn) -> list[str]:
    """What of sending on needs a hand."""
    waiting = "1 request waits" if sent_on.waiting == 1 else f"{text.number(sent_on.waiting)} requests wait"
    if sent_on.to is None:
        return [f"{waiting} to be sent on, and WIRBEL_FORWARD names no endpoint any more."] if sent_on.waiting else []
    if sent_on.failing_since:
        return [f"Sending on to {sent_on.to} fails: {sent_on.error}. {waiting}; nothing is missing here."]
    return []


def _taken(now: datetime) -> list[Taken | Minute]:
    """Both what was added up and what was not yet; the chart's hour."""
    since = now.replace(second=0, microsecond=0) - timedelta(minutes=CHART_MINUTES - 1)
    return [*Minute.objects.filter(at__gte=since).select_related("token"), *Taken.objects.filter(at__gte=since).select_related("token")]


def _signals(taken: list[Taken | Minute], now: datetime) -> list[SignalRate]:
    first = now.replace(second=0, microsecond=0) - timedelta(minutes=CHART_MINUTES - 1)
    found = []
    for signal in SIGNALS:
        of_signal = [row for row in taken if row.signal == signal]
        recent = [row for row in of_signal if row.at >= now - RECENT]
        minutes = [0] * CHART_MINUTES
        for row in of_signal:
            minutes[int((row.at - first).total_seconds() // 60)] += row.rows
        seconds = RECENT.total_seconds()
        found.append(
            SignalRate(
                signal=signal,
                requests=sum(row.requests for row in recent),
                rows=sum(row.rows for row in recent),
                rows_per_s=sum(row.rows for row in recent) / seconds,
                bytes_per_s=sum(row.size for row in recent) / seconds,
                dropped=sum(row.dropped for row in recent),
                refused=sum(sum(row.refused.values()) for row in recent),
                minutes=minutes,
            )
        )
    return found


def _backlog(now: datetime) -> Backlog:
    waiting = Segment.objects.filter(error="").aggregate(count=Count("id"), rows=Sum("rows"), size=Sum("size"), oldest=Min("received"))
    oldest = waiting["oldest"]
    return Backlog(
        segments=waiting["count"],
        rows=waiting["rows"] or 0,
        size=waiting["size"] or 0,
        oldest_s=(now - oldest).total_seconds() if oldest else None,
        set_aside=Segment.objects.exclude(error="").count(),
    )


def _time(ns: int | None) -> str | None:
    return None if ns is None else datetime.fromtimestamp(ns / 1e9, UTC).isoformat()


def _streams() -> list[StreamSize]:
    records = Q(step=0)
    held = {
        row["stream"]: row
        for row in Block.objects.values("stream").annotate(
            blocks=Count("id"),
            records=Coalesce(Sum("rows", filter=records), 0),
            records_size=Coalesce(Sum("size", filter=records), 0),
            all_size=Sum("size"),
            oldest=Min("time_from"),
            newest=Max("time_to", filter=records),
        )
    }
    nothing = {"blocks": 0, "records": 0, "records_size": 0, "all_size": 0, "oldest": None, "newest": None}
    found = []
    for stream in Stream.values:
        row = held.get(stream, nothing)
        found.append(
            StreamSize(
                stream=stream,
                blocks=row["blocks"],
                rows=row["records"],
                size=row["all_size"],
                bytes_per_row=row["records_size"] / row["records"] if row["records"] else None,
                oldest=_time(row["oldest"]),
                newest=_time(row["newest"]),
            )
        )
    return found


def _database_size() -> int:
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_database_size(current_database())")
        return int(cursor.fetchone()[0])


def _sources(now: datetime) -> list[SourceRow]:
    """Each service and stream, those that are furthest behind last; silent ones stay in the list for a day."""
    recent: dict[tuple[str, str, str], list[Arrival]] = {}
    for arrival in Arrival.objects.filter(at__gte=now - timedelta(days=1)).order_by("-at")[: MOST_SOURCES * 40]:
        recent.setdefault((arrival.environment, arrival.service, arrival.stream), []).append(arrival)
    rows = []
    for (environment, service, stream), arrivals in recent.items():
        lately = [a for a in arrivals if a.at >= now - 2 * RECENT]
        count = sum(a.rows for a in lately)
        seconds = (now - min((a.at for a in lately), default=now)).total_seconds()
        newest = max(a.newest for a in arrivals)
        rows.append(
            SourceRow(
                environment=environment,
                service=service,
                stream=stream,
                rows=count,
                rows_per_s=count / seconds if seconds else 0.0,
                newest=_time(newest) or "",
                behind_s=max(0.0, now.timestamp() - newest / 1e9),
            )
        )
    return sorted(rows, key=lambda row: (row.environment, row.service, row.stream))


def _sent_on(now: datetime) -> SentOn | None:
    target, row = Target.from_environment(), Forwarded.objects.filter(pk=1).first()
    waiting = Forward.objects.aggregate(count=Count("id"), oldest=Min("made"))
    if target is None and row is None and not waiting["count"]:
        return None
    row = row or Forwarded()
    return SentOn(
        to=target.host if target else None,
        waiting=waiting["count"],
        oldest_s=(now - waiting["oldest"]).total_seconds() if waiting["oldest"] else None,
        sent=row.sent,
        last_sent=row.last_sent.isoformat() if row.last_sent else None,
        refused=row.refused,
        refusal=row.refusal,
        refused_at=row.refused_at.isoformat() if row.refused_at else None,
        given_up=row.given_up,
        failing_since=row.failing_since.isoformat() if row.failing_since else None,
        error=row.error,
    )


def _tokens(taken: list[Taken | Minute], now: datetime) -> list[TokenRow]:
    used = dict(Minute.objects.values_list("token").annotate(last=Max("at")))
    found = []
    for token in Token.objects.order_by("revoked", "name", "id")[:200]:
        own = [row for row in taken if row.token_id == token.pk]
        recent = [row for row in own if row.at >= now - RECENT]
        last = max((row.at for row in own), default=used.get(token.pk))
        found.append(
            TokenRow(
                id=token.pk,
                name=token.name,
                created=token.created.isoformat(),
                revoked=token.revoked.isoformat() if token.revoked else None,
                quota=token.quota,
                rows=sum(row.rows for row in recent),
                refused=sum(sum(row.refused.values()) for row in recent),
                last_used=last.isoformat() if last else None,
            )
        )
    return found


def _turned(taken: list[Taken | Minute]) -> list[Turned]:
    sums: dict[tuple[str, str | None, str], tuple[int, datetime]] = {}
    for row in taken:
        for reason, count in row.refused.items():
            key = (row.signal, row.token.name if row.token else None, reason)
            before, last = sums.get(key, (0, row.at))
            sums[key] = (before + count, max(last, row.at))
    found = [Turned(signal=s, token=t, reason=r, count=count, last=last.isoformat()) for (s, t, r), (count, last) in sums.items()]
    return sorted(found, key=lambda turned: -turned.count)


def _rule(rule: DropRule) -> RuleRow:
    return RuleRow(
        id=rule.pk,
        signal=rule.signal,
        attribute=rule.attribute,
        value=rule.value,
        enabled=rule.enabled,
        created=rule.created.isoformat(),
        created_by=rule.created_by,
        dropped=rule.dropped,
        last_dropped=rule.last_dropped.isoformat() if rule.last_dropped else None,
        example=rule.example,
    )
