"""What goes on in the running demo: faults that were started and stopped, and what people did about them."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from wirbel.core.text import rfc3339
from wirbel.demo import faults
from wirbel.demo.faults import Fault, Span
from wirbel.demo.faults.model import change, restart_by_hand
from wirbel.demo.history import AHEAD_NS, FAULT_MINUTES_AGO, MINUTE_NS, ahead
from wirbel.demo.world.happenings import Happenings
from wirbel.demo.world.skerry import SKERRY

SHOWN, ORDERS, KEPT = "practice.json", "orders.jsonl", "acts.json"


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
        return faults.make(SKERRY, self.kind, self.seed, Span(self.onset, self.end, self.ahead))


class Practice:
    """Kept in files of a folder, so that a feed that starts again goes on where it was."""

    def __init__(self, folder: Path, seed: int, made: int, going_on: str) -> None:
        self._folder, self._seed, self._ahead = folder, seed, ahead(made)
        self.acts: list[Act] = [Act(going_on, seed, made - FAULT_MINUTES_AGO * MINUTE_NS, made + AHEAD_NS, ahead=self._ahead)]
        self.done: list[dict[str, Any]] = []  # changes that people made here
        self.restarts: list[tuple[str, int]] = []  # services that were restarted, and when (ns)
        self._obeyed = 0
        kept = folder / KEPT
        if kept.exists():
            state = json.loads(kept.read_text())
            self.acts = [Act(**act) for act in state["acts"]]
            self.done, self._obeyed = state["done"], state["obeyed"]
            self.restarts = [(service, at) for service, at in state.get("restarts", [])]

    def happenings(self) -> Happenings:
        whole = Happenings().add(
            [*(act.fault().happenings for act in self.acts), *(restart_by_hand(SKERRY, service, at, "you") for service, at in self.restarts)]
        )
        whole.changes += self.done
        return whole

    def obey(self, now: int) -> bool:
        """Does what was ordered since; True if anything was."""
        orders = self._folder / ORDERS
        lines = orders.read_text().splitlines() if orders.exists() else []
        fresh = [json.loads(line) for line in lines[self._obeyed :]]
        for order in fresh:
            if order["do"] == "start":
                self._start(order["act"], now)
            elif order["do"] == "stop":
                self._stop(order["act"], now)
            else:
                self._remedy(order["act"], now)
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
            remedy = faults.FAULTS[kind].remedy
            assert remedy is not None
            service = next(iter(act.fault().truth.services), None)
            if remedy.kind == "restart" and service:
                self.restarts.append((service, now))
            else:
                self.done.append(change(remedy.kind, now, service, remedy.what, actor="you"))

    def _keep(self, now: int) -> None:
        state = {"acts": [asdict(act) for act in self.acts], "done": self.done, "restarts": self.restarts, "obeyed": self._obeyed}
        write(self._folder / KEPT, state)
        write(self._folder / SHOWN, {"acts": [self._shown(kind, now) for kind in faults.FAULTS], "obeyed": self._obeyed})

    def _shown(self, kind: str, now: int) -> dict[str, Any]:
        act = self._going_on(kind, now)
        described = faults.FAULTS[kind]
        last = next((act for act in reversed(self.acts) if act.kind == kind), None)
        return {
            "name": kind,
            "about": described.about.splitlines()[0],
            "remedy": described.remedy.what if described.remedy else None,
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
