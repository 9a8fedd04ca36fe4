"""Choice among alternatives by a conditional logit (McFadden 1974, "Conditional logit analysis of qualitative choice behavior").

Each case offers some alternatives with features and, unless told otherwise, "none of these" with score 0. The probability
of an alternative is exp(score) over the sum of all, the score a weighted sum of its features. Several
alternatives of a case may be right: then it is their sum that counts.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
Bools = npt.NDArray[np.bool_]


@dataclass(frozen=True)
class Choices:
    """Alternatives (rows) of many cases: features ``x`` (rows, features), the ``case`` of each row, and whether it is ``right``.

    With ``none``, "none of these" is offered beside them, and right where no row is.
    """

    x: Floats
    case: Ints
    right: Bools
    cases: int
    none: bool = True


def probabilities(scores: Floats, none: bool = True) -> Floats:
    """Of the alternatives of one case, shape (n,); what they lack to 1 is that of "none of these"."""
    if not len(scores):
        return scores
    top = max(float(scores.max()), 0.0) if none else float(scores.max())
    each = np.exp(scores - top)
    return np.asarray(each / (each.sum() + (np.exp(-top) if none else 0.0)))


def fit(given: Choices, signs: Ints, l2: float) -> Floats:
    """Weights of the features, shape (features,): the penalised maximum likelihood.

    ``signs`` says of each weight that it may not be negative (+1), not be positive (−1), or be anything (0), so
    that evidence for can never count against. ``l2`` times half the sum of squares is the penalty.
    """
    bounds = [(0, None) if sign > 0 else (None, 0) if sign < 0 else (None, None) for sign in signs]
    from scipy import optimize  # 12 MB that only a fit needs

    found = optimize.minimize(_loss, np.zeros(given.x.shape[1]), (given, l2), method="L-BFGS-B", jac=True, bounds=bounds)
    return np.asarray(found.x)


def _loss(weights: Floats, given: Choices, l2: float) -> tuple[float, Floats]:
    """Negative log likelihood with its penalty, and the gradient. Cases that offer nothing right are left out unless none is an answer."""
    scores = given.x @ weights
    top = np.zeros(given.cases) if given.none else np.full(given.cases, -np.inf)
    np.maximum.at(top, given.case, scores)
    top = np.where(np.isfinite(top), top, 0.0)
    each = np.exp(scores - top[given.case])
    none = np.exp(-top) if given.none else np.zeros(given.cases)
    whole = np.bincount(given.case, each, given.cases) + none
    right = np.bincount(given.case, each * given.right, given.cases)
    has_right = np.bincount(given.case, given.right, given.cases) > 0
    chosen = np.where(has_right, right, none)
    counted = has_right | given.none
    with np.errstate(divide="ignore"):
        likelihood = np.log(chosen[counted]).sum() - np.log(whole[counted]).sum()
    wanted = np.where(has_right[given.case], each * given.right / np.maximum(right[given.case], 1e-300), 0.0)
    gradient = given.x.T @ ((wanted - each / whole[given.case]) * counted[given.case])
    return -likelihood + l2 / 2 * float(weights @ weights), -gradient + l2 * weights
