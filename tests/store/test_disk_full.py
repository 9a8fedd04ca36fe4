"""A disk that fills up for real: senders are told to wait, nothing acknowledged is lost, and it goes on by itself."""

from __future__ import annotations

import http.client
import os
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import psycopg
import pytest

from tests.conftest import ROOT
from tests.core import test_otlp_logs as log_requests
from wirbel.runtime.database import EmbeddedDatabase, free_port
from wirbel.runtime.processes import server_command

DISK_MB, LEAST_FREE_MB, BALLAST_MB = 320, 60, 80
WITHIN_S = 60


@pytest.fixture
def small_disk(tmp_path: Path) -> Iterator[Path]:
    disk = tmp_path / "disk"
    disk.mkdir()
    for folder in (disk, *disk.parents[:4]):
        folder.chmod(0o755)
    if subprocess.run(["mount", "-t", "tmpfs", "-o", f"size={DISK_MB}m,mode=755", "tmpfs", str(disk)], capture_output=True).returncode:
        pytest.skip("this machine lets nobody mount a small disk")
    yield disk
    subprocess.run(["umount", "-l", str(disk)], check=True)


def send(port: int, token: str, body: bytes) -> tuple[int, str, str | None]:
    connection = http.client.HTTPConnection("127.0.0.1", port, timeout=30)
    connection.request("POST", "/v1/logs", body, {"Authorization": f"Bearer {token}", "Content-Type": "application/x-protobuf"})
    answer = connection.getresponse()
    return answer.status, answer.read().decode(errors="replace"), answer.headers.get("Retry-After")


def test_a_full_disk_is_told_to_senders_and_recovers(small_disk: Path) -> None:
    database = EmbeddedDatabase(small_disk)
    database.start(0)
    environment = {
        **os.environ,
        "WIRBEL_DATABASE_URL": database.url(),
        "WIRBEL_HOME": str(small_disk),
        "WIRBEL_ROOT": str(ROOT),
        "WIRBEL_LEAST_FREE_MB": str(LEAST_FREE_MB),
    }
    made = subprocess.run([sys.executable, "-m", "wirbel", "token", "t"], env=environment, capture_output=True, text=True, check=True, cwd=ROOT)
    token, port = made.stdout.strip(), free_port(0)
    server = subprocess.Popen(server_command(port), env=environment)
    ballast = small_disk / "ballast"
    ballast.write_bytes(bytes(BALLAST_MB * 2**20))
    rng = np.random.default_rng(1)
    taken: list[int] = []

    def deliver(number: int) -> int:
        noise = rng.bytes(600_000).hex()  # which no compression makes smaller than its bytes
        status, body, retry = send(port, token, log_requests.request({"body": f"{number} {noise}", "time_unix_nano": time.time_ns()}))
        if status == 200:
            taken.append(number)
        else:
            assert (status, int(retry or 0) > 0) == (503, True), body
            assert "MB left" in body
        return status

    def until(wanted: int, first: int) -> None:
        deadline = time.monotonic() + WITHIN_S
        number = first
        while deliver(number) != wanted:
            assert time.monotonic() < deadline
            number += 1

    try:
        deadline = time.monotonic() + WITHIN_S
        while True:
            try:
                send(port, token, b"")
                break
            except OSError:
                assert time.monotonic() < deadline
                time.sleep(0.1)
        with psycopg.connect(database.url()) as session:
            began = session.execute("SELECT pg_postmaster_start_time()").fetchone()
        until(503, 0)  # the disk fills
        before = len(taken)
        assert before > 5
        ballast.unlink()  # somebody makes room
        until(200, 10_000)
        with psycopg.connect(database.url()) as session:
            assert session.execute("SELECT pg_postmaster_start_time()").fetchone() == began  # it never went down
            assert session.execute("SELECT sum(rows) FROM store_segment").fetchone() == (len(taken),)
    finally:
        server.terminate()
        server.wait(20)
        database.stop()
