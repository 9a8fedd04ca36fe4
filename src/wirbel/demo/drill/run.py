"""Runs many drills, each in a fresh database of its own, several at a time; keeps what came out."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import psycopg

from wirbel.core.errors import WirbelError
from wirbel.demo.drill import batch
from wirbel.demo.drill.batch import Drill
from wirbel.demo.drill.grade import Grade, grade, summary

TEMPLATE = "drill_template"
LONGEST_S = 300  # of one step of a drill


class DrillFailed(WirbelError):
    """A step of a drill ended with an error, which is in the message."""


@contextmanager
def database(server: str, name: str) -> Iterator[str]:
    """A fresh database with Wirbel's tables, dropped afterwards; yields its address."""
    with psycopg.connect(server, autocommit=True) as connection:
        connection.execute(f'CREATE DATABASE "{name}" TEMPLATE "{TEMPLATE}"')
    try:
        yield server.rsplit("/", 1)[0] + f"/{name}"
    finally:
        with psycopg.connect(server, autocommit=True) as connection:
            connection.execute(f'DROP DATABASE "{name}" WITH (FORCE)')


def make_template(server: str) -> None:
    with psycopg.connect(server, autocommit=True) as connection:
        if connection.execute("SELECT 1 FROM pg_database WHERE datname = %s", [TEMPLATE]).fetchone():
            return
        connection.execute(f'CREATE DATABASE "{TEMPLATE}"')
    code = "from wirbel.runtime import environment\nwith environment.database(): pass"
    _step([sys.executable, "-c", code], server.rsplit("/", 1)[0] + f"/{TEMPLATE}")


def _step(command: list[str], address: str) -> str:
    done = subprocess.run(command, env={**os.environ, "WIRBEL_DATABASE_URL": address}, capture_output=True, text=True, timeout=LONGEST_S)
    if done.returncode:
        raise DrillFailed(f"{' '.join(command[2:5])} failed: {done.stderr.strip()[-1500:]}")
    return done.stdout


Result = tuple[Grade, dict[str, Any], dict[str, Any]]
"""The marks, the answer and the truth of a drill."""


def one(server: str, kind: str, seed: int) -> Result:
    """One drill through the store."""
    with tempfile.TemporaryDirectory(prefix="wirbel-truth-") as folder, database(server, f"drill_{kind}_{seed}_{os.getpid()}") as address:
        truth_file = Path(folder) / "truth.json"
        module = [sys.executable, "-m"]
        _step([*module, "wirbel.demo.drill.fill", kind, str(seed), str(truth_file)], address)
        truth = json.loads(truth_file.read_text())
        answer = json.loads(_step([*module, "wirbel.demo.drill.answer", str(truth["start"]), str(truth["asked"]), folder], address))
        return grade(truth, answer, seed), answer, truth


def run(server: str, kinds: list[str], seeds: list[int], say: Callable[[str], None], at_once: int) -> dict[str, Any]:
    """All drills of some kinds and seeds; the results in order, whatever ended first."""
    make_template(server)
    wanted = [(kind, seed) for kind in kinds for seed in seeds]
    began, done = time.monotonic(), 0

    def drill(pair: tuple[str, int]) -> Result:
        nonlocal done
        result = one(server, *pair)
        done += 1
        marks = result[0]
        say(f"{done}/{len(wanted)}  {pair[0]} {pair[1]}: {'seen' if marks.detected else 'not seen'}, rank {marks.lenient or '–'}")
        return result

    with ThreadPoolExecutor(at_once) as pool:
        return _results(list(pool.map(drill, wanted)), began)


def in_memory(drills: list[Drill], say: Callable[[str], None], at_once: int, folder: Path) -> dict[str, Any]:
    """Drills without a database, in order; those whose fault would be felt nowhere in their world are left out."""
    began, done = time.monotonic(), []
    for number, (drill, result) in enumerate(batch.run("graded", drills, at_once, folder), 1):
        name = f"{number}/{len(drills)}  {drill.kind} {drill.seed}"
        if result is None:
            say(f"{name}: would be felt nowhere in this world")
            continue
        say(f"{name}: {'seen' if result[0].detected else 'not seen'}, rank {result[0].exact or '–'}")
        done.append(result)
    return _results(done, began)


def _results(results: list[Result], began: float) -> dict[str, Any]:
    grades = [marks for marks, _, _ in results]
    kinds = list(dict.fromkeys(marks.kind for marks in grades))
    return {
        "made": datetime.now(UTC).isoformat(timespec="seconds"),
        "seconds": round(time.monotonic() - began, 1),
        "overall": summary(grades),
        "kinds": {kind: summary([g for g in grades if g.kind == kind]) for kind in kinds},
        "drills": [marks.as_dict() | {"answer": answer, "truth": truth} for marks, answer, truth in results],
    }


def keep(results: dict[str, Any], folder: Path) -> Path:
    """Kept results, so that two runs can be compared."""
    folder.mkdir(parents=True, exist_ok=True)
    file = folder / f"{results['made'].replace(':', '').replace('+0000', 'Z')}.json"
    file.write_text(json.dumps(results))
    return file
