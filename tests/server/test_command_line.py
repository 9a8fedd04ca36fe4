"""`load` and `diagnose` from outside: what a script sees."""

from __future__ import annotations

import gzip
import json
from pathlib import Path

import pytest
from google.protobuf import json_format

from tests.builders import request
from tests.conftest import Instance, make_database
from wirbel.core.text import rfc3339

BEGIN = 1_750_000_000 * 10**9


@pytest.fixture(scope="module")
def empty(instance: Instance, tmp_path_factory: pytest.TempPathFactory) -> Instance:
    """The command line on a database of its own that holds nothing."""
    from dataclasses import replace

    return replace(instance, database=make_database("wirbel_files"), home=tmp_path_factory.mktemp("home"))


def otlp_line(number: int, slow: bool) -> str:
    """One request in the OTLP JSON mapping: hexadecimal ids."""
    start = BEGIN + number * 10 * 10**9
    took = 900 if slow else 100
    message = request(
        {"trace_id": (number + 1).to_bytes(16, "big"), "span_id": b"root" + number.to_bytes(4, "big"), "start_time_unix_nano": start, "end_time_unix_nano": start + (took + number % 9) * 10**6, "name": "GET /stock"},
        {"trace_id": (number + 1).to_bytes(16, "big"), "span_id": b"call" + number.to_bytes(4, "big"), "parent_span_id": b"root" + number.to_bytes(4, "big"), "kind": 3, "name": "SELECT",
         "start_time_unix_nano": start + 10**6, "end_time_unix_nano": start + (took - 20) * 10**6, "attributes": {"db.system": "postgresql", "net.peer.name": "stock-db", "db.statement": "SELECT n FROM stock WHERE id = 3"}},
        resource={"service.name": "stock"},
    )  # fmt: skip
    record = json_format.MessageToDict(message)
    import base64

    for span in record["resourceSpans"][0]["scopeSpans"][0]["spans"]:
        for name in ("traceId", "spanId", "parentSpanId"):
            if name in span:
                span[name] = base64.b64decode(span[name]).hex()
    return json.dumps(record)


@pytest.fixture(scope="module")
def files(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Path]:
    folder = tmp_path_factory.mktemp("files")
    lines = [otlp_line(n, slow=n >= 120) for n in range(200)]
    traces = folder / "traces.jsonl.gz"
    traces.write_bytes(gzip.compress(("\n".join(lines) + "\nnot json\n{}\n").encode()))
    changes = folder / "changes.jsonl"
    changes.write_text(
        json.dumps({"id": "c1", "kind": "config", "at": rfc3339(BEGIN + 1195 * 10**9), "service": "stock"}) + "\n" + json.dumps({"kind": "deploy"}) + "\n"
    )
    return traces, changes


def test_load_counts_what_was_stored_and_refused_and_twice_is_once(empty: Instance, files: tuple[Path, Path]) -> None:
    first = empty.command("load", *map(str, files))
    assert first.returncode == 0, first.stderr
    assert "stored 400 spans\n" in first.stdout
    assert "refused 1: a line is not JSON" in first.stdout
    assert "stored 1 changes\n" in first.stdout
    assert "at: is missing" in first.stdout
    assert first.stderr == ""
    again = empty.command("load", *map(str, files))
    assert "stored nothing" in again.stdout
    assert "200 requests were stored before" in again.stdout
    assert "1 changes were stored before" in again.stdout
    assert "stored 1 changes" not in again.stdout


def test_diagnose_prints_the_contract(empty: Instance, files: tuple[Path, Path]) -> None:
    empty.command("load", *map(str, files))
    done = empty.command(
        "diagnose", "--service", "stock", "--signal", "latency", "--from", rfc3339(BEGIN + 1200 * 10**9), "--to", rfc3339(BEGIN + 2000 * 10**9), "--json"
    )
    assert done.returncode == 0, done.stderr
    found = json.loads(done.stdout)
    assert set(found) == {"symptom", "focus", "reference", "effect", "onset", "candidates", "unexplained", "took_ms"}
    assert found["symptom"] == {"service": "stock", "operation": None, "signal": "latency"}
    assert found["reference"]["chosen"] == "auto"
    assert found["effect"]["delta"] == pytest.approx(0.8, abs=0.01)
    assert found["effect"]["low"] <= found["effect"]["delta"] <= found["effect"]["high"]
    first = found["candidates"][0]
    assert set(first) == {"rank", "entity", "mechanism", "confidence", "explains", "onset", "change", "evidence"}
    assert first["entity"] == {"kind": "database", "service": None, "name": "stock-db", "attributes": {"server.address": "stock-db"}}
    assert all(set(e) == {"kind", "for", "text", "weight", "link"} for e in first["evidence"])


@pytest.mark.parametrize(
    ("words", "status", "says"),
    [
        (["--signal", "latency", "--from", "2025-06-15T15:00:00Z", "--to", "2025-06-15T16:00:00Z"], 2, "--service"),
        (["--service", "s", "--signal", "joy", "--from", "2025-06-15T15:00:00Z", "--to", "2025-06-15T16:00:00Z"], 2, "invalid choice"),
        (["--service", "s", "--signal", "latency", "--from", "2025-06-15T15:00:00", "--to", "2025-06-15T16:00:00Z"], 2, "no zone"),
        (["--service", "s", "--signal", "latency", "--from", "2025-06-15T15:00:00Z", "--to", "2025-06-15T16:00:00Z"], 1, "no requests of s"),
        (["--service", "s", "--signal", "latency", "--from", "2025-06-15T16:00:00Z", "--to", "2025-06-15T15:00:00Z"], 2, "end after it starts"),
        (
            [
                "--service",
                "s",
                "--signal",
                "latency",
                "--from",
                "2025-06-15T15:00:00Z",
                "--to",
                "2025-06-15T16:00:00Z",
                "--reference-from",
                "2025-06-15T14:00:00Z",
                "--reference-to",
                "2025-06-15T15:30:00Z",
            ],
            2,
            "overlap",
        ),
    ],
)
def test_wrong_calls_say_what_is_wrong(empty: Instance, words: list[str], status: int, says: str) -> None:
    done = empty.command("diagnose", *words, "--json")
    assert done.returncode == status
    assert says in done.stderr
    assert done.stdout == ""


def test_a_file_that_is_not_there_keeps_no_other_from_being_loaded(empty: Instance, files: tuple[Path, Path], tmp_path: Path) -> None:
    broken = tmp_path / "broken.jsonl.gz"
    broken.write_bytes(b"\x1f\x8b and no more of it")
    one = {"kind": "deploy", "at": "2025-06-15T15:00:00Z", "service": "late"}
    last = tmp_path / "last.jsonl"
    last.write_text(json.dumps(one) + "\n")
    done = empty.command("load", "/nowhere/at-all.jsonl", str(broken), str(last))
    assert done.returncode == 1
    assert "/nowhere/at-all.jsonl cannot be read" in done.stderr
    assert "broken.jsonl.gz: stored nothing\n  refused 1: the file is damaged" in done.stdout
    assert "last.jsonl: stored 1 changes" in done.stdout


def test_the_demo_answer_from_the_command_line(instance: Instance) -> None:
    done = instance.command(
        "diagnose", "--service", "quay-web", "--signal", "latency", "--from", rfc3339(instance.made - 24 * 60 * 10**9), "--to", rfc3339(instance.made), "--json"
    )
    assert done.returncode == 0, done.stderr
    first = json.loads(done.stdout)["candidates"][0]
    assert (first["entity"]["name"], first["change"]) == ("berth-planner", instance.fault_change)
