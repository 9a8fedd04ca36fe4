"""`./wirbel detect` on a file, from outside: what it prints, and with which status it ends."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from datetime import datetime
from pathlib import Path

import numpy as np
import pytest

BEGAN = 1_772_006_400
DAY = 1440


def detect(*words: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run([sys.executable, "-m", "wirbel", "detect", *words], text=True, capture_output=True, env={**os.environ, "WIRBEL_DATABASE_URL": ""})


@pytest.fixture(scope="module")
def file(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Three days of two machines by the minute; one of them works hard for an hour and is silent for another."""
    rng = np.random.default_rng(1)
    file = tmp_path_factory.mktemp("series") / "load.csv"
    rows = ["when,machine,load"]
    for machine in ("left", "right"):
        level = 40 + 8 * np.sin(2 * np.pi * np.arange(3 * DAY) / DAY) + 2 * rng.standard_normal(3 * DAY)
        if machine == "right":
            level[2 * DAY + 300 : 2 * DAY + 360] += 25
            level[2 * DAY + 600 : 2 * DAY + 660] = np.nan
        rows += [f"{BEGAN + 60 * n},{machine},{value:.3f}" for n, value in enumerate(level) if np.isfinite(value)]
    file.write_text("\n".join(rows) + "\n")
    return file


def test_the_contract_of_deviations(file: Path) -> None:
    done = detect("--file", str(file), "--time", "when", "--value", "load", "--by", "machine", "--json")
    assert done.returncode == 0, done.stderr
    found = json.loads(done.stdout)  # nothing else is on standard output
    late = [d for d in found["deviations"] if datetime.fromisoformat(d["onset"]).timestamp() > BEGAN + 2 * DAY * 60]
    assert [(d["direction"], d["series"]) for d in late] == [
        ("high", {"metric": "load", "service": None, "attributes": {"machine": "right"}}),
        ("absent", {"metric": "load", "service": None, "attributes": {"machine": "right"}}),
    ]
    high, absent = late
    assert datetime.fromisoformat(high["onset"]).timestamp() == pytest.approx(BEGAN + 60 * (2 * DAY + 300), abs=60)
    assert 0 <= (datetime.fromisoformat(high["noticed_at"]) - datetime.fromisoformat(high["onset"])).total_seconds() <= 600
    assert high["peak"]["actual"] > high["peak"]["high"] > high["peak"]["expected"] > high["peak"]["low"]
    assert high["surprise_bits"] > 20
    assert absent["peak"]["actual"] is None
    groups = {member: one for one in found["disturbances"] for member in one["deviations"]}
    assert set(groups) == {d["id"] for d in found["deviations"]}
    assert groups[high["id"]]["first"] == high["id"]
    assert groups[high["id"]]["from"] == high["onset"]


def test_people_are_told_in_sentences(file: Path) -> None:
    done = detect("--file", str(file), "--time", "when", "--value", "load", "--by", "machine", "--budget", "1/day")
    assert done.returncode == 0
    assert "load right high" in done.stdout
    assert "load right absent, nothing where" in done.stdout
    assert "was expected; noticed " in done.stdout


@pytest.mark.parametrize(
    ("words", "status", "why"),
    [
        (["--time", "when", "--value", "weight"], 2, "no column 'weight'"),
        (["--time", "when", "--value", "load", "--budget", "often"], 2, "write N/week"),
        (["--time", "when", "--value", "load", "--budget", "0/week"], 2, "from 0.001 to 1000"),
        (["--time", "when", "--value", "load", "--zone", "Atlantis"], 2, "No time zone"),
        (["--time", "when", "--value", "load", "--holidays", "XX"], 2, "No public holidays"),
        (["--value", "load"], 2, "--time"),
    ],
)
def test_wrong_calls_say_what_is_wrong(file: Path, words: list[str], status: int, why: str) -> None:
    done = detect("--file", str(file), *words)
    assert done.returncode == status
    assert why in done.stderr
    assert "Traceback" not in done.stderr
    assert done.stdout == ""


def test_a_file_that_is_not_there_and_one_that_is_too_short(tmp_path: Path) -> None:
    assert detect("--file", str(tmp_path / "none.csv"), "--time", "t", "--value", "v").returncode == 1
    short = tmp_path / "short.csv"
    short.write_text("t,v\n1,1\n2,2\n3,3\n")
    done = detect("--file", str(short), "--time", "t", "--value", "v", "--json")
    assert done.returncode == 0
    assert json.loads(done.stdout) == {"deviations": [], "disturbances": []}
    assert "too few values" in done.stderr
    # Nobody is told that nothing departs where nothing was judged.
    assert detect("--file", str(short), "--time", "t", "--value", "v").stdout == "Nothing was judged.\n"
    calm, values = tmp_path / "calm.csv", 50 + 2 * np.random.default_rng(2).standard_normal(DAY)
    calm.write_text("t,v,of\n" + "".join(f"{BEGAN + 60 * n},{value:.3f},long\n" for n, value in enumerate(values)) + f"{BEGAN},high,long\n{BEGAN},1,short\n")
    done = detect("--file", str(calm), "--time", "t", "--value", "v", "--by", "of", "--budget", "0.1/week")
    assert (done.returncode, done.stdout) == (0, "Nothing departs from what is expected.\n")
    assert "row 1441 ('high')" in done.stderr
    assert "short has 1 values" in done.stderr


def test_whoever_has_read_enough_gets_no_traceback(file: Path) -> None:
    words = [sys.executable, "-m", "wirbel", "detect", "--file", str(file), "--time", "when", "--value", "load", "--by", "machine", "--json"]
    with subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env={**os.environ, "WIRBEL_DATABASE_URL": ""}) as reading:
        assert reading.stdout
        assert reading.stderr
        reading.stdout.close()
        told = reading.stderr.read()
    assert (reading.returncode, "Traceback" in told) == (141, False), told
