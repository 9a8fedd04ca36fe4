"""Server, worker and PostgreSQL are killed at random moments under load: what was acknowledged is there, once."""

from __future__ import annotations

import http.client
import json
import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from urllib.parse import urlparse

import numpy as np
import pytest

from tests.conftest import ROOT
from tests.core import test_otlp_logs as log_requests
from tests.core import test_otlp_metrics as metric_requests
from wirbel.runtime.database import EmbeddedDatabase, free_port, is_free
from wirbel.runtime.processes import server_command, worker_command

KILLS = int(os.environ.get("WIRBEL_KILLS", "9"))  # 50 were done by hand, see docs/operations.md
SETTLES_WITHIN_S = 90
COUNT = """
import json
from wirbel.runtime import environment
with environment.database():
    from tests.store.test_store import WIDE, recount
    from wirbel.core import cells
    from wirbel.store import blocks, reading
    from wirbel.store.models import Block, Segment
    ever = (0, 2**62)
    with reading.snapshot():  # the worker goes on merging
        tables = blocks.read(Block.objects.filter(stream="spans"))
        spans = [i.hex() for t in tables for i in t["span_id"].to_pylist()]
        samples = [int(v) for t in blocks.read(Block.objects.filter(stream="points", step=0)) for v in t["value"].to_pylist()]
        lines = reading.logs(*ever)["body"].to_pylist()
        counted = recount(reading.cells(*ever)) == recount(cells.derive(reading.window_spans(*ever)))
        waiting = Segment.objects.count()
    print(json.dumps({"spans": spans, "points": samples, "logs": lines, "cells": counted, "waiting": waiting}))
"""


class Sender(threading.Thread):
    """Sends one body after another, each until it is acknowledged, as an exporter does."""

    def __init__(self, url: str, token: str, path: str, number: int) -> None:
        super().__init__(daemon=True)
        self.url, self.token, self.path, self.first = url, token, path, number * 10**6
        self.acknowledged: list[int] = []
        self.unavailable = 0
        self.stop = threading.Event()

    def run(self) -> None:
        number = self.first
        while not self.stop.is_set():
            number += 1
            body = self._body(number)
            while not self._send(body):
                time.sleep(0.05)
            self.acknowledged.append(number)

    def _body(self, number: int) -> bytes:
        now = time.time_ns()
        if self.path == "/v1/logs":
            return log_requests.request({"body": f"{number}", "time_unix_nano": now})
        if self.path == "/v1/metrics":
            return metric_requests.request(metric_requests.metric("gauge", as_int=number, time_unix_nano=now, attributes={"sender": self.first}))
        from tests.builders import request

        ids = {"trace_id": number.to_bytes(16, "big"), "span_id": number.to_bytes(8, "big")}
        return request({**ids, "start_time_unix_nano": now - 10**7, "end_time_unix_nano": now}).SerializeToString()

    def _send(self, body: bytes) -> bool:
        try:
            connection = http.client.HTTPConnection(urlparse(self.url).netloc, timeout=20)
            connection.request("POST", self.path, body, {"Authorization": f"Bearer {self.token}", "Content-Type": "application/x-protobuf"})
            answer = connection.getresponse()
            answer.read()
        except (OSError, http.client.HTTPException):
            return False
        if answer.status == 503:
            assert int(answer.headers["Retry-After"]) > 0
            self.unavailable += 1
        assert answer.status in (200, 503), answer.status
        return answer.status == 200


def wait_until(condition: Callable[[], bool]) -> None:
    deadline = time.monotonic() + SETTLES_WITHIN_S
    while not condition():
        assert time.monotonic() < deadline, "it did not come to pass"
        time.sleep(0.05)


@pytest.fixture
def database(tmp_path: Path):  # type: ignore[no-untyped-def]
    """A PostgreSQL of its own, to be killed."""
    for folder in (tmp_path, *tmp_path.parents[:3]):
        folder.chmod(0o755)
    made = EmbeddedDatabase(tmp_path)
    made.start(0)
    yield made
    made.stop()


def test_kill_9_of_everything_loses_and_doubles_nothing(database: EmbeddedDatabase, tmp_path: Path) -> None:
    port, database_port = free_port(0), database.port
    environment = {**os.environ, "WIRBEL_DATABASE_URL": database.url(), "WIRBEL_HOME": str(tmp_path), "WIRBEL_ROOT": str(ROOT), "PYTHONPATH": str(ROOT)}

    def run(*words: str) -> str:
        return subprocess.run([sys.executable, *words], env=environment, capture_output=True, text=True, check=True, cwd=ROOT).stdout

    token = run("-m", "wirbel", "token", "killer").strip()

    def start(name: str) -> subprocess.Popen[bytes]:
        return subprocess.Popen(server_command(port) if name == "server" else worker_command(), env=environment, stderr=subprocess.DEVNULL)

    running = {name: start(name) for name in ("server", "worker")}
    url = f"http://127.0.0.1:{port}"
    senders = [Sender(url, token, path, number) for number, path in enumerate(["/v1/traces", "/v1/logs", "/v1/metrics", "/v1/traces"], 1)]
    for sender in senders:
        sender.start()
    rng = np.random.default_rng(11)
    for kill in range(KILLS):
        before = [len(sender.acknowledged) for sender in senders]
        wait_until(lambda before=before: all(len(s.acknowledged) > n + 3 for s, n in zip(senders, before, strict=True)))  # type: ignore[misc]
        time.sleep(float(rng.uniform(0.0, 1.5)))  # a random moment is the point
        if kill % 3 == 2:
            told = sum(sender.unavailable for sender in senders)
            os.kill(int((database.folder / "postmaster.pid").read_text().split()[0]), signal.SIGKILL)
            wait_until(lambda: not database.is_running())
            wait_until(lambda told=told: sum(sender.unavailable for sender in senders) > told)  # type: ignore[misc]
            assert database.start(database_port)
            assert database.port == database_port
        victim = ("server", "worker")[kill % 2]
        running[victim].kill()
        running[victim].wait()
        for name, process in running.items():
            if process.poll() is not None:  # a worker ends when its database goes; whoever runs it starts it again
                running[name] = start(name)
    for sender in senders:
        sender.stop.set()
    for sender in senders:
        sender.join(60)
        assert not sender.is_alive()
    running = {name: process if process.poll() is None else start(name) for name, process in running.items()}
    acknowledged = {path: sorted(n for s in senders if s.path == path for n in s.acknowledged) for path in ("/v1/traces", "/v1/logs", "/v1/metrics")}
    deadline = time.monotonic() + SETTLES_WITHIN_S
    while (found := json.loads(run("-c", COUNT)))["waiting"]:  # the worker goes on by itself
        assert time.monotonic() < deadline, "something waits that nobody packs"
        time.sleep(0.5)
        running = {name: process if process.poll() is None else start(name) for name, process in running.items()}
    for process in running.values():
        process.terminate()
    for process in running.values():
        process.wait(20)
    assert all(len(numbers) > KILLS for numbers in acknowledged.values())
    assert sorted(int(one, 16) for one in found["spans"]) == acknowledged["/v1/traces"]
    assert sorted(int(one) for one in found["logs"]) == acknowledged["/v1/logs"]
    assert sorted(found["points"]) == acknowledged["/v1/metrics"]
    assert found["cells"]
    assert sum(sender.unavailable for sender in senders) > 0  # while the database was away they were told so


def asked(url: str, path: str) -> tuple[int, float, str | None]:
    """Status, seconds until the answer, and when to ask again."""
    began = time.monotonic()
    connection = http.client.HTTPConnection(urlparse(url).netloc, timeout=30)
    connection.request("GET", path, headers={"Cookie": "sessionid=abcdefghijklmnopqrstuvwxyz012345"})  # looked up
    answer = connection.getresponse()
    answer.read()
    return answer.status, time.monotonic() - began, answer.headers.get("Retry-After")


def test_an_embedded_database_that_is_killed_is_started_again_and_meanwhile_all_are_told(tmp_path: Path) -> None:
    for folder in (tmp_path, *tmp_path.parents[:3]):
        folder.chmod(0o755)
    home, port = tmp_path / "home", free_port(0)
    environment = {name: value for name, value in os.environ.items() if name != "WIRBEL_DATABASE_URL"}
    environment |= {"WIRBEL_HOME": str(home), "WIRBEL_ROOT": str(ROOT), "PYTHONPATH": str(ROOT)}
    words = [sys.executable, "-m", "wirbel"]
    server = subprocess.Popen([*words, "serve", "--port", str(port), "--db-port", str(free_port(0))], env=environment, stderr=subprocess.DEVNULL, cwd=ROOT)
    url, database = f"http://127.0.0.1:{port}", EmbeddedDatabase(home)
    try:
        wait_until(lambda: not is_free(port) and database.lives())
        made = subprocess.run([*words, "token", "killer"], env=environment, capture_output=True, text=True, check=True, cwd=ROOT)
        sender = Sender(url, made.stdout.strip(), "/v1/logs", 1)
        sender.start()
        wait_until(lambda: len(sender.acknowledged) > 5)
        assert asked(url, "/api/session")[0] == 401  # nobody is signed in

        def number() -> str:
            """Of the server's process; empty while there is none."""
            note = database.folder / "postmaster.pid"
            return note.read_text().partition("\n")[0] if note.exists() else ""

        before, first = len(sender.acknowledged), number()
        os.kill(int(first), signal.SIGKILL)
        told = []

        def is_back() -> bool:
            told.append(asked(url, "/api/session"))
            return told[-1][0] == 401 and len(sender.acknowledged) > before + 5 and number() not in ("", first)

        wait_until(is_back)
        assert {(status, again) for status, _, again in told} <= {(401, None), (503, "1")}
        assert max(seconds for _, seconds, _ in told) < 5
        sender.stop.set()
        sender.join(30)
        counted = subprocess.run([sys.executable, "-c", COUNT], env=environment, capture_output=True, text=True, check=True, cwd=ROOT).stdout
        assert sorted(map(int, json.loads(counted)["logs"])) == sender.acknowledged
    finally:
        server.terminate()
        server.wait(30)
