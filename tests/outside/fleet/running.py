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
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass, field
from pathlib import Path

import psycopg

from wirbel.runtime.database import free_port

ROOT = Path(__file__).resolve().parents[3]
ROLES = ("rates", "berths", "tariffs", "gate")
"""What one of each is. A second one of a role is named ``tariffs 2``."""
STARTS_WITHIN_S = 30
VERSIONS = ("2.1.0", "2.2.0", "2.2.0", "2.3.0")  # of the app, in the order of requests


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
    at: dict[str, str]  # addresses by name: a role, and the number of its second instance
    database: str
    users: Users
    environment: dict[str, str]
    processes: dict[str, subprocess.Popen[bytes]] = field(default_factory=dict)

    def start(self, name: str) -> None:
        command = [sys.executable, "-m", "tests.outside.fleet.program", name.split()[0], self.at[name].rpartition(":")[2]]
        self.processes[name] = subprocess.Popen(command, env=self.environment, cwd=ROOT)

    def stop(self, name: str) -> None:
        self.processes[name].terminate()
        self.processes[name].wait(30)

    def switch(self, role: str, fault: str) -> AbstractContextManager[None]:
        return self._between(f"{self.at[role]}/control/{fault}/on", f"{self.at[role]}/control/{fault}/off")

    def pool_of(self, size: int, usual: int) -> AbstractContextManager[None]:
        return self._between(f"{self.at['berths']}/control/pool/{size}", f"{self.at['berths']}/control/pool/{usual}")

    def slow_provider(self, seconds: float) -> AbstractContextManager[None]:
        return self._between(f"{self.at['rates']}/takes/{seconds}", f"{self.at['rates']}/takes/0.002")

    def failing_provider(self, share: float) -> AbstractContextManager[None]:
        return self._between(f"{self.at['rates']}/fails/{share}", f"{self.at['rates']}/fails/0")

    @contextmanager
    def without(self, name: str) -> Iterator[None]:
        """Nobody listens at its address any more."""
        self.stop(name)
        yield
        self.start(name)

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
    def cut_connections(self, every_s: float) -> Iterator[None]:
        """The database ends whatever its client's connections are at."""
        over = threading.Event()
        cut = "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid <> pg_backend_pid() AND query LIKE 'SELECT pg_sleep%'"

        def end() -> None:
            with psycopg.connect(self.database, autocommit=True) as connection:
                while not over.wait(every_s):
                    connection.execute(cut)

        ender = threading.Thread(target=end)
        ender.start()
        yield
        over.set()
        ender.join()

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
def running(collector: str, database: str, names: Sequence[str], environment: str) -> Iterator[Fleet]:
    """The fleet and its users, at work; what it sends goes to ``collector``, as of an ``environment``."""
    prepare(database)
    at = {name: f"http://127.0.0.1:{free_port(0)}" for name in names}
    fleet = Fleet(
        at,
        database,
        Users(at["gate"]),
        {
            **os.environ,
            **{f"FLEET_{role.upper()}": " ".join(at[name] for name in names if name.split()[0] == role) for role in ROLES},
            "FLEET_DATABASE": database,
            "OTEL_EXPORTER_OTLP_ENDPOINT": collector,
            "OTEL_RESOURCE_ATTRIBUTES": f"deployment.environment.name={environment}",
            "OTEL_INSTRUMENTATION_HTTP_CAPTURE_HEADERS_SERVER_REQUEST": "x-app-version",
        },
    )
    try:
        for name in names:
            fleet.start(name)
        for name in names:
            if name != "rates":
                wait_until(lambda name=name: is_ready(f"{at[name]}/control/ready"), STARTS_WITHIN_S)
        asking = threading.Thread(target=fleet.users.run)
        asking.start()
        yield fleet
        fleet.users.stopped.set()
        asking.join()
    finally:
        for name in fleet.processes:
            fleet.stop(name)
