"""Shared parts: spans made by hand, and one real instance (server, worker, database) for outside tests."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
import urllib.error
import urllib.request
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import psycopg
import pytest

# Playwright's synchronous API runs an event loop in the test's thread; Django's guard against
# blocking one does not apply to tests.
os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "true"
ROOT = Path(__file__).resolve().parents[1]
START_TIMEOUT_S = 60
WATCH_TIMEOUT_S = 240
SEED = 1  # of the demo


@dataclass(frozen=True)
class Instance:
    """A running Wirbel with the demo's history, as `./wirbel demo --quiet` has it."""

    url: str
    database: str
    home: Path
    name: str
    password: str
    token: str
    made: int

    @property
    def fault_change(self) -> str:
        """The change that is at fault in the demo."""
        from wirbel.demo.history import GOING_ON, going_on

        change = going_on(SEED, self.made, GOING_ON).truth.change
        assert change
        return change

    @property
    def environment(self) -> dict[str, str]:
        return {**os.environ, "WIRBEL_DATABASE_URL": self.database, "WIRBEL_HOME": str(self.home), "WIRBEL_ROOT": str(ROOT)}

    def command(self, *words: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run([sys.executable, "-m", "wirbel", *words], capture_output=True, text=True, env=self.environment, timeout=120)

    def post(self, path: str, body: bytes, **headers: str) -> tuple[int, bytes, dict[str, str]]:
        """Sends a body with the ingest token; returns status, body and headers of the answer."""
        sent = {"Authorization": f"Bearer {self.token}", "Content-Type": "application/x-protobuf"} | {k.replace("_", "-"): v for k, v in headers.items()}
        try:
            with urllib.request.urlopen(urllib.request.Request(self.url + path, body, sent), timeout=120) as answer:
                return answer.status, answer.read(), dict(answer.headers)
        except urllib.error.HTTPError as error:
            return error.code, error.read(), dict(error.headers)


def pytest_xdist_make_scheduler(config: pytest.Config, log: Any) -> Any:
    """Tests of files that use the running instance go to one worker, so that only one instance is made; all others one by one to any."""
    from xdist.scheduler import LoadScopeScheduling

    class Grouped(LoadScopeScheduling):
        def _split_scope(self, nodeid: str) -> str:
            return "instance" if _uses_instance(nodeid.partition("::")[0]) else nodeid

    return Grouped(config, log)


@cache
def _uses_instance(file: str) -> bool:
    return "Instance" in (ROOT / file).read_text() or file.startswith("tests/browser/")


def make_database(name: str) -> str:
    """A new database beside the one of the test run, for this worker alone; returns its address."""
    base = os.environ["WIRBEL_DATABASE_URL"]
    name += os.environ.get("PYTEST_XDIST_WORKER", "")
    with psycopg.connect(base, autocommit=True) as connection:
        connection.execute(f'DROP DATABASE IF EXISTS "{name}" WITH (FORCE)')
        connection.execute(f'CREATE DATABASE "{name}"')
    return base.rsplit("/", 1)[0] + f"/{name}"


FILL = """
import json, sys
from wirbel.runtime import environment
with environment.database():
    from wirbel.demo.start import _fill
    print(json.dumps(_fill(seed=1)))
"""


def _await_watch(database: str, made: int) -> None:
    """Until the watch has read the demo's history: what it finds does not change any more then."""
    deadline = time.monotonic() + WATCH_TIMEOUT_S
    with psycopg.connect(database, autocommit=True) as connection:
        while connection.execute("SELECT 1 FROM watch_position WHERE until >= %s", [made - 60 * 10**9]).fetchone() is None:
            assert time.monotonic() < deadline, "the watch did not read the history"
            time.sleep(0.3)


@pytest.fixture(scope="session")
def instance(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Instance]:
    home = tmp_path_factory.mktemp("home")
    database = make_database("wirbel_instance")
    environment = {**os.environ, "WIRBEL_DATABASE_URL": database, "WIRBEL_HOME": str(home), "WIRBEL_ROOT": str(ROOT)}
    filled = subprocess.run([sys.executable, "-c", FILL], env=environment, capture_output=True, text=True, check=True)
    state = json.loads(filled.stdout.strip().splitlines()[-1])
    from wirbel.runtime.database import free_port
    from wirbel.runtime.processes import server_commands, worker_command

    port = free_port(0)
    children = [subprocess.Popen(command, env=environment) for command in [*server_commands(port, 2, home), worker_command()]]
    url = f"http://127.0.0.1:{port}"
    deadline = time.monotonic() + START_TIMEOUT_S
    while True:
        try:
            urllib.request.urlopen(f"{url}/api/session")
        except urllib.error.HTTPError:
            break
        except OSError:
            assert time.monotonic() < deadline, "the server did not start"
            time.sleep(0.1)
    _await_watch(database, state["made"])
    yield Instance(url, database, home, "skipper", state["password"], state["token"], state["made"])
    for child in children:
        child.terminate()
    for child in children:
        child.wait(15)
