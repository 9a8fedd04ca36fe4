"""Results of drills as tables for people."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Sequence
from itertools import chain
from typing import Any

import numpy as np
import numpy.typing as npt

from wirbel.demo.drill.grade import NOTHING
from wirbel.demo.drill.observed import Observed

Floats = npt.NDArray[np.float64]
EDGES = (0.0, 0.1, 0.3, 0.5, 0.7, 0.9, 1.0)  # of confidences that are told together
WHEN = ((3600, "over an hour before"), (900, "15 to 60 min before"), (300, "5 to 15 min before"), (0, "up to 5 min before"), (float("-inf"), "after the onset"))
HEADS = (
    "drills",
    "seen",
    "delay",
    "lead",
    "before",
    "exact 1",
    "3",
    "5",
    "lenient 1",
    "3",
    "5",
    "mechanism",
    "change",
    "onset off",
    "accused",
    "its change",
    "took",
)


def results(kept: dict[str, Any]) -> str:
    """One line a kind of fault, one for all, and the plain methods beside."""
    rows = [(kind, _cells(found)) for kind, found in kept["kinds"].items()] + [("all", _cells(kept["overall"]))]
    width = max(len(name) for name, _ in rows) + 1
    lines = [" " * width + "".join(f"{head:>10}" for head in HEADS)]
    lines += [f"{name:<{width}}" + "".join(f"{cell:>10}" for cell in cells) for name, cells in rows]
    overall = kept["overall"]
    lines += ["", f"Innocents accused where nothing was wrong: {_share(overall['false_accusations'])}; alarms there: {_share(overall['false_alarms'])}."]
    lines += ["", "The right service named first (lenient), on the same drills:"]
    lines += [f"  {name:<20}{_share(found):>6}" for name, found in [("this diagnosis", overall["lenient_1"]), *overall["plain"].items()]]
    return "\n".join([*lines, *innocent_changes([drill["innocents"] for drill in kept["drills"]]), reliability(_firsts(kept))])


def innocent_changes(drills: Sequence[Sequence[dict[str, Any]]]) -> list[str]:
    """How many drills hold an innocent change responsible with what is named first; and how many of the innocent changes, by where, what and when they were."""
    if not any(drills):
        return []
    told = [one for drill in drills for one in drill]
    groups: dict[str, list[dict[str, Any]]] = defaultdict(list)
    for one in told:
        groups["on what is at fault" if one["on_culprit"] else "on others"].append(one)
        groups[f"kind: {one['kind']}"].append(one)
        groups[f"{next(name for least, name in WHEN if one['lead_s'] >= least)}"].append(one)
    blamed = sum(any(one["blamed"] for one in drill) for drill in drills)
    lines = ["", f"An innocent change held responsible with what is named first: {blamed} of {len(drills)} drills ({_share(blamed / len(drills))})."]
    return lines + [f"  {name:<36}{sum(one['blamed'] for one in found):>4} of {len(found)}" for name, found in sorted(groups.items())]


def reliability(first: Sequence[tuple[float, bool]]) -> str:
    """Of first candidates (confidence, whether it was right): how many were right of those that were held about as sure, and the Brier score (1950)."""
    given, right = np.array([p for p, _ in first]), np.array([hit for _, hit in first], float)
    if not len(given):
        return ""
    bins = np.minimum(np.searchsorted(EDGES, given, side="right") - 1, len(EDGES) - 2)
    told = [
        f"{EDGES[n]:.1f} to {EDGES[n + 1]:.1f}: {_share(float(right[bins == n].mean()))} of {int((bins == n).sum())}, held for {_share(float(given[bins == n].mean()))}"
        for n in range(len(EDGES) - 1)
        if (bins == n).any()
    ]
    return "\n".join(
        ["", "First candidates that were right, by their confidence:", *(f"  {line}" for line in told), f"  Brier score {np.mean((given - right) ** 2):.3f}"]
    )


def _firsts(kept: dict[str, Any]) -> list[tuple[float, bool]]:
    """Of drills that were answered with somebody."""
    found = [(drill["answer"]["diagnosis"]["candidates"], drill["exact"] == 1) for drill in kept["drills"]]
    return [(candidates[0]["confidence"], right) for candidates, right in found if candidates]


def _cells(found: dict[str, Any]) -> list[str]:
    return [
        str(found["drills"]),
        _share(found["detected"]),
        _seconds(found["delay_s"]),
        _seconds(found["lead_s"]),
        _share(found["one_disturbance"]),
        _share(found["seen_before"]),
        *(_share(found[f"exact_{k}"]) for k in (1, 3, 5)),
        *(_share(found[f"lenient_{k}"]) for k in (1, 3, 5)),
        _share(found["mechanism"]),
        _share(found["change"]),
        _seconds(found["onset_error_s"]),
        _share(found["accused_innocents"]),
        _share(found["accused_changes"]),
        _seconds(found["took_s"]),
    ]


def _share(value: float | None) -> str:
    return "–" if value is None else f"{100 * value:.0f} %"


def _seconds(value: float | None) -> str:
    return "–" if value is None else f"{value:.0f} s" if abs(value) >= 10 else f"{value:.1f} s"


def comparison(before: dict[str, Any], after: dict[str, Any]) -> str:
    """What became better or worse from one run to the next, on the drills that both have."""
    was = {(drill["kind"], drill["seed"]): drill for drill in before["drills"]}
    both = [(was[key], drill) for drill in after["drills"] if (key := (drill["kind"], drill["seed"])) in was]
    lines = [f"{len(both)} drills in both; {before['made']} beside {after['made']}"]
    measures: tuple[tuple[str, Callable[[dict[str, Any]], object]], ...] = (
        ("seen", lambda d: d["detected"]),
        ("rank 1 (lenient)", lambda d: d["lenient"] == 1),
        ("mechanism", lambda d: d["mechanism"]),
        ("accused", lambda d: d["accused"]),
    )
    for name, hit in measures:
        lines.append(f"  {name:<18}{sum(bool(hit(a)) for a, _ in both):>4} → {sum(bool(hit(b)) for _, b in both)}")
    for a, b in both:
        if a["lenient"] != b["lenient"]:
            lines.append(f"  {b['kind']} {b['seed']}: rank {a['lenient'] or '–'} → {b['lenient'] or '–'}")
    return "\n".join(lines)


def fitted(drills: Sequence[Observed], held_out: Sequence[Floats], without_kind: dict[str, list[Floats]]) -> str:
    """How often drills that the weights were not fitted on were answered right: other worlds, and kinds of fault never met."""
    lines = [f"{'':<20}{'drills':>8}{'rank 1':>8}{'first 3':>8}   kind left out of the fit: {'rank 1':>7}{'first 3':>8}"]
    met: dict[str, list[int]] = defaultdict(list)
    asked: dict[str, list[int]] = defaultdict(list)
    for drill, chances in zip(drills, held_out, strict=True):
        if drill.kind != NOTHING:
            met[drill.kind].append(_rank(drill, chances))
            asked[drill.signal].append(_rank(drill, chances))
    never = {kind: [_rank(drill, p) for drill, p in zip((d for d in drills if d.kind == kind), without_kind[kind], strict=True)] for kind in met}
    whole = [list(chain.from_iterable(found.values())) for found in (met, never)]
    for name, ours, unmet in [*((kind, met[kind], never[kind]) for kind in sorted(met)), ("all", *whole)]:
        cells = [_share(float(np.mean(np.array(found) <= k))) for found in (ours, unmet) for k in (1, 3)]
        lines.append(f"{name:<20}{len(ours):>8}{cells[0]:>8}{cells[1]:>8}   {cells[2]:>33}{cells[3]:>8}")
    lines += [
        f"{'asked: ' + signal:<20}{len(found):>8}" + "".join(f"{_share(float(np.mean(np.array(found) <= k))):>8}" for k in (1, 3))
        for signal, found in asked.items()
    ]
    error = np.std(np.array(whole[0]) == 1) / np.sqrt(max(len(whole[0]), 1))
    lines.append(f"standard error of rank 1: {100 * error:.1f} points")
    firsts = [(float(p.max()), bool(drill.candidates.right[p.argmax()])) for drill, p in zip(drills, held_out, strict=True) if len(p)]
    return "\n".join([*lines, reliability(firsts)])


def _rank(drill: Observed, chances: Floats) -> int:
    order = np.argsort(-chances, kind="stable")
    return next((place for place, n in enumerate(order, 1) if drill.candidates.right[n]), len(order) + 1)
