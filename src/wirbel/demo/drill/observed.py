"""What a drill offers the model to choose from: candidates, mechanisms and changes, and which of them are right."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt

from wirbel.core.diagnosis import change_choice
from wirbel.core.diagnosis.case import Case
from wirbel.core.diagnosis.evidence import FEATURES
from wirbel.core.diagnosis.ranking import observe, of_case, what_is_known
from wirbel.core.diagnosis.weighing import COLUMNS, WITH_TRACES, gather
from wirbel.demo.drill.grade import is_at_fault

Floats = npt.NDArray[np.float64]
Bools = npt.NDArray[np.bool_]


@dataclass(frozen=True)
class Options:
    """Alternatives (rows) with their features, and which are right."""

    x: Floats
    right: Bools


@dataclass(frozen=True)
class Observed:
    """One drill. ``mechanisms`` and ``changes`` are offered for each candidate that is right; ``entities`` name the candidates."""

    world: str
    kind: str
    seed: int
    seen: bool
    signal: str  # that is asked about
    entities: list[tuple[str, str]]
    candidates: Options
    mechanisms: list[Options] = field(default_factory=list)
    changes: list[Options] = field(default_factory=list)
    known: str = WITH_TRACES  # or WITHOUT_TRACES


def of(case: Case, truth: dict[str, Any], world: str, seed: int, seen: bool) -> Observed:
    """All that the model would have to choose from for a case of which the truth is known."""
    found = gather(observe(case), of_case(case))
    entities = {tuple(pair) for pair in truth["entities"]}
    right = np.array([is_at_fault(*one.entity, one.attributes, entities) for one in found], np.bool_)
    rows = np.array([one.row() for one in found]).reshape(-1, len(COLUMNS))
    mechanisms, changes = [], []
    for n in np.flatnonzero(right):
        said = found[n].mechanisms()
        if said:
            hit = np.array([name in truth["mechanisms"] for name in said], np.bool_)
            mechanisms.append(Options(np.array(list(said.values())).reshape(-1, len(FEATURES)), hit))
        options = list(change_choice.touching(case, found[n].entity, found[n].service))
        if options:
            hit = np.array([judged.change.id == truth["change"] for judged, _ in options], np.bool_)
            changes.append(Options(np.array([row for _, row in options]), hit))
    entities_of = [one.entity for one in found]
    return Observed(world, truth["kind"], seed, seen, case.question.signal, entities_of, Options(rows, right), mechanisms, changes, what_is_known(case))
