"""The fit of the weights: what it learns of drills of which it is known what tells, and what is kept of a drill."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from wirbel.core.diagnosis.weighing import CLEAR, COLUMNS, WITH_TRACES, WITHOUT_TRACES
from wirbel.demo.drill import batch, digest, fit, tables
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


def test_confidences_say_how_many_are_right_and_add_up_to_one(drills: list[Observed]) -> None:
    held_out = fit.held_out(drills)
    assert all(0 <= p.sum() <= 1 for p in held_out)
    firsts = [(float(p.max()), bool(one.candidates.right[p.argmax()])) for one, p in zip(drills, held_out, strict=True)]
    sure = [right for p, right in firsts if p > 0.6]
    told = np.mean([p for p, _ in firsts if p > 0.6])
    assert len(sure) > 20
    assert abs(np.mean(sure) - told) < 0.12


def test_too_sure_scores_are_brought_down(drills: list[Observed]) -> None:
    """Scores of which all are three times what they should be come out as before."""
    scores = fit.scores_held_out(drills)
    right, too_sure = (fit.calibration(drills, [times * one for one in scores]) for times in (1.0, 3.0))
    assert too_sure.slope == pytest.approx(right.slope / 3, rel=0.05)
    assert too_sure.shift == pytest.approx(right.shift, abs=0.1)


def test_drills_without_traces_have_a_calibration_of_their_own(drills: list[Observed]) -> None:
    """There nothing that is seen tells: whoever is first is right by chance."""
    rng = np.random.default_rng(3)
    blind = [replace(one, known=WITHOUT_TRACES, candidates=replace(one.candidates, right=rng.permutation(one.candidates.right))) for one in drills]
    found = fit.calibrations([*drills, *blind], fit.scores_held_out([*drills, *blind]))
    assert found[WITHOUT_TRACES].slope < 0.5 * found[WITH_TRACES].slope


def test_every_kind_of_fault_is_fitted_with_and_without_traces() -> None:
    made = fit.drills_of("random", ["a", "b", "c"] * 9, list(range(301, 320)))
    without = [drill for drill in made if drill.habits == "no-traces"]
    assert len(without) == pytest.approx(len(made) / 9, rel=0.1)
    assert len({number % 27 for number, drill in enumerate(made) if drill in without}) == 27


def test_comments_and_docstrings_do_not_make_weights_stale() -> None:
    code = 'def f(x):\n    """What it does."""\n    return x + 1  # one more\n'
    assert digest.computed(code) == digest.computed("def f(x):\n    return (x +\n        1)\n")
    assert digest.computed(code) != digest.computed(code.replace("1", "2"))


def test_what_is_observed_of_a_drill_is_kept_and_not_observed_again(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    given = batch.Drill(batch.SKERRY_LINE, NOTHING, 13)
    found = batch.watched(given, tmp_path)
    assert found is not None
    assert (found.world, found.kind, found.seed, found.signal) == ("skerry", NOTHING, 13, "latency")
    assert not found.candidates.right.any()
    monkeypatch.setattr(batch, "_observed", lambda drill, folder: pytest.fail("observed again"))
    again = batch.watched(given, tmp_path)
    assert again is not None
    assert again.entities == found.entities
    assert np.array_equal(again.candidates.x, found.candidates.x)
