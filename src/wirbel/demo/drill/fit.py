"""Fits the diagnosis' weights on drills: ``./wirbel drill --fit``.

Worlds are held out in turn to calibrate the confidence; what was observed of a drill is kept by the code that observed it.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence
from datetime import UTC, datetime
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
from scipy.optimize import isotonic_regression

import wirbel
from wirbel.core.diagnosis import change_choice
from wirbel.core.diagnosis.evidence import FEATURES
from wirbel.core.diagnosis.weighing import CASE_FEATURES, COLUMNS
from wirbel.core.stats.conditional_logit import Choices, fit, probabilities
from wirbel.demo.drill.observed import Observed, Options

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
L2 = 0.2
FOLDS = 5
SHOWN = 0.02  # candidates that are less probable are not calibrated
POINTS = 12  # of the calibration
SUREST = 0.99  # nobody is surer, on so few drills
FILE = Path(wirbel.__file__).parent / "core" / "diagnosis" / "weights.json"
SOURCES = ("core/diagnosis", "core/patterns")  # what observations follow from
TELLING = ("sentences.py", "cascade.py", "inquire.py")  # of them: how an answer is told; nothing is observed there
ANY = "any"  # column of changes: that there is one at all


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
    """Weights of COLUMNS. Drills at whose fault nothing points teach nothing."""
    used = [drill.candidates for drill in drills if drill.candidates.right.any() or drill.kind == "nothing-wrong"]
    return fit(together(used), signs(COLUMNS), L2)


def held_out(drills: Sequence[Observed]) -> list[Floats]:
    """Probabilities of each drill's candidates by weights fitted on drills of other worlds and seeds."""
    groups = sorted({(drill.world, drill.seed) for drill in drills})
    fold = {group: n % FOLDS for n, group in enumerate(groups)}
    found: list[Floats] = [np.zeros(0)] * len(drills)
    for k in range(FOLDS):
        weights = of_candidates([drill for drill in drills if fold[drill.world, drill.seed] != k])
        for n, drill in enumerate(drills):
            if fold[drill.world, drill.seed] == k:
                found[n] = probabilities(drill.candidates.x @ weights)
    return found


def calibration(drills: Sequence[Observed], chances: Sequence[Floats]) -> list[tuple[float, float]]:
    """Points of the isotonic regression of right on probability, of all candidates that are shown (Zadrozny and Elkan 2002)."""
    p = np.concatenate(list(chances))
    right = np.concatenate([drill.candidates.right for drill in drills]).astype(float)
    kept = p >= SHOWN
    order = np.argsort(p[kept])
    p, right = p[kept][order], right[kept][order]
    smooth = np.minimum(np.asarray(isotonic_regression(right).x), SUREST)
    at = np.unique(np.linspace(0, len(p) - 1, POINTS).astype(int))
    edges = np.r_[at, len(p)]
    points = [(float(p[a:b].mean()), float(smooth[a:b].mean())) for a, b in pairwise(edges) if b > a]
    return [(0.0, 0.0), *points, (1.0, SUREST)]


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
            "sources": digest(*SOURCES),
        },
        "candidates": _named(COLUMNS, candidates),
        "mechanisms": _named(tuple(FEATURES), mechanisms),
        "changes": _named(columns, changes),
        "calibration": [[round(x, 4), round(y, 4)] for x, y in calibration(drills, held_out(drills))],
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


def digest(*packages: str) -> str:
    """Of the code of some packages: other code observes otherwise."""
    root = Path(wirbel.__file__).parent
    files = sorted(file for package in packages for file in (root / package).rglob("*.py") if file.name not in TELLING)
    return hashlib.sha256(b"".join(file.read_bytes() for file in files)).hexdigest()[:16]


def write(found: dict[str, Any], file: Path) -> None:
    file.write_text(json.dumps(found, indent=1) + "\n")
