"""Asks the process that answers questions: what many look at is computed there, once for all processes that take telemetry.

Python runs one thread at a time, so that a sender would wait for whoever asks something that takes long. Where that process
cannot be reached, for it has just ended or has not begun yet, each answers by itself.
"""

from __future__ import annotations

import http.client
import os
import select
import socket
import time
from collections.abc import Callable
from functools import wraps
from typing import Any

from django.db import connection
from django.http import HttpRequest, HttpResponse

from wirbel.core.errors import WirbelError
from wirbel.store import query_limits

View = Callable[..., HttpResponse]

SOCKET = "WIRBEL_QUESTIONS"  # names the Unix socket of that process
LOOK_S = 0.1  # between two looks at whether somebody still waits
ABSENT_S = 2.0  # for which it is not tried again
ALONG = ("Cookie", "Host")  # headers that go along: who asks, and whether it may be asked under that name

_absent_until = 0.0


class _There(http.client.HTTPConnection):
    def __init__(self, path: str) -> None:
        super().__init__("localhost", timeout=query_limits.LONGEST_S + 5)
        self._path = path

    def connect(self) -> None:
        self.sock = socket.socket(socket.AF_UNIX)
        self.sock.settimeout(self.timeout)
        self.sock.connect(self._path)


def elsewhere(view: View) -> View:
    """Of a view that computes much and changes nothing: found by that process, where there is one."""

    @wraps(view)
    def answered(request: HttpRequest, *more: Any, **named: Any) -> HttpResponse:
        return asked_there(request) or view(request, *more, **named)

    return answered


def asked_there(request: HttpRequest, question: str | None = None) -> HttpResponse | None:
    """The answer to a question that changes nothing, by its address where that is another than the request's; None where it is to be found here."""
    try:
        return _asked_there(request, question or _address(request))
    except WirbelError:  # whoever asked went away, or waited too long: the view says so
        return None


def _asked_there(request: HttpRequest, question: str) -> HttpResponse | None:
    """Raises QuestionStopped and QuestionTooLarge."""
    global _absent_until
    path = os.environ.get(SOCKET)
    if not path or time.monotonic() < _absent_until:
        return None
    there = _There(path)
    try:
        # Closed, its question is stopped there too.
        there.request("GET", question, headers={name: request.headers[name] for name in ALONG if name in request.headers})
        connection.close()  # others may need it meanwhile
        while not select.select([there.sock], [], [], LOOK_S)[0]:
            query_limits.check(0, 0)
        answer = there.getresponse()
        return HttpResponse(
            answer.read(),
            status=answer.status,
            headers={name: answer.headers[name] for name in ("Content-Type", "Age", "Retry-After") if name in answer.headers},
        )
    except (OSError, http.client.HTTPException):
        _absent_until = time.monotonic() + ABSENT_S
        return None
    finally:
        there.close()


def _address(request: HttpRequest) -> str:
    """As it was sent: names of services hold what a path that has been decoded could not tell from its own."""
    raw = getattr(request, "scope", {}).get("raw_path")
    query = request.META.get("QUERY_STRING", "")
    return f"{raw.decode('ascii')}{'?' + query if query else ''}" if raw else request.get_full_path()
