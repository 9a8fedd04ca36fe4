"""On which scale the values of a kind are judged: one on which what is usual scatters alike wherever it is."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
import numpy.typing as npt
from scipy import special

from wirbel.core.series.series import Kind

Floats = npt.NDArray[np.float64]
SMALLEST = 1e-6  # added before a logarithm: zero is a value
LOGARITHMIC: tuple[Kind, ...] = ("quantile", "mean")
COUNTED: tuple[Kind, ...] = ("rate", "count")
ANSCOMBE = 3 / 8  # added to a count
LARGE = 50.0  # count from about which on its scatter is in proportion to it, and its logarithm is judged


@dataclass(frozen=True)
class Scale:
    """How values of a kind are judged, and back; of steps of ``step_s`` seconds."""

    name: Literal["log", "count", "logit", "utilization", "as it is"]
    step_s: float = 1.0
    prior: float = 0.5  # share of what nothing is known of
    lift: float = 0.0  # of the log odds of what is expected above the middle of shares of few records

    @classmethod
    def of(cls, kind: Kind, step_s: float, prior: float = 0.5, lift: float = 0.0) -> Scale:
        if kind in COUNTED:
            return cls("count", step_s if kind == "rate" else 1.0)
        if kind in LOGARITHMIC:
            return cls("log", step_s)
        return cls("logit" if kind == "share" else "utilization" if kind == "utilization" else "as it is", step_s, prior, lift)

    def judged(self, values: Floats, samples: Floats) -> Floats:
        """NaN stays NaN. A share is drawn to what is usual by half a record, so that none and all are finite, and few records tell little.

        What is used of a limit is drawn to one half likewise: nothing and all of it are finite, and a little more or less of them is little. Of a count, the inverse hyperbolic sine of its root: the scatter of a negative binomial count is the same at any height (Anscombe, Biometrika 35, 1948).
        """
        if self.name == "log":
            return np.log(SMALLEST + np.maximum(values, 0.0))
        if self.name == "count":
            return 2 * np.arcsinh(np.sqrt((np.maximum(self.counted(values), 0.0) + ANSCOMBE) / LARGE))
        if self.name == "logit":
            n = np.maximum(samples, 1.0)
            share = (np.clip(values, 0.0, 1.0) * n + 0.5) / (n + 0.5 / self.prior)
            return special.logit(share)
        if self.name == "utilization":
            return special.logit((np.clip(values, 0.0, 1.0) + 0.5) / 2)
        return values

    def back(self, judged: Floats) -> Floats:
        if self.name == "log":
            return np.maximum(np.exp(np.minimum(judged, 700.0)) - SMALLEST, 0.0)
        if self.name == "count":
            return np.maximum(np.sinh(np.clip(judged, 0.0, 600.0) / 2) ** 2 * LARGE - ANSCOMBE, 0.0) / self.step_s
        if self.name == "logit":
            return special.expit(judged + self.lift)
        return np.clip(2 * special.expit(judged) - 0.5, 0.0, 1.0) if self.name == "utilization" else judged

    def counted(self, values: Floats) -> Floats:
        """Values of a rate or count as how many there were in a step."""
        return values * self.step_s

    def per_unit(self, counts: Floats) -> Floats:
        """The same back, as the series is told."""
        return counts / self.step_s
