"""What is not as usual in the world, and when.

Every quantity of the model has a name: a tuple such as ``("time", "berth-db")``. A fault multiplies it
or adds to it, by a shape over time. What nobody touches is as topology.py has it.

| name | what it is |
|---|---|
| ("load", entry) | requests a second from outside |
| ("failing", operation), ("failing", service, instance) | share of requests that fail by themselves |
| ("refused", operation) | share of requests that are refused |
| ("work", service, instance) | own work of an instance |
| ("instance", service, instance) | its share of the requests |
| ("pause", service, instance) | share of time in which the runtime stands still, beyond the usual |
| ("memory", service, instance) | MB beyond the usual |
| ("pool", service, backend) | connections of an instance, factor |
| ("leaked", service, instance, backend) | connections that are never given back |
| ("time", backend), ("time", backend, statement) | how long its answers take |
| ("misses", backend) | share of a database's pages that are not in its memory, beyond the usual |
| ("lock", backend, statement) | s that a statement waits for a lock, in the mean; half of them do |
| ("failing", backend) | share of its answers that are errors |
| ("calls", service, instance, statement) | calls made in place of one, factor |
| ("hits", cache) | share of look-ups that are answered |
| ("cpu", host) | cores that others take |
| ("disk", host) | GB written beyond the usual; ("io", host) share of the disk's time |
| ("loss", zone) | share of packets lost to and from a zone |
| ("app calls", operation, call, version) | how often an app version asks again what others ask once, factor |
| ("app failing", entry, version) | share of an app version's requests that fail by themselves |
| ("bots", entry) | requests a second of visitors that look for what is not there |
| ("speed", service) | how fast a consumer works, factor on its time |
| ("silent", service) | share of its instances' time in which nothing is done and nothing is sent |
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
import numpy.typing as npt

Ints = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]
Name = tuple[str | int, ...]
Form = Literal["step", "ramp", "intermittent"]
PERIOD_NS = 150 * 10**9  # of what comes and goes


@dataclass(frozen=True)
class Shape:
    """How strong an effect is at each moment, between 0 and 1."""

    start: int  # ns
    end: int
    form: Form = "step"
    rise_s: float = 600.0  # of a ramp

    def at(self, times: Ints) -> Floats:
        strength = ((times >= self.start) & (times < self.end)).astype(float)
        if self.form == "ramp":
            strength *= np.clip((times - self.start) / (self.rise_s * 1e9), 0, 1)
        elif self.form == "intermittent":
            strength *= ((times - self.start) % PERIOD_NS) < 0.6 * PERIOD_NS
        return strength


@dataclass(frozen=True)
class Effect:
    name: Name
    shape: Shape
    times: float = 1.0
    plus: float = 0.0


class Conditions:
    """Effects over a grid of time: ``steps`` moments, ``step_s`` apart, from ``start`` (ns), of a world whose clock is ``ahead`` of UTC (ns)."""

    def __init__(self, effects: Sequence[Effect], start: int, steps: int, step_s: int, ahead: int = 0) -> None:
        self.start, self.steps, self.step_s = start, steps, step_s
        self.times = start + np.arange(steps, dtype=np.int64) * step_s * 10**9
        self.clock = self.times + ahead
        # Shared by all that nobody touches, so never written to.
        self._ones, self._zeros = np.ones(steps), np.zeros(steps)
        self._ones.flags.writeable = self._zeros.flags.writeable = False
        self._factors: dict[Name, Floats] = {}
        self._extras: dict[Name, Floats] = {}
        for effect in effects:
            strength = effect.shape.at(self.times)
            if effect.times != 1:
                self._factors[effect.name] = self.factor(*effect.name) * (1 + (effect.times - 1) * strength)
            if effect.plus:
                self._extras[effect.name] = self.extra(*effect.name) + effect.plus * strength

    def factor(self, *name: str | int) -> Floats:
        """Shape (steps,); 1 where nothing has changed."""
        return self._factors.get(name, self._ones)

    def extra(self, *name: str | int) -> Floats:
        """Shape (steps,); 0 where nothing was added."""
        return self._extras.get(name, self._zeros)

    def touches(self, *name: str | int) -> bool:
        return name in self._factors or name in self._extras

    def step_of(self, times: Ints) -> Ints:
        """The moment that holds each time; those before the first and after the last count as these."""
        return np.clip((times - self.start) // (self.step_s * 10**9), 0, self.steps - 1)
