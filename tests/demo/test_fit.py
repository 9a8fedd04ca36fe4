"""The fit of the weights: what it learns of drills of which it is known what tells, and what is kept of a drill."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from wirbel.core.diagnosis.weighing import CLEAR, COLUMNS
from wirbel.demo.drill import batch, fit, tables
from wirbel.demo.drill.grade import NOTHING
from wirbel.demo.drill.observed import Observed, Options

TELLS, SAYS_LITTLE = COLUMNS.index("explains"), COLUMNS.index("walked to")
IS_CLEAR = COLUMNS.index(CLEAR)


def drill(seed: int, kind: str) -> Observed:
    """Of four services one explains most, and is right as a rule; where nothing is wrong the symptom is hardly clear."""
    rng = np.random.default_rng(seed)
    x = np.zeros((4, len(COLUMNS)))
    x[:, COLUMNS.index("service")] = 1.0
    x[:, SAYS_LITTLE] = rng.random(4)
    x[0, TELLS] = rng.uniform(0.5, 1.0)
    x[:, IS_CLEAR] = rng.uniform(0.0, 0.3) if kind == NOTHING else rng.uniform(0.3, 1.0)
    right = np.zeros(4, np.bool_)
    right[0 if rng.random() < 0.9 else 1] = kind != NOTHING
    return Observed("random", kind, seed, True, "latency", [("service", str(n)) for n in range(4)], Options(x, right))


@pytest.fixture(scope="module")
def drills() -> list[Observed]:
    return [drill(seed, NOTHING if seed % 3 == 0 else "bad-deploy") for seed in range(90)]


def test_what_tells_weighs_and_a_symptom_that_is_hardly_clear_is_likelier_none(drills: list[Observed]) -> None:
    learned = fit.of_candidates(drills)
    assert learned[TELLS] > 5 * abs(learned[SAYS_LITTLE])
    assert learned[IS_CLEAR] > 1.0
    held_out = fit.held_out(drills)
    none = {kind: np.mean([1 - p.sum() for one, p in zip(drills, held_out, strict=True) if one.kind == kind]) for kind in (NOTHING, "bad-deploy")}
    assert none[NOTHING] > 0.6 > 0.4 > none["bad-deploy"]
    told = tables.fitted(drills, held_out, fit.without_kind(drills))
    first = float(np.mean([one.candidates.right[p.argmax()] for one, p in zip(drills, held_out, strict=True) if one.kind != NOTHING]))
    assert f"{100 * first:.0f} %" in next(line for line in told.splitlines() if line.startswith("asked: latency"))


def test_the_calibration_says_how_many_are_right_and_never_falls(drills: list[Observed]) -> None:
    xs, ys = zip(*fit.calibration(drills, fit.held_out(drills)), strict=True)
    assert list(xs) == sorted(xs)
    assert list(ys) == sorted(ys)
    assert ys[-1] == fit.SUREST


def test_what_is_observed_of_a_drill_is_kept_and_not_observed_again(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    given = batch.Drill(batch.SKERRY_LINE, NOTHING, 13)
    found = batch.watched(given, tmp_path)
    assert found is not None
    assert (found.world, found.kind, found.seed, found.signal) == ("skerry", NOTHING, 13, "latency")
    assert not found.candidates.right.any()
    monkeypatch.setattr(batch, "_observed", lambda drill: pytest.fail("observed again"))
    again = batch.watched(given, tmp_path)
    assert again is not None
    assert again.entities == found.entities
    assert np.array_equal(again.candidates.x, found.candidates.x)
