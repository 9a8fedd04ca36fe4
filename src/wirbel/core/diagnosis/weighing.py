"""One model weighs all evidence: which candidate, by which mechanism, by which change, and how sure that is.

Three conditional logits (core/stats/conditional_logit.py) with weights from one file, fitted on drills: candidates and "none
of these" by what was observed of each; mechanisms of a candidate by the observations that speak of them; changes
and "no change" by what each did. The confidence of the first is calibrated by isotonic regression on drills
that the weights were not fitted on (Zadrozny and Elkan 2002). Nothing else is set by hand but at which value a
feature counts for most of what it can (Feature.scale).
"""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
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
CALLED = ("database", "external")  # kinds that are known by where they are called
CLEAR = "the symptom is clear"
CASE_FEATURES = {CLEAR: Feature("-log10 p of there being no change", +1, 3.0)}
"""Of a case as a whole: they tell candidates from none of them."""
COLUMNS = (*FEATURES, *CASE_FEATURES, *KINDS)
UNKNOWN = "unknown"


def grown(feature: Feature, value: float) -> float:
    """What a value counts for, between 0 and 1: it grows with it, ever more slowly."""
    return 1.0 - float(np.exp(-max(value, 0.0) / feature.scale))


@dataclass(frozen=True)
class Seen:
    """All that was observed of one entity; of observations of one feature the strongest counts."""

    entity: Entity
    strongest: Mapping[str, Observation]
    observations: Sequence[Observation]
    clear: float

    @property
    def attributes(self) -> dict[str, str]:
        """What tells it from others of its kind: of what is called, where; of an attribute, its value."""
        found = place_of(self.entity[1]) if self.entity[0] in CALLED else {}
        return found | {key: value for observation in self.observations for key, value in observation.attributes.items()}

    def row(self) -> Floats:
        """Its features as :data:`COLUMNS` has them."""
        found = np.zeros(len(COLUMNS))
        for name, observation in self.strongest.items():
            found[COLUMNS.index(name)] = grown(FEATURES[name], observation.value)
        found[COLUMNS.index(CLEAR)] = grown(CASE_FEATURES[CLEAR], self.clear)
        found[COLUMNS.index(self.entity[0])] = 1.0
        return found

    def mechanisms(self) -> dict[str, Floats]:
        """Mechanisms that observations speak of, each with the features that do: shape (FEATURES,)."""
        found: dict[str, Floats] = defaultdict(lambda: np.zeros(len(FEATURES)))
        for observation in self.observations:
            if observation.mechanism and observation.mechanism != UNKNOWN:
                place = list(FEATURES).index(observation.feature)
                row = found[observation.mechanism]
                row[place] = max(row[place], grown(FEATURES[observation.feature], observation.value))
        return dict(found)


def gather(observations: Sequence[Observation], clear: float) -> list[Seen]:
    """Observations by entity; ``clear`` is −log10 p of there being no symptom at all."""
    by_entity: dict[Entity, list[Observation]] = defaultdict(list)
    for observation in observations:
        if observation.entity[0] in KINDS:
            by_entity[observation.entity].append(observation)
    found = []
    for entity, mine in by_entity.items():
        strongest: dict[str, Observation] = {}
        for observation in mine:
            if observation.feature not in strongest or observation.value > strongest[observation.feature].value:
                strongest[observation.feature] = observation
        found.append(Seen(entity, strongest, mine, clear))
    return found


@dataclass(frozen=True)
class Weights:
    """The file's weights, by name."""

    candidates: Mapping[str, float]  # of COLUMNS
    mechanisms: Mapping[str, float]  # of FEATURES
    changes: Mapping[str, float]  # of change_choice.COLUMNS
    calibration: Sequence[tuple[float, float]]  # probability → confidence, ascending
    fitted: Mapping[str, Any]  # how

    def score(self, row: Floats) -> float:
        return float(row @ np.array([self.candidates.get(name, 0.0) for name in COLUMNS]))

    def worth(self, feature: str, value: float) -> float:
        """What an observation adds to the score of its candidate."""
        return self.candidates.get(feature, 0.0) * grown(FEATURES[feature], value)

    def confidence(self, probability: float) -> float:
        """Calibrated: of candidates with this confidence about so many are right."""
        if not self.calibration:
            return probability
        xs, ys = zip(*self.calibration, strict=True)
        return float(np.interp(probability, xs, ys))

    def mechanism(self, seen: Seen) -> str:
        """The one for which most speaks; unknown if nothing does."""
        found = seen.mechanisms()
        weights = np.array([self.mechanisms.get(name, 0.0) for name in FEATURES])
        return max(found, key=lambda name: float(found[name] @ weights), default=UNKNOWN)

    def chances(self, seen: Sequence[Seen]) -> Floats:
        """Probability of each candidate; what they lack to 1 is that of none of them."""
        return probabilities(np.array([self.score(one.row()) for one in seen]))


@lru_cache(maxsize=1)
def load() -> Weights:
    """The weights that come with the code."""
    kept = json.loads(resources.files("wirbel.core.diagnosis").joinpath("weights.json").read_text())
    return Weights(kept["candidates"], kept["mechanisms"], kept["changes"], [(x, y) for x, y in kept["calibration"]], kept["fitted"])
