"""The conditional logit against a reference library, and what it promises."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from statsmodels.discrete.conditional_models import ConditionalLogit

from wirbel.core.stats.conditional_logit import Choices, _loss, fit, probabilities


def choices(cases: int = 300, options: int = 5, seed: int = 1, none: bool = False) -> tuple[Choices, np.ndarray]:
    """Cases in which one option was chosen by known weights."""
    rng = np.random.default_rng(seed)
    truth = np.array([1.5, -0.8, 0.4])
    x = rng.standard_normal((cases * options, 3))
    case = np.repeat(np.arange(cases), options)
    right = np.zeros(cases * options, np.bool_)
    for n in range(cases):
        p = probabilities(x[case == n] @ truth, none)
        chosen = rng.choice(options + 1, p=np.r_[p, max(1 - p.sum(), 0.0)] / max(1.0, p.sum()))
        if chosen < options:
            right[n * options + chosen] = True
    return Choices(x, case, right, cases, none), truth


def test_weights_are_those_of_statsmodels() -> None:
    """ConditionalLogit of statsmodels, which has neither "none of these" nor a penalty."""
    found, _ = choices()
    theirs = ConditionalLogit(found.right.astype(int), found.x, groups=found.case).fit(disp=False).params
    assert fit(found, np.zeros(3, int), l2=0.0) == pytest.approx(theirs, abs=2e-3)


def test_none_of_these_is_learned_too() -> None:
    found, truth = choices(cases=3000, none=True)
    assert fit(found, np.zeros(3, int), l2=0.0) == pytest.approx(truth, abs=0.15)
    ever = np.bincount(found.case, found.right, found.cases)
    assert 0.05 < (ever == 0).mean() < 0.5


def test_a_sign_is_kept_whatever_the_data_say() -> None:
    found, _ = choices()
    weights = fit(found, np.array([-1, 1, 0]), l2=0.0)
    assert weights[0] == 0
    assert weights[1] == 0
    assert weights[2] != 0


@settings(max_examples=30, deadline=None)
@given(st.lists(st.floats(-2, 2), min_size=3, max_size=3), st.booleans())
def test_the_gradient_is_the_slope(at: list[float], none: bool) -> None:
    found, _ = choices(cases=20, none=none)
    weights = np.array(at)
    _, gradient = _loss(weights, found, 0.7)
    for k in range(3):
        step = np.eye(3)[k] * 1e-5
        slope = (_loss(weights + step, found, 0.7)[0] - _loss(weights - step, found, 0.7)[0]) / 2e-5
        assert gradient[k] == pytest.approx(slope, abs=1e-3)


@given(st.lists(st.floats(-700, 700), max_size=12))
def test_chances_and_none_add_up_to_one(scores: list[float]) -> None:
    found = probabilities(np.array(scores))
    assert (found >= 0).all()
    assert found.sum() <= 1 + 1e-9
    assert probabilities(np.array(scores), none=False).sum() == pytest.approx(1.0 if scores else 0.0)
