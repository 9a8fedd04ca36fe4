"""What a source of evidence finds: a fact about an entity, as a number that the model weighs and facts for its sentence."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from wirbel.core.diagnosis.case import Case, Entity
from wirbel.core.diagnosis.model import Signal


@dataclass(frozen=True)
class Feature:
    """A number that a source gives: its unit, whether more of it speaks for (+1) or against (−1) an entity, and the value at which it counts for most of what it can."""

    unit: str
    sign: int
    scale: float


@dataclass(frozen=True)
class Observation:
    """``value`` of ``feature`` for an entity, never negative. ``mechanism`` is the way in which it would be the cause, None if it says nothing of that.

    ``kind`` names the sentence, None where there is none to tell; ``about`` says what it was read from.
    """

    entity: Entity
    feature: str
    value: float
    mechanism: str | None = None
    kind: str | None = None
    facts: Mapping[str, Any] = field(default_factory=dict)
    about: dict[str, str] = field(default_factory=dict)
    attributes: dict[str, str] = field(default_factory=dict)
    service: str | None = None  # of an instance or attribute
    whole: Entity | None = None  # whose evidence it shares: of a host, the service that is hurt there; of who fills a host, that host


ALL_SIGNALS: tuple[Signal, ...] = ("latency", "errors", "throughput")


@dataclass(frozen=True)
class Source:
    """One way of looking at a case; ``features`` are all that it may give, ``signals`` those of which it knows something."""

    name: str
    features: Mapping[str, Feature]
    observe: Callable[[Case], Iterator[Observation]]
    signals: tuple[Signal, ...] = ALL_SIGNALS
