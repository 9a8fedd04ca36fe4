"""An inquiry's answer as the API has it: what scripts rely on (docs/guide.md, "From a script"), and what the screen shows beside it.

The schemas are read from the dataclasses of core/diagnosis by the names of their fields; only what a
script sees under another name, and times, are made here.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Any
from urllib.parse import urlencode

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, computed_field

from wirbel.core.diagnosis.cascade import cascade
from wirbel.core.diagnosis.changes import Judged, Verdict
from wirbel.core.diagnosis.model import Answer, Candidate, Doubt, Evidence, Signal
from wirbel.core.diagnosis.parts import Part
from wirbel.core.diagnosis.sentences import asked, doubt_told, next_step, part_name, sentence, title, verdict_told
from wirbel.core.signals.changes import Change, lines
from wirbel.core.text import rfc3339
from wirbel.explore.schemas import MOST_LINES, ChangeOut, ConfigurationLine, change_out

Moment = Annotated[str, BeforeValidator(lambda at: rfc3339(at) if isinstance(at, int) else at)]
"""ns since 1970 as RFC 3339."""


class _Of(BaseModel):
    """Read from an object with the same fields, or from what was kept of it; fields may have names that are Python words."""

    model_config = ConfigDict(from_attributes=True, populate_by_name=True)


class TimeWindow(_Of):
    start: str = Field(alias="from")
    to: str


class Reference(TimeWindow):
    chosen: str


class Symptom(_Of):
    service: str
    operation: str | None
    signal: Signal


class EffectOut(_Of):
    reference: float
    focus: float
    delta: float
    unit: str
    low: float
    high: float


class OnsetOut(_Of):
    at: Moment
    low: Moment
    high: Moment


class Entity(_Of):
    kind: str
    service: str | None
    name: str
    attributes: dict[str, str]


class EvidenceOut(_Of):
    kind: str
    supports: bool = Field(alias="for")
    text: str
    weight: float
    link: str


class SeriesOut(_Of):
    """A series as the diagnosis looked at it; null where nothing was known."""

    start: Moment
    step_s: int
    unit: str
    values: Annotated[list[float | None], BeforeValidator(lambda values: [None if value is None or value != value else value for value in values])]


class LogPattern(_Of):
    service: str
    templates: list[str]  # of what it is made up


class EvidenceView(EvidenceOut):
    """With what it was read from, to be opened beside it."""

    metric: str | None = None
    series: SeriesOut | None = None
    lines: list[ConfigurationLine] = []
    pattern: LogPattern | None = None


class CandidateOut(_Of):
    rank: int
    entity: Entity
    mechanism: str
    confidence: float
    explains: float
    onset: str | None
    change: str | None
    evidence: list[EvidenceOut]


class CandidateView(CandidateOut):
    """With what a person reads; answers that were kept before there was any have none."""

    evidence: list[EvidenceView]  # type: ignore[assignment]  # each is one of the contract's, and more
    title: str = ""
    next: str = ""  # what would prove it


class RequestCounts(_Of):
    reference: int
    focus: int


class Percentile(_Of):
    name: str
    reference: float | None
    focus: float | None


class Example(_Of):
    trace: str
    span: str


def _as_example(ids: Any) -> Any:
    return {"trace": ids[0], "span": ids[1]} if isinstance(ids, tuple) else ids


ExampleIds = Annotated[Example | None, BeforeValidator(_as_example)]


class PartOut(_Of):
    kind: str
    service: str
    operation: str
    peer: str | None
    peer_kind: str | None


class ContributionOut(_Of):
    part: PartOut
    calls_reference: float
    calls_focus: float
    reference: float
    focus: float
    delta: float
    more_calls: float
    slower_calls: float
    low: float
    high: float
    example: ExampleIds
    beside: ExampleIds
    is_time: bool = True  # rather than a share of failures, or requests

    @computed_field  # type: ignore[prop-decorator]
    @property
    def name(self) -> str:
        """The part, without its operation."""
        return part_name(Part(**self.part.model_dump()), self.is_time)


class Mark(_Of):
    service: str
    key: str
    value: str


def _as_marks(given: Any) -> Any:
    return [dict(zip(("service", "key", "value"), one, strict=True)) if isinstance(one, tuple) else one for one in given]


class PartnerOut(Mark):
    """A value without which another does no harm."""

    excess_with: float
    excess_without: float


class StandoutOut(Mark):
    share_bad: float
    share_normal: float
    requests: int
    excess_with: float
    excess_others: float
    others: str
    explains: float
    p: float
    example: ExampleIds = None
    beside: ExampleIds = None
    same_as: Annotated[list[Mark], BeforeValidator(_as_marks)]
    only_with: PartnerOut | None = None


class Named(_Of):
    kind: str
    name: str


class ControlOut(_Of):
    """What a change did not touch, before and after it, in the symptom's unit."""

    what: str
    before: float
    after: float


class JudgedOut(_Of):
    change: Annotated[ChangeOut, BeforeValidator(lambda change: change_out(change) if isinstance(change, Change) else change)]
    entity: Annotated[Named | None, BeforeValidator(lambda pair: {"kind": pair[0], "name": pair[1]} if isinstance(pair, tuple) else pair)]
    lead_s: float
    is_near: bool = False  # the onset
    before: float | None
    after: float | None
    share: float
    p: float | None
    control: ControlOut | None
    verdict: Verdict

    @computed_field  # type: ignore[prop-decorator]
    @property
    def told(self) -> str:
        """The verdict in words."""
        return verdict_told(self.verdict)


class MovedOut(Named):
    is_symptom: bool
    onset: OnsetOut


class CascadeStep(_Of):
    """One step from the reference to the focus; steps touch and end at the focus."""

    label: str
    amount: float
    start: float
    end: float
    main: bool
    more_calls: float | None = None
    slower_calls: float | None = None


class Contract(_Of):
    """What scripts rely on."""

    symptom: Symptom
    focus: TimeWindow
    reference: Reference
    effect: EffectOut
    onset: OnsetOut | None
    candidates: list[CandidateOut]
    unexplained: float
    took_ms: int


class AnswerView(Contract):
    candidates: list[CandidateView]  # type: ignore[assignment]  # each is one of the contract's, and more
    statistic: str
    requests: RequestCounts
    percentiles: list[Percentile]
    contributions: list[ContributionOut]
    cascade: list[CascadeStep]
    standouts: list[StandoutOut]
    changes: list[JudgedOut]
    moved: list[MovedOut]
    examples: dict[str, Example]
    series: SeriesOut | None = None  # of the symptom
    doubt: Doubt | None = None
    none: float | None = None  # kept answers of before have none
    would_tell: list[str] = []
    notes: list[str]

    @computed_field  # type: ignore[prop-decorator]
    @property
    def title(self) -> str:
        """What was asked, as the answer finds it."""
        of = " ".join(filter(None, (self.symptom.service, self.symptom.operation)))
        return asked(of, self.symptom.signal, self.effect.delta, self.doubt)

    @computed_field  # type: ignore[prop-decorator]
    @property
    def nothing(self) -> str | None:
        """Why there may be nothing to explain."""
        return doubt_told(self.doubt) if self.doubt else None


class InquiryView(AnswerView):
    id: str


def contract(answer: Answer, took_ms: int) -> Contract:
    """The part of an answer that scripts rely on."""
    return Contract(**_contract(answer, took_ms))


def answer_view(answer: Answer, took_ms: int) -> AnswerView:
    """All of an answer that the screen shows."""
    effect, is_time = answer.effect, answer.question.signal == "latency"
    return AnswerView(
        **_contract(answer, took_ms),
        statistic=effect.statistic,
        requests=RequestCounts(reference=effect.requests_reference, focus=effect.requests_focus),
        percentiles=[Percentile(name=name, reference=before, focus=after) for name, (before, after) in answer.percentiles.items()],
        contributions=[ContributionOut.model_validate(one).model_copy(update={"is_time": is_time}) for one in answer.contributions],
        cascade=[CascadeStep.model_validate(step) for step in cascade(effect, answer.contributions, is_time)],
        standouts=[StandoutOut.model_validate(one) for one in answer.standouts],
        changes=[JudgedOut.model_validate(one) for one in answer.changes],
        moved=[MovedOut.model_validate(one) for one in answer.moved],
        examples={name: Example(**_as_example(ids)) for name, ids in answer.examples.items()},
        series=None if answer.series is None else SeriesOut.model_validate(answer.series),
        doubt=answer.doubt,
        none=answer.none,
        would_tell=answer.would_tell,
        notes=answer.notes,
    )


def _contract(answer: Answer, took_ms: int) -> dict[str, Any]:
    question = answer.question
    return {
        "symptom": Symptom.model_validate(question),
        "focus": TimeWindow(**{"from": rfc3339(question.focus.start)}, to=rfc3339(question.focus.end)),
        "reference": Reference(**{"from": rfc3339(question.reference.start)}, to=rfc3339(question.reference.end), chosen=question.chosen),
        "effect": EffectOut.model_validate(answer.effect),
        "onset": None if answer.onset is None else OnsetOut.model_validate(answer.onset),
        "candidates": [_candidate(rank, candidate, answer.changes) for rank, candidate in enumerate(answer.candidates, 1)],
        "unexplained": round(float(answer.unexplained), 4),
        "took_ms": took_ms,
    }


def _candidate(rank: int, candidate: Candidate, changes: Sequence[Judged]) -> CandidateView:
    return CandidateView(
        rank=rank,
        title=title(candidate, changes),
        entity=Entity.model_validate(candidate),
        mechanism=candidate.mechanism,
        confidence=round(float(candidate.confidence), 3),
        explains=round(float(candidate.explains), 4),
        onset=rfc3339(candidate.onset.at) if candidate.onset else None,
        change=candidate.change,
        evidence=[_evidence(one) for one in candidate.evidence],
        next=next_step(candidate),
    )


def _evidence(evidence: Evidence) -> EvidenceView:
    series, judged, templates = (evidence.facts.get(name) for name in ("series", "judged", "members"))
    return EvidenceView(
        kind=evidence.kind,
        **{"for": evidence.supports},
        text=sentence(evidence),
        weight=round(evidence.log_odds, 2),
        link=_link(evidence.about),
        metric=evidence.facts.get("metric"),
        series=None if series is None else SeriesOut.model_validate(series),
        lines=[] if judged is None else [ConfigurationLine.model_validate(line) for line in lines(judged.change)[:MOST_LINES]],
        pattern=None if templates is None else LogPattern(service=evidence.facts["service"], templates=list(templates)),
    )


def _link(about: dict[str, str]) -> str:
    """The view that shows what a piece of evidence was read from; empty if there is none."""
    if "trace" in about:
        return f"/traces/{about['trace']}?" + urlencode([(name, about[name]) for name in ("span", "against") if name in about])
    if "change" in about:
        return "/changes?" + urlencode({"change": about["change"]})
    if not about.get("service"):
        return ""
    return f"/services/{about['service']}" + (f"?{urlencode({'metric': about['metric']})}" if "metric" in about else "")
