"""The question of an inquiry and its answer, as plain data."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from wirbel.core.diagnosis.attribution import Contribution, Effect
from wirbel.core.diagnosis.changes import Judged
from wirbel.core.diagnosis.contrast import Standout
from wirbel.core.diagnosis.onset import Onset
from wirbel.core.errors import InvalidQuestion

MINUTE_S = 60
LEAST_STEPS, STEPS = 5, 10  # minutes that will do; steps of a window that has fewer, as long as they are no shorter than a second
Signal = Literal["latency", "errors", "throughput"]
Doubt = Literal["same", "wanders", "small"]
"""Why a symptom may be none: see Case.doubt."""


@dataclass(frozen=True)
class Window:
    """[start, end), ns since 1970."""

    start: int
    end: int

    def __post_init__(self) -> None:
        if self.end <= self.start:
            raise InvalidQuestion("a window must end after it starts")

    @property
    def seconds(self) -> float:
        return (self.end - self.start) / 1e9


@dataclass(frozen=True)
class Question:
    service: str
    operation: str | None
    signal: Signal
    focus: Window
    reference: Window
    chosen: Literal["auto", "given"] = "given"
    environment: str | None = None

    def __post_init__(self) -> None:
        if self.focus.start < self.reference.end and self.reference.start < self.focus.end:
            raise InvalidQuestion("focus and reference overlap; move one of them")

    @property
    def step_s(self) -> int:
        """s from one value of a series to the next: a minute, or less where a window is short, so that it is more than a few values that are compared."""
        shortest = min(self.reference.seconds, self.focus.seconds)
        return MINUTE_S if shortest >= LEAST_STEPS * MINUTE_S else int(max(shortest // STEPS, 1))


@dataclass(frozen=True)
class Sampled:
    """A series as it was looked at: from ``start`` (ns) on, a value every ``step_s``; NaN where nothing was known."""

    start: int
    step_s: int
    unit: str
    values: tuple[float, ...]


@dataclass(frozen=True)
class Evidence:
    """A fact for or against a candidate, and how much it changes the log-odds; sentences.py puts it in words.

    ``facts`` are the numbers and names of its sentence, by kind of evidence; ``about`` says what it was read
    from: a service, an operation, a change or a request.
    """

    kind: str
    supports: bool
    log_odds: float
    facts: Mapping[str, Any]
    about: dict[str, str] = field(default_factory=dict)


@dataclass
class Candidate:
    """A possible cause."""

    kind: str  # entity kind of the contract
    name: str
    mechanism: str
    explains: float
    service: str | None = None
    attributes: dict[str, str] = field(default_factory=dict)
    onset: Onset | None = None
    change: str | None = None
    evidence: list[Evidence] = field(default_factory=list)
    confidence: float = 0.0

    @property
    def entity(self) -> tuple[str, str]:
        return self.kind, self.name


@dataclass(frozen=True)
class Moved:
    """When what an entity adds to the symptom's requests changed its level."""

    kind: str
    name: str
    onset: Onset
    is_symptom: bool = False

    @property
    def entity(self) -> tuple[str, str]:
        return self.kind, self.name


@dataclass(frozen=True)
class Load:
    """Requests a second, focus over reference, and the share of the change that more of them alone would explain.

    The share is None where the reference's own traffic was too even to tell.
    """

    ratio: float
    explains: float | None


@dataclass(frozen=True, kw_only=True)
class Answer:
    question: Question
    effect: Effect
    percentiles: dict[str, tuple[float | None, float | None]]  # "p95" → (reference, focus), s
    onset: Onset | None
    contributions: list[Contribution]
    standouts: list[Standout]
    changes: list[Judged]
    moved: list[Moved]
    candidates: list[Candidate]
    unexplained: float
    none: float  # confidence that it is none of the candidates that are known; with all confidences, also of those that are not shown, it adds up to one
    would_tell: list[str]  # telemetry that is missing
    doubt: Doubt | None
    examples: dict[str, tuple[str, str]]  # "slow" and "normal" → (trace id, span id), hexadecimal
    series: Sampled | None  # of the symptom
    notes: list[str]  # what limits the answer: sampling, small windows, missing parents
