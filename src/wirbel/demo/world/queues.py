"""Waiting lines: what a station with so many servers does to those who come, over time."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]
NEARLY_FULL = 0.97  # of its servers; over it a line is reckoned as one that grows, not as one in balance


def erlang_c(servers: int, load: npt.ArrayLike) -> Floats:
    """Probability that an arrival has to wait in M/M/c, for loads in erlangs below ``servers``.

    By the stable recursion of Erlang B (Jagerman), then C = B / (1 − ρ(1 − B)).
    """
    a = np.asarray(load, float)
    blocked = np.ones_like(a)
    for n in range(1, servers + 1):
        blocked = a * blocked / (n + a * blocked)
    rho = a / servers
    return blocked / (1 - rho * (1 - blocked))


@dataclass(frozen=True)
class Waiting:
    """Of a station at each step of time. Times in seconds; arrays of shape (steps,)."""

    busy: Floats  # share of the servers at work
    chance: Floats  # that an arrival has to wait though no line has built up
    mean: Floats  # how long then, exponentially distributed
    line: Floats  # what everyone waits besides, behind the line that has built up
    refused: Floats  # share of arrivals turned away, because the line is too long

    @property
    def expected(self) -> Floats:
        """Mean wait of those who are let in."""
        return self.chance * self.mean + self.line


def waiting(rate: Floats, hold_s: Floats, servers: npt.ArrayLike, step_s: float, longest_s: float) -> Waiting:
    """A station to which ``rate`` arrivals a second come, each keeping a server for ``hold_s``.

    Below capacity it is M/M/c in balance: Erlang C, and an exponential wait of mean hold / (c − a). Above it, a
    line grows by what comes beyond what is served, and shrinks when there is room again. Nobody waits longer
    than ``longest_s``: those who would are turned away.
    """
    count = np.broadcast_to(np.maximum(np.asarray(servers), 1), rate.shape)
    load = rate * hold_s
    steady = np.minimum(load, NEARLY_FULL * count)
    mean = hold_s / (count - steady)
    if np.ndim(servers) == 0:
        chance = erlang_c(int(count[0]), steady)
    else:
        chance = np.empty_like(load)
        for number in np.unique(count):
            at = count == number
            chance[at] = erlang_c(int(number), steady[at])
    served = count / np.maximum(hold_s, 1e-9)  # a second, when all are at work
    line, refused = _line(rate, NEARLY_FULL * served, step_s, longest_s)
    return Waiting(np.minimum(load, count) / count, chance, np.minimum(mean, longest_s), line, refused)


def _line(rate: Floats, served: Floats, step_s: float, longest_s: float) -> tuple[Floats, Floats]:
    """Seconds of work in line and share turned away: what flows in less what flows out, between none and the longest."""
    line, refused = np.zeros_like(rate), np.zeros_like(rate)
    if not (rate > served).any():
        return line, refused
    held, longest = 0.0, (served * longest_s).tolist()
    for step, (comes, goes) in enumerate(zip((rate * step_s).tolist(), (served * step_s).tolist(), strict=True)):
        held = max(0.0, held + comes - goes)
        over = max(0.0, held - longest[step])
        held -= over
        refused[step] = over / comes if comes > 0 else 0.0
        line[step] = held
    return line / np.maximum(served, 1e-9), np.minimum(refused, 1.0)
