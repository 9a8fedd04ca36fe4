"""Senders that keep a real server busy: durable accept under load, and how soon a record can be seen."""

from __future__ import annotations

import gzip
import http.client
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from urllib.parse import urlparse

import numpy as np

from wirbel.runtime import processes
from wirbel.runtime.database import free_port
from wirbel.runtime.environment import home
from wirbel.runtime.processes import SERVER_PROCESSES, server_commands, worker_command

SENDERS = 32  # as many services that export at once
IDLE_S = 2.0  # after which a connection is opened anew: servers close those that nobody uses


@contextmanager
def serving(workers: int = 0) -> Iterator[str]:
    """A server, and workers if wanted, on the benchmark's database; yields the address."""
    port = free_port(0)
    children = [processes.start(command) for command in server_commands(port, SERVER_PROCESSES, home()) + [worker_command()] * workers]
    url = f"http://127.0.0.1:{port}"
    try:
        while not _answers(url):
            time.sleep(0.1)
        yield url
    finally:
        processes.end(children)


def _answers(url: str) -> bool:
    try:
        connection = http.client.HTTPConnection(urlparse(url).netloc, timeout=2)
        connection.request("GET", "/api/session")
        return connection.getresponse().status == 401
    except OSError:
        return False


def send_all(url: str, token: str, path: str, bodies: list[bytes], a_second: float | None = None) -> tuple[float, np.ndarray]:
    """Sends every body, at a fixed pace or as fast as answers come; seconds it took, and of each answer."""
    began = time.perf_counter()
    took = send_on_time(url, token, path, [(index / a_second if a_second else 0.0, body) for index, body in enumerate(bodies)])
    return time.perf_counter() - began, took


def send_on_time(url: str, token: str, path: str, bodies: list[tuple[float, bytes]]) -> np.ndarray:
    """Sends every body at its time, s from now on, or as soon as a sender is free; seconds that each answer took."""
    packed = [gzip.compress(body, 1) for _, body in bodies]
    headers = {"Authorization": f"Bearer {token}", "Content-Type": "application/x-protobuf", "Content-Encoding": "gzip"}
    took = np.zeros(len(packed))
    next_body = iter(range(len(packed)))
    guard = threading.Lock()
    began = time.perf_counter()

    def sender() -> None:
        connection = http.client.HTTPConnection(urlparse(url).netloc, timeout=60)
        while True:
            with guard:
                index = next(next_body, None)
            if index is None:
                return
            idle = began + bodies[index][0] - time.perf_counter()
            if idle > IDLE_S:
                connection.close()
            time.sleep(max(0.0, idle))
            at = time.perf_counter()
            connection.request("POST", path, packed[index], headers)
            answer = connection.getresponse()
            answer.read()
            took[index] = time.perf_counter() - at
            assert answer.status == 200, answer.status

    threads = [threading.Thread(target=sender) for _ in range(SENDERS)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    return took


def run_together(programs: list[str]) -> float:
    """Seconds from the first one's beginning to the last one's end, as they tell; all wait until all are ready."""
    running = [subprocess.Popen([sys.executable, "-c", code], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) for code in programs]
    for process in running:
        assert process.stdout is not None
        assert process.stdout.readline() == "ready\n"
    for process in running:
        assert process.stdin is not None
        process.stdin.write("go\n")
        process.stdin.flush()
    told = [process.stdout.readline() for process in running if process.stdout is not None]
    times = [[float(word) for word in line.split()] for line in told]
    return max(end for _, end in times) - min(begin for begin, _ in times)
