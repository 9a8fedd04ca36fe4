"""What goes on in the running demo: faults that were started and stopped, and what people did about them."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from wirbel.core.text import rfc3339
from wirbel.demo import faults
from wirbel.demo.faults import Fault, Span
from wirbel.demo.faults.model import change
from wirbel.demo.history import AHEAD_NS, FAULT_MINUTES_AGO, MINUTE_NS, ahead
from wirbel.demo.world.happenings import Happenings

SHOWN, ORDERS, KEPT = "practice.json", "orders.jsonl", "acts.json"

REMEDIES: dict[str, tuple[str, str, str | None]] = {
    "bad-deploy": ("roll back", "rollback", "berth-planner"),
    "bad-canary": ("end the trial", "rollback", None),
    "index-dropped": ("make the index again", "migration", "manifest"),
    "lock-contention": ("stop the clean-up job", "manual", None),
    "noisy-neighbour": ("move the other tenant", "manual", None),
    "disk-full": ("free the disk", "manual", None),
    "memory-leak": ("roll back", "rollback", None),
    "pool-too-small": ("raise the pool", "config", "berth-planner"),
    "leaked-connections": ("roll back", "rollback", None),
    "cache-lifetime": ("keep fares as long as before", "config", "fare-engine"),
    "provider-slow": ("answer from yesterday's tides", "config", "tide-feed"),
    "provider-failing": ("answer from yesterday's tides", "config", "tide-feed"),
    "zone-loss": ("route around the zone", "manual", None),
    "flag": ("turn the flag off", "flag", "quay-web"),
    "expired-key": ("put a new key in place", "config", "pass-issuer"),
    "consumer-behind": ("restart the consumer", "restart", None),
    "silent-service": ("restart it", "restart", None),
    "bot-flood": ("refuse the visitor at the door", "config", "quay-web"),
}
"""Of each fault that people can do something about: what, as which kind of change, of which service (None: the one at fault)."""


@dataclass
class Act:
    """A fault with its parameters, from when to when."""

    kind: str
    seed: int
    onset: int  # ns
    end: int
    how: str | None = None  # it ended

    ahead: int = 0  # ns, of the world's clock

    def fault(self) -> Fault:
        return faults.make(self.kind, self.seed, Span(self.onset, self.end, self.ahead))


class Practice:
    """Kept in files of a folder, so that a feed that starts again goes on where it was."""

    def __init__(self, folder: Path, seed: int, made: int, going_on: str) -> None:
        self._folder, self._seed, self._ahead = folder, seed, ahead(made)
        self.acts: list[Act] = [Act(going_on, seed, made - FAULT_MINUTES_AGO * MINUTE_NS, made + AHEAD_NS, ahead=self._ahead)]
        self.done: list[dict[str, Any]] = []  # changes that people made here
        self._obeyed = 0
        kept = folder / KEPT
        if kept.exists():
            state = json.loads(kept.read_text())
            self.acts = [Act(**act) for act in state["acts"]]
            self.done, self._obeyed = state["done"], state["obeyed"]

    def happenings(self) -> Happenings:
        whole = Happenings().add([act.fault().happenings for act in self.acts])
        whole.changes += self.done
        return whole

    def obey(self, now: int) -> bool:
        """Does what was ordered since; True if anything was."""
        orders = self._folder / ORDERS
        lines = orders.read_text().splitlines() if orders.exists() else []
        fresh = [json.loads(line) for line in lines[self._obeyed :]]
        for order in fresh:
            {"start": self._start, "stop": self._stop, "remedy": self._remedy}[order["do"]](order["act"], now)
        self._obeyed = len(lines)
        if fresh or not (self._folder / SHOWN).exists():
            self._keep(now)
        return bool(fresh)

    def _going_on(self, kind: str, now: int) -> Act | None:
        return next((act for act in self.acts if act.kind == kind and act.end > now), None)

    def _start(self, kind: str, now: int) -> None:
        if self._going_on(kind, now) is None:
            seed = self._seed + len(self.acts)
            # What builds up before it is felt begins now.
            first = Act(kind, seed, now, now + AHEAD_NS, ahead=self._ahead).fault().begins
            self.acts.append(Act(kind, seed, now + (now - first), now + AHEAD_NS, ahead=self._ahead))

    def _stop(self, kind: str, now: int, how: str = "stopped") -> Act | None:
        act = self._going_on(kind, now)
        if act:
            act.end, act.how = now, how
        return act

    def _remedy(self, kind: str, now: int) -> None:
        act = self._stop(kind, now, "remedied")
        if act:
            what, as_kind, service = REMEDIES[kind]
            truth = act.fault().truth
            self.done.append(change(as_kind, now, service or next(iter(truth.services), None), what, actor="you"))

    def _keep(self, now: int) -> None:
        state = {"acts": [asdict(act) for act in self.acts], "done": self.done, "obeyed": self._obeyed}
        write(self._folder / KEPT, state)
        write(self._folder / SHOWN, {"acts": [self._shown(kind, make, now) for kind, make in faults.FAULTS.items()], "obeyed": self._obeyed})

    def _shown(self, kind: str, make: Callable[..., Fault], now: int) -> dict[str, Any]:
        act = self._going_on(kind, now)
        last = next((act for act in reversed(self.acts) if act.kind == kind), None)
        return {
            "name": kind,
            "about": (make.__doc__ or "").strip().splitlines()[0],
            "remedy": REMEDIES[kind][0] if kind in REMEDIES else None,
            "since": rfc3339(act.onset) if act else None,
            "how": last.how if last and not act else None,
        }


def write(file: Path, state: object) -> None:
    """Readers find the old state or the new one, never a part."""
    unfinished = file.with_suffix(".new")
    unfinished.write_text(json.dumps(state))
    unfinished.replace(file)


def hide(folder: Path) -> None:
    """Where no feed obeys, there is no practice to show; what was done on it stays."""
    (folder / SHOWN).unlink(missing_ok=True)


def clear(folder: Path) -> None:
    for name in (SHOWN, ORDERS, KEPT):
        (folder / name).unlink(missing_ok=True)
