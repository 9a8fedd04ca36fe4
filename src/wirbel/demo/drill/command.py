"""``./wirbel drill``: runs drills, prints their marks, compares runs, explains faults."""

from __future__ import annotations

import argparse
import json
import os
from pathlib import Path
from typing import Any

from wirbel.core.diagnosis.weighing import load
from wirbel.core.errors import InvalidQuestion
from wirbel.demo import faults
from wirbel.demo.drill import batch, digest, explain, fit, run, tables
from wirbel.demo.drill.batch import OTHER, OWN, RANDOM, SKERRY_LINE, Drill
from wirbel.demo.other.happen import TROUBLES
from wirbel.demo.telemetry.habits import NAMED
from wirbel.runtime.database import say

ALL = "all"


def kinds_of(name: str, world: str = SKERRY_LINE) -> list[str]:
    """Raises InvalidQuestion, naming the kinds there are in a world."""
    known = list(TROUBLES if world == OTHER else faults.FAULTS)
    wanted = known if name == ALL else name.split(",")
    for kind in wanted:
        if kind not in known:
            raise InvalidQuestion(f"there is no fault {kind!r}; there are {', '.join(known)}")
    return wanted


def seeds_of(text: str) -> list[int]:
    """``1-20`` or ``3`` or ``1,4,7-9``. Raises InvalidQuestion."""
    found: list[int] = []
    for part in text.split(","):
        first, _, last = part.partition("-")
        if not first.isdigit() or (last and not last.isdigit()) or (last and int(last) < int(first)):
            raise InvalidQuestion(f"seeds are numbers and stretches of them, such as 1-20; not {text!r}")
        found += range(int(first), int(last or first) + 1)
    return found


def habits_of(name: str) -> str:
    """Raises InvalidQuestion, naming the habits there are."""
    if name != OWN and name not in NAMED:
        raise InvalidQuestion(f"nobody has the habits {name!r}; there are {', '.join([OWN, *NAMED])}")
    return name


def _kept(file: Path) -> dict[str, Any]:
    """Results of an earlier run. Raises InvalidQuestion if the file holds none."""
    try:
        found = json.loads(file.read_text())
    except (OSError, ValueError) as error:
        raise InvalidQuestion(f"{file} cannot be read as results of drills: {error}") from error
    if not isinstance(found, dict) or "drills" not in found:
        raise InvalidQuestion(f"{file} holds no results of drills.")
    return found


def main(arguments: argparse.Namespace, folder: Path) -> int:
    """``folder`` is where results are kept."""
    if arguments.list:
        print("\n".join(f"{name:20}{kind.about.splitlines()[0]}" for name, kind in faults.FAULTS.items()))
        print(f"habits: {', '.join([OWN, *NAMED])}")
        return 0
    try:
        if arguments.compare:
            print(tables.comparison(*(_kept(Path(name)) for name in arguments.compare)))
            return 0
        kinds, seeds, habits = kinds_of(arguments.fault, arguments.world), seeds_of(arguments.seeds), habits_of(arguments.habits)
    except InvalidQuestion as error:
        say(str(error))
        return 2
    if arguments.explain:
        for kind in kinds:
            say(f"wrote {explain.write(kind, seeds[0], Path(arguments.explain))}")
        return 0
    at_once = arguments.jobs or max(1, os.cpu_count() or 1)
    if arguments.fit:
        return _fit(fit.drills_of(RANDOM, kinds, seeds), at_once, folder)
    _warn_of_old_weights()
    if arguments.stored:
        results = run.run(os.environ["WIRBEL_DATABASE_URL"], kinds, seeds, say, at_once)
    else:
        results = run.in_memory([Drill(arguments.world, kind, seed, habits, arguments.reference) for kind in kinds for seed in seeds], say, at_once, folder)
    file = run.keep(results, folder)
    say(f"kept as {file}")
    print(json.dumps(results) if arguments.json else tables.results(results))
    return 0


def _fit(drills: list[Drill], at_once: int, folder: Path) -> int:
    """What was observed is kept by the code that observed it, so that a fit goes on where it was stopped."""
    found = []
    for number, (drill, observed) in enumerate(batch.run("watched", drills, at_once, folder), 1):
        say(f"{number}/{len(drills)}  {drill.kind} {drill.seed}: {'nothing to learn' if observed is None else f'{len(observed.entities)} candidates'}")
        found += [observed] if observed is not None else []
    fit.write(fit.weights(found), fit.FILE)
    say(f"wrote {fit.FILE}")
    print(tables.fitted(found, fit.held_out(found), fit.without_kind(found)))
    return 0


def _warn_of_old_weights() -> None:
    if load().fitted["sources"] != digest.of_observations():
        say("the sources of evidence are newer than the weights: ./wirbel drill --fit fits them again")
