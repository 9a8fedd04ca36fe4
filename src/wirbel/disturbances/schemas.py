"""What the API tells of disturbances and of what is watched; the front end's types are generated from these."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, Field

from wirbel.core.deviation import sentences
from wirbel.core.deviation.disturbance import Disturbance, windows
from wirbel.core.deviation.model import Mark
from wirbel.core.text import rfc3339
from wirbel.explore.figures import maybe, window_out
from wirbel.explore.schemas import ChangeOut, WindowOut
from wirbel.watch.models import DeviationRecord


class EntityOut(BaseModel):
    kind: str
    name: str


class PeakOut(BaseModel):
    at: str
    actual: float | None
    expected: float | None
    low: float | None
    high: float | None
    unit: str


class DeviationOut(BaseModel):
    id: str
    series: int
    entity: EntityOut
    service: str | None
    metric: str
    measure: str = Field(description="What is measured, in words.")
    deviates: str = Field(description="By how much, in words.")
    signal: Literal["latency", "errors", "throughput"] | None = Field(description="What an inquiry about it would ask.")
    direction: Literal["high", "low", "absent"]
    onset: str
    onset_low: str
    onset_high: str
    opened: str
    ended: str | None
    peak: PeakOut
    surprise_bits: float
    lead_over_threshold_s: float | None
    provisional: bool
    mark: Mark | None
    marked_by: str | None


class DisturbanceRow(BaseModel):
    id: str
    start: str
    end: str | None
    no_data_since: str | None = Field(description="Of what has no end: nothing has been sent since, so that nobody can say whether it goes on.")
    sentence: str
    services: list[str]
    bits: float = Field(description="Surprise of the most surprising of its deviations.")
    lead_over_threshold_s: float | None = Field(description="How much earlier its first deviation was noticed than any plain threshold would have fired.")
    threshold_fired: bool
    provisional: bool
    changes: list[ChangeOut] = Field(description="Before it, of what it touches; the latest first.")
    focus: WindowOut
    reference: WindowOut
    deviations: list[DeviationOut]


class DisturbanceList(BaseModel):
    """The latest first; ``found`` are all of the range."""

    start: str
    end: str
    rows: list[DisturbanceRow]
    found: int
    better: list[DisturbanceRow] = Field(description="What only became faster, or failed less: it hurts nobody, and is no disturbance.")
    until: str | None = Field(description="To which minute everything has been judged.")
    series: int = Field(description="That are watched.")
    is_full: bool = Field(description="Whether no more can be watched: what else is sent is not.")
    learning: int = Field(description="Of these, those of which it is not known yet what is normal.")


def deviation_out(record: DeviationRecord) -> DeviationOut:
    one = record.of()
    d, peak = one.deviation, one.deviation.peak
    return DeviationOut(
        id=record.identity,
        series=record.series_id,
        entity=EntityOut(kind=one.entity.kind, name=one.entity.name),
        service=one.service,
        metric=one.metric,
        measure=sentences.measure(one),
        deviates=sentences.deviates(one),
        signal=sentences.SIGNALS.get(one.metric) if one.service else None,  # type: ignore[arg-type]
        direction=d.direction,
        onset=rfc3339(d.onset),
        onset_low=rfc3339(d.onset_low),
        onset_high=rfc3339(d.onset_high),
        opened=rfc3339(d.opened),
        ended=None if d.ended is None else rfc3339(d.ended),
        peak=PeakOut(at=rfc3339(peak.at), actual=peak.actual, expected=maybe(peak.expected), low=maybe(peak.low), high=maybe(peak.high), unit=one.unit),
        surprise_bits=round(d.bits, 1),
        lead_over_threshold_s=d.lead_s,
        provisional=d.provisional,
        mark=record.mark or None,  # type: ignore[arg-type]
        marked_by=record.marked_by.get_username() if record.marked_by else None,
    )


def disturbance_row(one: Disturbance, records: dict[str, DeviationRecord], changes: list[ChangeOut], now: int, silent_since: int | None) -> DisturbanceRow:
    members = [records[member.id] for member in one.members]
    focus, reference = windows(one, now, min(record.series.began for record in members))
    opened = min(record.opened for record in members)
    fired = [record.threshold_at for record in members if record.threshold_at is not None]
    return DisturbanceRow(
        id=one.id,
        start=rfc3339(one.start),
        end=None if one.end is None else rfc3339(one.end),
        no_data_since=rfc3339(silent_since) if one.end is None and silent_since is not None else None,
        sentence=sentences.disturbed(one),
        services=one.services,
        bits=round(max(record.bits for record in members), 1),
        lead_over_threshold_s=(min(fired) - opened) / 1e9 if fired else None,
        threshold_fired=bool(fired),
        provisional=all(record.provisional for record in members),
        changes=changes,
        focus=window_out(*focus),
        reference=window_out(*reference),
        deviations=[deviation_out(record) for record in members],
    )
