"""An inquiry's answer as the API has it: what scripts rely on (docs/guide.md, "From a script"), and what the screen shows beside it."""

from __future__ import annotations

from ninja import Schema
from pydantic import ConfigDict, Field

from wirbel.explore.schemas import ChangeOut


class _Aliased(Schema):
    """Fields whose contract names are Python words."""

    model_config = ConfigDict(populate_by_name=True)


class TimeWindow(_Aliased):
    start: str = Field(alias="from")
    to: str


class Reference(TimeWindow):
    chosen: str


class Symptom(Schema):
    service: str
    operation: str | None
    signal: str


class EffectOut(Schema):
    reference: float
    focus: float
    delta: float
    unit: str
    low: float
    high: float


class OnsetOut(Schema):
    at: str
    low: str
    high: str


class Entity(Schema):
    kind: str
    service: str | None
    name: str
    attributes: dict[str, str]


class EvidenceOut(_Aliased):
    kind: str
    supports: bool = Field(alias="for")
    text: str
    weight: float
    link: str


class CandidateOut(Schema):
    rank: int
    entity: Entity
    mechanism: str
    confidence: float
    explains: float
    onset: str | None
    change: str | None
    evidence: list[EvidenceOut]


class RequestCounts(Schema):
    reference: int
    focus: int


class Percentile(Schema):
    name: str
    reference: float | None
    focus: float | None


class Example(Schema):
    trace: str
    span: str


class ContributionOut(Schema):
    kind: str
    service: str
    operation: str
    peer: str | None
    peer_kind: str | None
    calls_reference: float
    calls_focus: float
    reference: float
    focus: float
    delta: float
    more_calls: float
    slower_calls: float
    low: float
    high: float
    example: Example | None
    beside: Example | None


class Mark(Schema):
    service: str
    key: str
    value: str


class StandoutOut(Mark):
    share_bad: float
    share_normal: float
    requests: int
    excess_with: float
    excess_others: float
    others: str
    explains: float
    p: float
    example: Example | None = None
    beside: Example | None = None
    same_as: list[Mark]


class Named(Schema):
    kind: str
    name: str


class ControlOut(Schema):
    """What a change did not touch, before and after it, in the symptom's unit."""

    what: str
    before: float
    after: float


class JudgedOut(Schema):
    change: ChangeOut
    entity: Named | None
    lead_s: float
    before: float | None
    after: float | None
    share: float
    p: float | None
    control: ControlOut | None
    verdict: str


class MovedOut(Named):
    symptom: bool
    at: str
    low: str
    high: str


class CascadeStep(Schema):
    """One step from the reference to the focus; steps touch and end at the focus."""

    label: str
    amount: float
    start: float
    end: float
    main: bool


class InquiryView(Schema):
    id: str
    symptom: Symptom
    focus: TimeWindow
    reference: Reference
    effect: EffectOut
    onset: OnsetOut | None
    candidates: list[CandidateOut]
    unexplained: float
    took_ms: int
    statistic: str
    requests: RequestCounts
    percentiles: list[Percentile]
    contributions: list[ContributionOut]
    cascade: list[CascadeStep]
    standouts: list[StandoutOut]
    changes: list[JudgedOut]
    moved: list[MovedOut]
    examples: dict[str, Example]
    notes: list[str]
