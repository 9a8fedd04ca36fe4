"""Results of drills as tables for people."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

HEADS = ("drills", "seen", "delay", "lead", "before", "exact 1", "3", "5", "lenient 1", "3", "5", "mechanism", "change", "onset off", "accused", "took")


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
    return "\n".join(lines)


def _cells(found: dict[str, Any]) -> list[str]:
    return [
        str(found["drills"]),
        _share(found["detected"]),
        _seconds(found["delay_s"]),
        _seconds(found["lead_s"]),
        _share(found["seen_before"]),
        *(_share(found[f"exact_{k}"]) for k in (1, 3, 5)),
        *(_share(found[f"lenient_{k}"]) for k in (1, 3, 5)),
        _share(found["mechanism"]),
        _share(found["change"]),
        _seconds(found["onset_error_s"]),
        _share(found["accused_innocents"]),
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
