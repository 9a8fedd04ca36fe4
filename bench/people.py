"""People who look at a running server, and what its processes take."""

from __future__ import annotations

import http.client
import json
import os
import secrets
import threading
import time
from collections import defaultdict
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import urlencode, urlparse

import numpy as np
from django.conf import settings
from django.contrib.auth import BACKEND_SESSION_KEY, HASH_SESSION_KEY, SESSION_KEY
from django.contrib.sessions.backends.db import SessionStore

from wirbel.accounts.models import Person, Role


def signed_in() -> str:
    """The cookie of somebody who is, and may ask for causes: signing in is measured elsewhere."""
    person, _ = Person.objects.get_or_create(username=f"looks-{secrets.token_hex(4)}", role=Role.RESPONDER)
    session = SessionStore()
    session.update({SESSION_KEY: str(person.pk), BACKEND_SESSION_KEY: settings.AUTHENTICATION_BACKENDS[0], HASH_SESSION_KEY: person.get_session_auth_hash()})
    session.save()
    return f"{settings.SESSION_COOKIE_NAME}={session.session_key}"


class Looker:
    """One browser: one connection, one question after the other."""

    def __init__(self, url: str) -> None:
        self._connection = http.client.HTTPConnection(urlparse(url).netloc, timeout=120)
        self._cookie = signed_in()

    def rest(self) -> None:
        """Servers close connections that nobody uses; the next question opens one."""
        self._connection.close()

    def ask(self, path: str, **asked: str) -> tuple[float, bytes]:
        """Seconds it took, and the answer."""
        return self._asked("GET", f"{path}?{urlencode(asked)}", None, {})

    def order(self, path: str, **given: object) -> tuple[float, bytes]:
        """The same of something that is to be done."""
        secret = secrets.token_hex(16)
        headers = {"X-CSRFToken": secret, "Cookie": f"{self._cookie}; {settings.CSRF_COOKIE_NAME}={secret}", "Content-Type": "application/json"}
        return self._asked("POST", path, json.dumps(given), headers)

    def _asked(self, method: str, address: str, body: str | None, headers: dict[str, str]) -> tuple[float, bytes]:
        began = time.perf_counter()
        self._connection.request(method, address, body, {"Cookie": self._cookie, **headers})
        answer = self._connection.getresponse()
        told = answer.read()
        assert answer.status in (200, 201), (address, answer.status, told[:300])
        return time.perf_counter() - began, told


@dataclass
class Look:
    """What somebody asks again and again: name, and how long each answer took."""

    took: dict[str, list[float]]

    def quantiles(self, name: str) -> tuple[float, float]:
        return tuple(np.quantile(self.took[name], (0.5, 0.95)))  # type: ignore[return-value]


Question = tuple[str, str, dict[str, str]]
"""What it is called, its path, and what is asked."""


def look(url: str, people: int, seconds: float, every_s: float, question: Callable[[bytes], Question], warm_s: float = 0.0) -> Look:
    """So many people who ask for the ribbon and, having seen it, a question every so many seconds, each from another moment on.

    What was asked in the first ``warm_s`` seconds is left out: a server that has just started has read nothing yet.
    """
    took: dict[str, list[float]] = defaultdict(list)
    failed: list[BaseException] = []
    began = time.monotonic()
    until = began + seconds

    def one(number: int, looker: Looker) -> None:
        try:
            time.sleep(every_s * number / people)
            while time.monotonic() < until:
                turn = time.monotonic()
                ribbon_s, ribbon = looker.ask("/api/ribbon", environment="production")
                name, path, asked = question(ribbon)
                answer_s, _ = looker.ask(path, **asked)
                if turn - began >= warm_s:
                    took["ribbon"].append(ribbon_s)
                    took[name].append(answer_s)
                time.sleep(max(0.0, every_s - (time.monotonic() - turn)))
                looker.rest()
        except BaseException as error:
            failed.append(error)

    threads = [threading.Thread(target=one, args=(number, Looker(url))) for number in range(people)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    if failed:
        raise failed[0]
    return Look(took)


def memory_mb(of: Sequence[int]) -> list[float]:
    """The most that each process has taken so far."""
    return [_status_mb(pid, "VmHWM") for pid in of]


def shared_mb(of: Sequence[int]) -> float:
    """What is counted more than once in the sum of :func:`memory_mb`: files, mostly libraries, that all of them have mapped."""
    return min(_status_mb(pid, "RssFile") for pid in of) * (len(of) - 1)


def _status_mb(pid: int, name: str) -> float:
    lines = Path(f"/proc/{pid}/status").read_text().splitlines()
    return float(next(line.split()[1] for line in lines if line.startswith(name))) / 1024


def server_processes() -> list[int]:
    """Children of this process that serve."""
    found = []
    for folder in Path("/proc").glob("[0-9]*"):
        try:
            words = (folder / "cmdline").read_bytes().split(b"\0")
            parent = next(line.split()[1] for line in (folder / "status").read_text().splitlines() if line.startswith("PPid"))
        except (OSError, StopIteration):
            continue
        if b"wirbel.server.run" in words and int(parent) == os.getpid():
            found.append(int(folder.name))
    return found
