"""How strong a fault must be to be felt: found by solving the world with it, coarsely, before it is told."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from wirbel.demo.faults.model import MINUTE, Fault
from wirbel.demo.world.conditions import Conditions
from wirbel.demo.world.state import State, solve
from wirbel.demo.world.topology import Topology

STEP_S = 60
WARM_UP = 10 * MINUTE
FELT_FROM, FELT_UNTIL = 8 * MINUTE, 20 * MINUTE  # after the onset
FAILING_TIMES = 12.0  # a share of failures is felt as so many times a share of waiting
ROUNDS = 7
NEAR = 0.2  # of what is wanted
LASTS = 60 * MINUTE  # of a fault that is measured


@dataclass(frozen=True)
class Aim:
    """What a fault of a kind is measured by, how much of it is wanted, and the least that will do."""

    measure: Callable[[Fault], float]
    low: float
    high: float
    least: float

    def strength(self, build: Callable[[float], Fault], rng: np.random.Generator) -> float | None:
        """The strength of which the measure is near what is wanted; None if even the strongest fault has not the least of it."""
        wanted = float(np.exp(rng.uniform(np.log(self.low), np.log(self.high))))
        best, found = 1.0, self.measure(build(1.0))
        if found < self.least:
            return None
        low, high = 0.0, 1.0
        for _ in range(ROUNDS if found > wanted else 0):
            middle = low + (high - low) * float(rng.uniform(0.4, 0.6))
            found = self.measure(build(middle))
            if found >= self.least:
                best = middle
            if abs(found - wanted) < NEAR * wanted:
                break
            low, high = (middle, high) if found < wanted else (low, middle)
        return best


def felt(fault: Fault) -> float:
    """How much longer users of a front wait, as a share of the usual, or how many more of their requests fail, where it is worst: in most of the minutes, as a passing collapse is not what lasts."""
    topology, at = fault.case.topology, _minutes(fault)
    now, usual = _state(fault), _usual(topology, *_grid(fault))
    worst = 0.0
    for front in topology.clients:
        entries = [key for key in topology.entries if topology.operations[key].service == front]
        share = np.array([usual.entry[key][at].mean() for key in entries])
        (waits, waited), (fails, failed) = (
            [np.average([getattr(state, name)[key][at] for key in entries], axis=0, weights=share) for state in (now, usual)]
            for name in ("response", "failing")
        )
        worst = max(worst, float(np.median(np.maximum(waits / waited - 1, FAILING_TIMES * (fails - failed)))))
    return worst


def behind(fault: Fault) -> float:
    """How many times as much comes to a consumer as it can do."""
    topology, service = fault.case.topology, fault.case.site.service
    now, key, at = _state(fault), fault.case.site.operation, _minutes(fault)
    workers = topology.services[service].workers * len(topology.instances[service])
    return float((now.rate[key] * now.response[key])[at].mean() / workers)


FELT = Aim(felt, 0.8, 2.2, 0.35)
BEHIND = Aim(behind, 1.15, 1.5, 1.0)


def _grid(fault: Fault) -> tuple[int, int, int]:
    """First moment (ns), number of moments, and how far the world's clock is ahead."""
    start = min(fault.begins, fault.truth.onset) - WARM_UP
    return start, int((fault.truth.onset + FELT_UNTIL - start) // (STEP_S * 10**9)) + 1, fault.case.span.ahead


def _minutes(fault: Fault) -> slice:
    """Those in which it is measured."""
    return slice(int((fault.truth.onset + FELT_FROM - _grid(fault)[0]) // (STEP_S * 10**9)), None)


def _state(fault: Fault) -> State:
    start, steps, ahead = _grid(fault)
    return solve(fault.case.topology, Conditions(fault.happenings.effects, start, steps, STEP_S, ahead))


@lru_cache(maxsize=32)
def _usual(topology: Topology, start: int, steps: int, ahead: int) -> State:
    return solve(topology, Conditions([], start, steps, STEP_S, ahead))
