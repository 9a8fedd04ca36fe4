"""One model weighs all evidence: which candidate, by which mechanism, by which change, and how sure that is.

Three conditional logits (core/stats/conditional_logit.py) with weights from one file, fitted on drills: candidates and "none
of these" by what was observed of each; mechanisms of a candidate by the observations that speak of them; changes
and "no change" by what each did. The confidences are calibrated on drills
that the weights were not fitted on. Nothing else is set by hand but at which value a
feature counts for most of what it can (Feature.scale).
"""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache
from importlib import resources
from typing import Any

import numpy as np
import numpy.typing as npt

from wirbel.core.diagnosis.case import Entity
from wirbel.core.diagnosis.evidence import FEATURES
from wirbel.core.diagnosis.evidence.observation import Feature, Observation
from wirbel.core.signals.entities import place_of
from wirbel.core.stats.conditional_logit import probabilities

Floats = npt.NDArray[np.float64]
KINDS = ("service", "operation", "instance", "host", "container", "database", "external", "zone", "attribute", "load")
"""Kinds of candidates; each has a weight of its own: how often it is the cause."""
DEEPEST = 2  # wholes of wholes: a tenant, its host, a service that is hurt there
PARTS = ("instance", "attribute")  # kinds of what is a part of a service
APART = ("stands out", "instance apart", "fills its host")  # say how much of the harm is in a part, or is done by it
OF_PARTS = ("one value alone", "one part alone", "filled by a tenant", "its host is fuller")  # of a whole: that it has a part that does the harm
CALLED = ("database", "external")  # kinds that are known by where they are called
CLEAR = "the symptom is clear"
CASE_FEATURES = {CLEAR: Feature("-log10 p of there being no change", +1, 3.0)}
"""Of a case as a whole: they tell candidates from none of them."""
COLUMNS = (*FEATURES, *CASE_FEATURES, *KINDS)
UNKNOWN = "unknown"
WITH_TRACES, WITHOUT_TRACES = "with traces", "without traces"


def grown(feature: Feature, value: float) -> float:
    """What a value counts for, between 0 and 1: it grows with it, ever more slowly."""
    return 1.0 - float(np.exp(-max(value, 0.0) / feature.scale))


@dataclass(frozen=True)
class Counted:
    """An observation, and what it counts for, between 0 and 1."""

    observation: Observation
    size: float


@dataclass(frozen=True)
class Seen:
    """All that was observed of one entity; of observations of one feature the strongest counts.

    What is a part of a service, one instance or one value of its requests, or the host of the only instances that are hurt, has what was observed
    of the ``whole`` too, as far as the harm vanishes without it (``part``, between 0 and 1): what fails on one instance only fails
    there, and the evidence of the failures is that instance's.
    """

    entity: Entity
    observations: Sequence[Observation]
    of_case: Mapping[str, float]  # CASE_FEATURES
    whole: Seen | None = None
    part: float = 0.0

    @property
    def attributes(self) -> dict[str, str]:
        """What tells it from others of its kind: of what is called, where; of an attribute, its value."""
        found = place_of(self.entity[1]) if self.entity[0] in CALLED else {}
        return found | {key: value for observation in self.observations for key, value in observation.attributes.items()}

    @property
    def service(self) -> str | None:
        return next((observation.service for observation in self.observations if observation.service), None)

    @cached_property
    def counted(self) -> list[Counted]:
        """Its own observations and those of its whole."""
        own = [Counted(o, grown(FEATURES[o.feature], o.value)) for o in self.observations]
        shared = self.whole.counted if self.whole else []
        return own + [Counted(one.observation, self.part * one.size) for one in shared if self._shares(one.observation)]

    def _shares(self, of_whole: Observation) -> bool:
        """A change of a service is made to its parts, and not to the host that they run on."""
        is_change = "change" in of_whole.about and self.entity[0] not in PARTS
        return of_whole.feature not in OF_PARTS and not is_change

    @cached_property
    def strongest(self) -> dict[str, Counted]:
        """By feature."""
        found: dict[str, Counted] = {}
        for one in self.counted:
            name = one.observation.feature
            if name not in found or one.size > found[name].size:
                found[name] = one
        return found

    def row(self) -> Floats:
        """Its features as :data:`COLUMNS` has them."""
        found = np.zeros(len(COLUMNS))
        for name, one in self.strongest.items():
            found[COLUMNS.index(name)] = one.size
        for name, feature in CASE_FEATURES.items():
            found[COLUMNS.index(name)] = grown(feature, self.of_case[name])
        found[COLUMNS.index(self.entity[0])] = 1.0
        return found

    def mechanisms(self) -> dict[str, Floats]:
        """Mechanisms that observations speak of, each with the features that do: shape (FEATURES,)."""
        found: dict[str, Floats] = defaultdict(lambda: np.zeros(len(FEATURES)))
        for one in self.counted:
            mechanism = one.observation.mechanism
            if mechanism and mechanism != UNKNOWN:
                place = list(FEATURES).index(one.observation.feature)
                found[mechanism][place] = max(found[mechanism][place], one.size)
        return dict(found)


def gather(observations: Sequence[Observation], of_case: Mapping[str, float]) -> list[Seen]:
    """Observations by entity; ``of_case`` are the values of CASE_FEATURES."""
    by_entity: dict[Entity, list[Observation]] = defaultdict(list)
    for observation in observations:
        if observation.entity[0] in KINDS:
            by_entity[observation.entity].append(observation)
    found = {entity: Seen(entity, mine, of_case) for entity, mine in by_entity.items()}
    for _ in range(DEEPEST):  # who fills a host shares what the host shares with the services on it
        found = {entity: _with_whole(one, found) for entity, one in found.items()}
    return list(found.values())


def _with_whole(seen: Seen, found: Mapping[Entity, Seen]) -> Seen:
    apart: dict[Entity, float] = {}  # of a host, by each service that is hurt there: it has what was observed of the one that is hurt most
    for o in seen.observations:
        of = o.whole or (("service", seen.service or "") if seen.entity[0] in PARTS else None)
        if o.feature in APART and of is not None:
            apart[of] = max(apart.get(of, 0.0), o.value)
    whole = found.get(max(apart, key=lambda of: apart[of])) if apart else None
    part = sum(apart.values())
    return replace(seen, whole=whole, part=min(part, 1.0)) if whole and part > 0 and whole.entity != seen.entity else seen


@dataclass(frozen=True)
class Calibration:
    """What makes scores say how often they are right: all of them times ``slope``, plus ``shift``; that of none of them is 0.

    Platt scaling (Platt 1999) of the conditional logit, so that the order stays and the confidences of all and of none add up to one.
    """

    slope: float
    shift: float

    def of(self, scores: Floats) -> Floats:
        return np.asarray(self.slope * scores + self.shift)


@dataclass(frozen=True)
class Weights:
    """The file's weights, by name."""

    candidates: Mapping[str, float]  # of COLUMNS
    mechanisms: Mapping[str, float]  # of FEATURES
    changes: Mapping[str, float]  # of change_choice.COLUMNS
    calibration: Mapping[str, Calibration]  # WITH_TRACES and WITHOUT_TRACES
    fitted: Mapping[str, Any]  # how

    def score(self, row: Floats) -> float:
        return float(row @ np.array([self.candidates.get(name, 0.0) for name in COLUMNS]))

    def worth(self, counted: Counted) -> float:
        """What an observation adds to the score of its candidate."""
        return self.candidates.get(counted.observation.feature, 0.0) * counted.size

    def mechanism(self, seen: Seen) -> str:
        """The one for which most speaks; unknown if nothing does."""
        found = seen.mechanisms()
        weights = np.array([self.mechanisms.get(name, 0.0) for name in FEATURES])
        return max(found, key=lambda name: float(found[name] @ weights), default=UNKNOWN)

    def chances(self, seen: Sequence[Seen], known: str) -> Floats:
        """Confidence of each candidate; what they lack to 1 is that of none of them. ``known`` is WITH_TRACES or WITHOUT_TRACES: who calls whom tells most."""
        return probabilities(self.calibration[known].of(np.array([self.score(one.row()) for one in seen])))


@lru_cache(maxsize=1)
def load() -> Weights:
    """The weights that come with the code."""
    kept = json.loads(resources.files("wirbel.core.diagnosis").joinpath("weights.json").read_text())
    return Weights(
        kept["candidates"], kept["mechanisms"], kept["changes"], {known: Calibration(**made) for known, made in kept["calibration"].items()}, kept["fitted"]
    )
