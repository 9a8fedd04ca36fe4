"""Runs the fleet, asks it as its users would, and makes real faults happen."""

from __future__ import annotations

import contextlib
import itertools
import os
import random
import subprocess
import sys
import threading
import time
import urllib.error
import urllib.request
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass, field
from pathlib import Path

import psycopg

from wirbel.runtime.database import free_port

ROOT = Path(__file__).resolve().parents[3]
ROLES = ("rates", "berths", "tariffs", "gate")
STARTS_WITHIN_S = 30
VERSIONS = ("2.1.0", "2.2.0", "2.2.0", "2.3.0")  # of the app, in the order of requests
ENVIRONMENT = "quay"


def ask(url: str, method: str = "GET", **headers: str) -> bytes:
    named = {name.replace("_", "-"): value for name, value in headers.items()}
    with urllib.request.urlopen(urllib.request.Request(url, method=method, headers=named), timeout=30) as answer:
        return answer.read()


@dataclass
class Users:
    """Ask for bookings, so many a second in the mean, whether or not others are answered."""

    gate: str
    a_second: float = 10.0
    stopped: threading.Event = field(default_factory=threading.Event)

    def run(self) -> None:
        with ThreadPoolExecutor(64) as pool:
            due, chance = time.monotonic(), random.Random(1)
            for number in itertools.count():
                if self.stopped.is_set():
                    return
                pool.submit(self._once, number)
                due += chance.expovariate(self.a_second)
                time.sleep(max(due - time.monotonic(), 0))

    def _once(self, number: int) -> None:
        with contextlib.suppress(urllib.error.URLError, TimeoutError):  # as users of a broken fleet get to see
            ask(f"{self.gate}/bookings/{number * 7919 % 1000}", x_app_version=VERSIONS[number % len(VERSIONS)])


@dataclass
class Fleet:
    at: dict[str, str]  # addresses by role
    database: str
    users: Users

    def switch(self, role: str, fault: str) -> AbstractContextManager[None]:
        return self._between(f"{self.at[role]}/control/{fault}/on", f"{self.at[role]}/control/{fault}/off")

    def pool_of(self, size: int, usual: int) -> AbstractContextManager[None]:
        return self._between(f"{self.at['berths']}/control/pool/{size}", f"{self.at['berths']}/control/pool/{usual}")

    def slow_provider(self, seconds: float) -> AbstractContextManager[None]:
        return self._between(f"{self.at['rates']}/takes/{seconds}", f"{self.at['rates']}/takes/0.002")

    @contextmanager
    def _between(self, begin: str, end: str) -> Iterator[None]:
        ask(begin, "POST")
        yield
        ask(end, "POST")

    @contextmanager
    def more_traffic(self, times: float) -> Iterator[None]:
        usual, self.users.a_second = self.users.a_second, self.users.a_second * times
        yield
        self.users.a_second = usual

    @contextmanager
    def without_index(self) -> Iterator[None]:
        self._do("DROP INDEX berth_ship")
        yield
        self._do("CREATE INDEX berth_ship ON berth (ship)")

    @contextmanager
    def held_lock(self) -> Iterator[None]:
        """Somebody keeps the table that is written to, again and again."""
        over = threading.Event()

        def hold() -> None:
            with psycopg.connect(self.database, autocommit=True) as connection:
                while not over.is_set():
                    connection.execute("BEGIN; LOCK TABLE call IN EXCLUSIVE MODE; SELECT pg_sleep(0.35); COMMIT")
                    over.wait(0.25)

        holder = threading.Thread(target=hold)
        holder.start()
        yield
        over.set()
        holder.join()

    def _do(self, statement: str) -> None:
        with psycopg.connect(self.database, autocommit=True) as connection:
            connection.execute(statement)


def prepare(database: str) -> None:
    with psycopg.connect(database, autocommit=True) as connection:
        connection.execute("CREATE TABLE berth (id serial PRIMARY KEY, ship int NOT NULL, length int NOT NULL, note text NOT NULL)")
        connection.execute("INSERT INTO berth (ship, length, note) SELECT g % 20000, g % 400, repeat('x', 200) FROM generate_series(1, 400000) g")
        connection.execute("CREATE INDEX berth_ship ON berth (ship)")
        connection.execute("CREATE TABLE call (id int PRIMARY KEY, seen int NOT NULL)")
        connection.execute("INSERT INTO call SELECT g, 0 FROM generate_series(0, 499) g")
        connection.execute("VACUUM ANALYZE")


def wait_until(condition: Callable[[], bool], within_s: float) -> None:
    deadline = time.monotonic() + within_s
    while not condition():
        assert time.monotonic() < deadline, "it did not come to pass"
        time.sleep(0.1)


def is_ready(url: str) -> bool:
    try:
        return ask(url) == b"yes"
    except OSError:
        return False


@contextmanager
def running(collector: str, token: str, database: str) -> Iterator[Fleet]:
    """The fleet and its users, at work; what it sends goes to ``collector``."""
    prepare(database)
    at = {role: f"http://127.0.0.1:{free_port(0)}" for role in ROLES}
    environment = {
        **os.environ,
        **{f"FLEET_{role.upper()}": address for role, address in at.items()},
        "FLEET_DATABASE": database,
        "OTEL_EXPORTER_OTLP_ENDPOINT": collector,
        "OTEL_EXPORTER_OTLP_HEADERS": f"Authorization=Bearer {token}",
        "OTEL_RESOURCE_ATTRIBUTES": f"deployment.environment.name={ENVIRONMENT}",
        "OTEL_INSTRUMENTATION_HTTP_CAPTURE_HEADERS_SERVER_REQUEST": "x-app-version",
    }
    processes = [
        subprocess.Popen([sys.executable, "-m", "tests.outside.fleet.program", role, at[role].rpartition(":")[2]], env=environment, cwd=ROOT) for role in ROLES
    ]
    try:
        for role in ROLES[1:]:
            wait_until(lambda role=role: is_ready(f"{at[role]}/control/ready"), STARTS_WITHIN_S)
        users = Users(at["gate"])
        asking = threading.Thread(target=users.run)
        asking.start()
        yield Fleet(at, database, users)
        users.stopped.set()
        asking.join()
    finally:
        for process in processes:
            process.terminate()
        for process in processes:
            process.wait(30)
