"""Fits the diagnosis' weights on drills: ``./wirbel drill --fit``.

Worlds are held out in turn to calibrate the confidence; what was observed of a drill is kept by the code that observed it.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import asdict
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
from scipy.optimize import minimize

import wirbel
from wirbel.core.diagnosis import change_choice
from wirbel.core.diagnosis.evidence import FEATURES
from wirbel.core.diagnosis.weighing import CASE_FEATURES, COLUMNS, WITH_TRACES, WITHOUT_TRACES, Calibration
from wirbel.core.stats.conditional_logit import Choices, fit, probabilities
from wirbel.demo.drill import digest
from wirbel.demo.drill.batch import OWN, Drill
from wirbel.demo.drill.grade import NOTHING
from wirbel.demo.drill.observed import Observed, Options

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
L2 = 0.2
FOLDS = 5
LEAST_LIKELY = 1e-3  # of what was right: a single drill at which nothing points is not to decide
FILE = Path(wirbel.__file__).parent / "core" / "diagnosis" / "weights.json"
ANY = "any"  # column of changes: that there is one at all


def drills_of(world: str, kinds: Sequence[str], seeds: Sequence[int]) -> list[Drill]:
    """What the weights are fitted on: each kind in each world; of every ninth drill there are no traces."""
    pairs = [(seed, kind) for seed in seeds for kind in kinds]
    return [Drill(world, kind, seed, "no-traces" if (number + seed) % 9 == 4 else OWN) for number, (seed, kind) in enumerate(pairs)]


def signs(names: Sequence[str]) -> Ints:
    """Which weights may not be negative, or not positive."""
    known = {name: feature.sign for name, feature in {**FEATURES, **CASE_FEATURES}.items()}
    return np.array([known.get(name, 0) for name in names])


def together(options: Sequence[Options], none: bool = True) -> Choices:
    """The options of many cases as one table."""
    x = np.concatenate([one.x for one in options])
    case = np.repeat(np.arange(len(options)), [len(one.x) for one in options])
    return Choices(x, case, np.concatenate([one.right for one in options]), len(options), none)


def of_candidates(drills: Sequence[Observed]) -> Floats:
    """Weights of COLUMNS. Drills at whose fault nothing points teach nothing, and those without traces what is not so where there are some."""
    used = [drill.candidates for drill in drills if drill.known == WITH_TRACES and (drill.candidates.right.any() or drill.kind == NOTHING)]
    return fit(together(used), signs(COLUMNS), L2)


def scores_held_out(drills: Sequence[Observed]) -> list[Floats]:
    """Scores of each drill's candidates by weights fitted on drills of other worlds and seeds."""
    groups = sorted({(drill.world, drill.seed) for drill in drills})
    fold = {group: n % FOLDS for n, group in enumerate(groups)}
    found: list[Floats] = [np.zeros(0)] * len(drills)
    for k in range(FOLDS):
        weights = of_candidates([drill for drill in drills if fold[drill.world, drill.seed] != k])
        for n, drill in enumerate(drills):
            if fold[drill.world, drill.seed] == k:
                found[n] = drill.candidates.x @ weights
    return found


def held_out(drills: Sequence[Observed]) -> list[Floats]:
    """Confidences of each drill's candidates, as they would be shown by weights fitted on drills of other worlds and seeds."""
    scores = scores_held_out(drills)
    made = calibrations(drills, scores)
    return [probabilities(made[drill.known].of(one)) for drill, one in zip(drills, scores, strict=True)]


def calibrations(drills: Sequence[Observed], scores: Sequence[Floats]) -> dict[str, Calibration]:
    """One for drills with traces, and one for those without."""
    found = {}
    for known in (WITH_TRACES, WITHOUT_TRACES):
        mine = [(drill, score) for drill, score in zip(drills, scores, strict=True) if drill.known == known]
        found[known] = calibration([drill for drill, _ in mine], [score for _, score in mine]) if mine else Calibration(1.0, 0.0)
    return found


def calibration(drills: Sequence[Observed], scores: Sequence[Floats]) -> Calibration:
    """The slope and shift of held-out scores under which what was right is most probable."""

    def surprise(given: Floats) -> float:
        made = Calibration(float(given[0]), float(given[1]))
        total = 0.0
        for drill, score in zip(drills, scores, strict=True):
            p = probabilities(made.of(score))
            right = drill.candidates.right
            total -= np.log(max(float(p[right].sum()) if right.any() else 1 - float(p.sum()), LEAST_LIKELY))
        return total

    found = minimize(surprise, np.array([1.0, 0.0]), method="Nelder-Mead").x
    return Calibration(round(float(found[0]), 4), round(float(found[1]), 4))


def weights(drills: Sequence[Observed]) -> dict[str, Any]:
    """The file of weights."""
    candidates = of_candidates(drills)
    mechanisms = fit(together([one for drill in drills for one in drill.mechanisms], none=False), np.ones(len(FEATURES), np.int64), L2)
    columns = (*change_choice.COLUMNS, ANY)
    offered = [Options(np.c_[one.x, np.ones(len(one.x))], one.right) for drill in drills for one in drill.changes]
    changes = fit(together(offered), np.array([change_choice.SIGNS.get(name, 0) for name in columns]), L2)
    worlds = sorted({f"{drill.world} {drill.seed}" for drill in drills})
    return {
        "version": 1,
        "fitted": {
            "at": datetime.now(UTC).isoformat(timespec="seconds"),
            "drills": len(drills),
            "worlds": worlds,
            "l2": L2,
            "sources": digest.of_observations(),
        },
        "candidates": _named(COLUMNS, candidates),
        "mechanisms": _named(tuple(FEATURES), mechanisms),
        "changes": _named(columns, changes),
        "calibration": {known: asdict(made) for known, made in calibrations(drills, scores_held_out(drills)).items()},
    }


def _named(names: Sequence[str], values: Floats) -> dict[str, float]:
    return {name: round(float(value), 4) for name, value in zip(names, values, strict=True)}


def without_kind(drills: Sequence[Observed]) -> dict[str, list[Floats]]:
    """Of each kind of fault, its drills' probabilities by weights that never met the kind."""
    found = {}
    for kind in sorted({drill.kind for drill in drills}):
        learned = of_candidates([drill for drill in drills if drill.kind != kind])
        found[kind] = [probabilities(drill.candidates.x @ learned) for drill in drills if drill.kind == kind]
    return found


def write(found: dict[str, Any], file: Path) -> None:
    file.write_text(json.dumps(found, indent=1) + "\n")
