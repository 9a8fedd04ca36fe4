"""What happens in the world beside its usual running: new versions, faults, what people do."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt

from wirbel.demo.world.conditions import Effect
from wirbel.demo.world.topology import Service

Ints = npt.NDArray[np.int64]


@dataclass(frozen=True)
class Rollout:
    """A version that replaces another, instance after instance; or on some instances only, as a trial."""

    service: str
    version: str
    begins: int  # ns
    step_s: float = 20.0  # between instances
    only: tuple[int, ...] | None = None  # instances
    ends: int | None = None  # rolled back then

    def takes_over(self, instance: Ints) -> tuple[Ints, Ints]:
        """From when to when each instance runs it."""
        wait = (np.asarray(instance) * self.step_s * 1e9).astype(np.int64)
        until = np.full(len(wait), 2**62) if self.ends is None else self.ends + wait
        return self.begins + wait, until


@dataclass(frozen=True)
class LogLines:
    """Records beyond the usual ones: so many a second while an effect lasts."""

    service: str
    severity: str
    template: str
    per_second: float
    start: int
    end: int


@dataclass
class Happenings:
    rollouts: list[Rollout] = field(default_factory=list)
    effects: list[Effect] = field(default_factory=list)
    changes: list[dict[str, Any]] = field(default_factory=list)  # as the door for changes takes them
    instead: dict[tuple[str, str], str] = field(default_factory=dict)  # statements that another stands in for, where calls multiply
    lines: list[LogLines] = field(default_factory=list)

    def add(self, others: Sequence[Happenings]) -> Happenings:
        """All of these together."""
        whole = Happenings()
        for one in (self, *others):
            whole.rollouts += one.rollouts
            whole.effects += one.effects
            whole.changes += one.changes
            whole.instead |= one.instead
            whole.lines += one.lines
        return whole

    def versions(self, service: Service, times: Ints, instance: Ints) -> npt.NDArray[np.object_]:
        """The version that serves at each time on each instance."""
        version = np.full(len(times), service.version, object)
        for rollout in sorted((r for r in self.rollouts if r.service == service.name), key=lambda r: r.begins):
            since, until = rollout.takes_over(instance)
            here = (times >= since) & (times < until)
            if rollout.only is not None:
                here &= np.isin(instance, rollout.only)
            version[here] = rollout.version
        return version
