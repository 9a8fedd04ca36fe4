"""Drills: the truth stays hidden, marks are what they should be, and one real drill from beginning to end."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from wirbel.core.errors import InvalidQuestion
from wirbel.core.signals.changes import Change
from wirbel.demo import faults
from wirbel.demo.drill import before, explain, run, scene, tables
from wirbel.demo.drill.command import habits_of, kinds_of, seeds_of
from wirbel.demo.drill.grade import grade, innocents, summary
from wirbel.demo.drill.plain import METHODS, Given
from wirbel.demo.world.skerry import SKERRY

TRUTH = {
    "kind": "bad-canary",
    "entities": [["instance", "fare-engine-a7"], ["service", "fare-engine"]],
    "mechanisms": ["deploy", "slower-work"],
    "services": ["fare-engine"],
    "change": "deploy-1",
    "onset": 1_772_000_000 * 10**9,
    "end": 1_772_003_600 * 10**9,
    "hurts": True,
    "begins": 1_772_000_000 * 10**9,
    "seen_before": False,
}


def candidate(kind: str, name: str, service: str | None = None, confidence: float = 0.8, mechanism: str = "slower-work", change: str | None = None):  # type: ignore[no-untyped-def]
    return {"entity": {"kind": kind, "name": name, "service": service, "attributes": {}}, "confidence": confidence, "mechanism": mechanism, "change": change}


def told(after_s: float, plain_s: float | None = None, entity: tuple[str, str] = ("service", "quay-web"), metric: str = "p95", disturbance: int = 1):  # type: ignore[no-untyped-def]
    at, threshold = (None if s is None else TRUTH["onset"] + int(s * 1e9) for s in (after_s, plain_s))
    return {"at": at, "threshold": threshold, "entity": list(entity), "service": entity[1], "metric": metric, "disturbance": disturbance}


NOTICED = (told(-3600), told(90), told(120, 420))


def answered(*candidates, seen_after_s: float | None = 120.0, noticed=NOTICED, onset: str = "2026-02-25T06:13:50Z"):  # type: ignore[no-untyped-def]
    at = None if seen_after_s is None else TRUTH["onset"] + int(seen_after_s * 1e9)
    return {
        "seen": at and {"service": "quay-web", "signal": "latency", "onset": at, "detected": at, "bits": 20.0},
        "noticed": noticed,
        "diagnosis": {"candidates": list(candidates), "onset": {"at": onset}},
        "plain": {"n-sigma": ["quay-web", "fare-engine"], "nearest change": ["identity"]},
        "took_s": 1.0,
    }


def test_marks_of_an_answer() -> None:
    wrong, right = candidate("service", "quay-web", "quay-web"), candidate("instance", "fare-engine-a7", "fare-engine", 0.6, change="deploy-1")
    marks = grade(TRUTH, answered(wrong, right), seed=1)
    assert (marks.exact, marks.lenient, marks.mechanism, marks.change, marks.accused) == (2, 2, True, True, True)
    assert (marks.detected, marks.delay_s, marks.lead_s, marks.onset_error_s) == (True, 90.0, 330.0, 30.0)  # by what was noticed first, wherever
    assert marks.plain == {"n-sigma": 2, "nearest change": None}
    lenient = grade(TRUTH, answered(candidate("operation", "GET /x", "fare-engine", mechanism="errors")), seed=1)
    assert (lenient.exact, lenient.lenient, lenient.mechanism, lenient.change, lenient.accused) == (None, 1, False, False, False)
    unsure = grade(TRUTH, answered(candidate("service", "quay-web", "quay-web", 0.3)), seed=1)
    assert (unsure.lenient, unsure.accused) == (None, False)
    changes = [
        grade(TRUTH, answered(candidate("service", "quay-web", "quay-web", 0.3, change=change)), seed=1).accused_change
        for change in (None, "deploy-1", "deploy-2")
    ]
    assert changes == [False, False, True]  # however sure it is
    missed = grade(TRUTH, answered(seen_after_s=None), seed=1)
    assert (missed.detected, missed.delay_s, missed.lenient) == (False, None, None)
    assert not grade(TRUTH, answered(seen_after_s=-600), seed=1).detected  # noticed before there was anything


def test_what_runs_short_where_the_fault_is_may_be_noticed_first() -> None:
    """And its plain threshold may tell first: both are on the same series."""
    short = "process.memory.usage"
    there, elsewhere = told(30, 75, ("service", "fare-engine"), short), told(10, 20, ("service", "identity"), short)
    marks = grade(TRUTH, answered(noticed=(*NOTICED, there, elsewhere)), seed=1)
    assert (marks.delay_s, marks.lead_s) == (30.0, 45.0)


@pytest.mark.parametrize(("numbers", "count"), [((4, 4), 1), ((4, 5), 2)])
def test_it_is_counted_how_many_disturbances_people_were_told_of_one_fault(numbers: tuple[int, int], count: int) -> None:
    """Early warnings hurt nobody, and are others."""
    felt = [told(90 + 30 * n, disturbance=number) for n, number in enumerate(numbers)]
    early = told(-300, metric="process.memory.usage", entity=("service", "fare-engine"), disturbance=3)
    marks = grade(TRUTH | {"begins": TRUTH["onset"] - 600 * 10**9}, answered(noticed=(early, *felt)), seed=1)
    assert marks.disturbances == count
    assert summary([marks])["one_disturbance"] == float(count == 1)


def test_a_database_is_named_by_its_namespace_or_its_address() -> None:
    truth = TRUTH | {"entities": [["database", "berth-db"]], "services": []}
    named = candidate("database", "berths at berth-db")
    named["entity"]["attributes"] = {"db.namespace": "berths", "server.address": "berth-db"}
    assert grade(truth, answered(named), seed=1).exact == 1
    named["entity"]["attributes"] = {"db.namespace": "berths", "server.address": "manifest-db"}
    assert grade(truth, answered(named), seed=1).exact is None


def test_the_summary_counts_quiet_drills_apart() -> None:
    right = grade(TRUTH, answered(candidate("service", "fare-engine", "fare-engine")), seed=1)
    quiet = grade(
        TRUTH | {"kind": "nothing-wrong", "entities": [], "services": [], "change": None}, answered(candidate("service", "manifest", "manifest")), seed=2
    )
    found = summary([right, quiet])
    assert (found["drills"], found["exact_1"], found["false_accusations"], found["false_alarms"], found["accused_innocents"]) == (2, 1.0, 1.0, 1.0, 0.0)
    assert found["accused_changes"] == 0.0
    kept = {"overall": found, "kinds": {"bad-canary": summary([right])}, "made": "now", "drills": []}
    assert "100 %" in tables.results(kept)


def test_innocent_changes_are_counted_by_where_what_and_when_they_were() -> None:
    truth = TRUTH | {"change": "deploy-1"}
    minute = 60 * 10**9
    told = [
        Change(id="deploy-1", kind="deploy", at=TRUTH["onset"], service="fare-engine"),
        Change(id="config-2", kind="config", at=TRUTH["onset"] - 20 * minute, service="fare-engine"),
        Change(id="job-3", kind="job", at=TRUTH["onset"] + 3 * minute, entity={"host.name": "islet-1"}),
    ]
    truth["innocents"] = innocents(truth, told)
    assert [(one["id"], one["on_culprit"], one["lead_s"]) for one in truth["innocents"]] == [("config-2", True, 1200.0), ("job-3", False, -180.0)]
    blamed = grade(truth, answered(candidate("service", "fare-engine", "fare-engine", change="config-2")), seed=1)
    rightly = grade(truth, answered(candidate("service", "fare-engine", "fare-engine", change="deploy-1")), seed=2)
    lines = "\n".join(tables.innocent_changes([marks.innocents for marks in (blamed, rightly)]))
    assert "1 of 2 drills (50 %)" in lines
    for row in (
        "on what is at fault 1 of 2",
        "on others 0 of 2",
        "kind: config 1 of 2",
        "kind: job 0 of 2",
        "15 to 60 min before 1 of 2",
        "after the onset 0 of 2",
    ):
        assert row in " ".join(lines.split()), row


@pytest.mark.parametrize(("kind", "shown"), [("disk-full", True), ("silent-service", True), ("bad-canary", False), ("nothing-wrong", False)])
def test_whether_it_could_be_seen_before_users_were_hurt_is_found_in_the_world(kind: str, shown: bool) -> None:
    """A disk fills for half an hour and a consumer hangs before any front does; a slow version hurts at once."""
    assert before.seen_before(scene.make(SKERRY, kind, 3)) is shown


def test_the_truth_cannot_be_read_by_who_looks_for_the_cause(tmp_path: Path) -> None:
    (tmp_path / "truth.json").write_text(json.dumps(TRUTH))
    ways = (
        "open(truth)",
        "import os; os.open(truth, os.O_RDONLY)",
        "import pathlib; pathlib.Path(truth).read_text()",
        "import os; os.listdir(folder)",
        "import subprocess; subprocess.run(['cat', truth])",
        "import os; os.chdir(folder); open('truth.json')",
        "open(truth.encode())",
        "import os; os.symlink(truth, folder + '-link')",
    )
    for way in ways:
        code = f"from wirbel.demo.drill import sealed\nfrom pathlib import Path\nfolder = {str(tmp_path)!r}\ntruth = folder + '/truth.json'\nsealed.seal(Path(folder))\n{way}"
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
        assert done.returncode == 1, way
        assert "Sealed" in done.stderr, way
    open_elsewhere = f"from wirbel.demo.drill import sealed\nfrom pathlib import Path\nsealed.seal(Path({str(tmp_path)!r}))\nopen({__file__!r}).read()"
    assert subprocess.run([sys.executable, "-c", open_elsewhere], capture_output=True).returncode == 0


def given(culprit: int = 2) -> Given:
    """Four services in a row, each calling the next; the third becomes slow, and so do its callers, more faintly."""
    rng = np.random.default_rng(3)
    minutes = 120
    values = np.zeros((4, 3, minutes))
    base = np.array([0.4, 0.2, 0.1, 0.01])
    noise = 1 + 0.03 * rng.standard_normal((4, minutes))
    values[:, 0] = base[:, None] * noise
    late = np.arange(minutes) >= 100
    for service in range(culprit + 1):
        values[service, 0, late] += 0.3
    values[:, 2] = 1000
    calls = np.eye(4, k=1, dtype=bool)
    names = ["front", "middle", "culprit", "store"]
    return Given(names, values, ~late, late, 0, calls, [(90, "middle"), (101, "culprit")], 100)


def test_plain_methods_do_what_they_are_known_for() -> None:
    answers = {name: method(given())[0] for name, method in METHODS.items()}
    assert answers["n-sigma"] == answers["median and IQR"] == answers["deepest anomalous"] == answers["nearest change"] == "culprit"
    assert "store" not in (answers["correlation"], answers["random walk"])
    assert METHODS["nearest change"](given()) == ["culprit", "middle"]


def test_words_of_the_command() -> None:
    assert seeds_of("1-3,7") == [1, 2, 3, 7]
    assert kinds_of("all") == list(faults.FAULTS)
    for wrong in ("x", "3-1", "", "1,,2"):
        with pytest.raises(InvalidQuestion):
            seeds_of(wrong)
    with pytest.raises(InvalidQuestion, match="bad-deploy"):
        kinds_of("no-such-fault")
    assert "row-lock" in kinds_of("all", "other")
    with pytest.raises(InvalidQuestion, match="row-lock"):
        kinds_of("bad-deploy", "other")
    assert habits_of("no-traces") == "no-traces"
    with pytest.raises(InvalidQuestion, match="no-traces"):
        habits_of("untidy")


def test_confidence_is_held_against_how_often_it_was_right() -> None:
    """Four of five given 0.8 are right: 0.16 is the least that a Brier score of such can be (Brier 1950)."""
    told = tables.reliability([(0.8, True)] * 4 + [(0.8, False)])
    assert "0.7 to 0.9: 80 % of 5, held for 80 %" in told
    assert "Brier score 0.160" in told
    assert tables.reliability([]) == ""


@pytest.mark.parametrize(
    "words",
    [["drill", "--fault", "nope"], ["drill", "--seeds", "0-x"], ["drill", "--compare", "no", "files"], ["demo", "--fault", "nope"], ["demo", "--days", "400"]],
)
def test_a_wrong_call_says_what_is_right(words: list[str]) -> None:
    done = subprocess.run([sys.executable, "-m", "wirbel", *words], capture_output=True, text=True)
    assert done.returncode == 2
    assert "Traceback" not in done.stderr
    assert done.stderr


@pytest.mark.parametrize(
    ("kind", "evidence"),
    [
        ("bad-canary", "| {1} | instance {0} |"),
        ("disk-full", "| system.filesystem.utilization"),
        ("pool-too-small", "| db.client.connection.max"),
        ("zone-loss", "| system.network.tcp.retransmits"),
        ("flag", "| {2} | {0} {1} |"),
        ("silent-service", "| {0} | "),
        ("bot-flood", "| {3} | {0} {1} |"),
    ],
)
def test_a_page_shows_the_evidence_for_a_fault(kind: str, evidence: str) -> None:
    """Among what moved most, found without knowing what to look for."""
    page = "\n".join(explain.page(kind, 1, kept=1 / 90))
    assert "│" in page
    names = [name for _, name in scene.make(SKERRY, kind, 1).fault.truth.entities]
    assert evidence.format(*names) in page[page.index("## Where") :]


def test_a_drill_from_beginning_to_end(tmp_path: Path) -> None:
    """In a fresh database, detection and diagnosis in a process that is shut out from the truth."""
    server = os.environ["WIRBEL_DATABASE_URL"]
    results = run.run(server, ["bad-deploy"], [1], say=lambda _: None, at_once=1)
    marks = results["drills"][0]
    assert marks["detected"]
    assert (marks["exact"], marks["change"], marks["mechanism"]) == (1, True, True)
    assert marks["onset_error_s"] < 180
    file = run.keep(results, tmp_path)
    assert "1 drills in both" in tables.comparison(results, json.loads(file.read_text()))
