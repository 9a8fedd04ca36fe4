"""Questions that another process answers: one that is there, one that is not, one that ends while it is asked; and the real one."""

from __future__ import annotations

import json
import socketserver
import stat
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from django.http import HttpResponse
from django.test import AsyncRequestFactory, RequestFactory
from ninja.errors import HttpError

from tests.api_client import Api
from tests.conftest import Instance
from tests.server.test_api import whole
from wirbel.explore import answerer
from wirbel.inquiry.api import Symptom, _found_there
from wirbel.server.run import listen_privately
from wirbel.store import query_limits

ANSWER = b"HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nContent-Length: 2\r\nAge: 3\r\nSet-Cookie: sessionid=of-somebody\r\nConnection: close\r\n\r\n{}"
QUESTION = RequestFactory().get("/api/overview?environment=a%20b", headers={"Cookie": "sessionid=mine", "Host": "127.0.0.1", "Accept": "x", "X-Other": "y"})


@pytest.fixture
def path(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setenv(answerer.SOCKET, str(tmp_path / "q"))
    monkeypatch.setattr(answerer, "_absent_until", 0.0)
    return tmp_path / "q"


@contextmanager
def there(path: Path, handle: Callable[[socketserver.StreamRequestHandler], None]) -> Iterator[None]:
    handler = type("Handler", (socketserver.StreamRequestHandler,), {"handle": handle})
    server = socketserver.ThreadingUnixStreamServer(str(path), handler, bind_and_activate=False)
    server.socket.close()
    server.socket = listen_privately(path)
    server.server_activate()
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield
    finally:
        server.shutdown()
        server.server_close()


def head(handler: socketserver.StreamRequestHandler) -> bytes:
    return b"".join(iter(lambda: handler.rfile.readline(), b"\r\n"))


def test_a_question_goes_there_with_who_asks_and_its_answer_comes_back(path: Path) -> None:
    seen: list[bytes] = []

    def handle(handler: socketserver.StreamRequestHandler) -> None:
        seen.append(head(handler))
        handler.wfile.write(ANSWER)

    with there(path, handle):
        answer = answerer.asked_there(QUESTION)
        assert stat.S_IMODE(path.stat().st_mode) == 0o600
    assert answer is not None
    assert (answer.status_code, answer.content, dict(answer.headers)) == (200, b"{}", {"Content-Type": "application/json", "Age": "3"})
    assert not answer.cookies
    lines = seen[0].decode().split("\r\n")
    assert lines[0] == "GET /api/overview?environment=a%20b HTTP/1.1"
    assert {"Cookie: sessionid=mine", "Host: 127.0.0.1"} <= set(lines)
    assert not [line for line in lines if line.startswith("X-Other")]


def test_names_go_there_as_they_were_sent(path: Path) -> None:
    seen: list[bytes] = []

    def handle(handler: socketserver.StreamRequestHandler) -> None:
        seen.append(head(handler))
        handler.wfile.write(ANSWER)

    question = AsyncRequestFactory().get("/api/services/team%2Fcheckout?environment=a%20b", headers={"Host": "127.0.0.1"})
    question.scope["raw_path"] = b"/api/services/team%2Fcheckout"  # as servers give it
    with there(path, handle):
        assert answerer.asked_there(question) is not None
    assert seen[0].startswith(b"GET /api/services/team%2Fcheckout?environment=a%20b HTTP/1.1")


def test_where_nobody_is_there_it_is_found_here_and_not_tried_again_at_once(path: Path) -> None:
    assert answerer.asked_there(QUESTION) is None

    def handle(handler: socketserver.StreamRequestHandler) -> None:
        head(handler)  # closed with something unread, a Unix socket loses what was written
        handler.wfile.write(ANSWER)

    with there(path, handle):
        assert answerer.asked_there(QUESTION) is None
        answerer._absent_until = time.monotonic()
        assert answerer.asked_there(QUESTION) is not None


def test_without_a_socket_each_answers_by_itself(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.delenv(answerer.SOCKET, raising=False)
    assert answerer.asked_there(QUESTION) is None


def test_one_that_ends_while_it_is_asked_is_not_waited_for(path: Path) -> None:
    with there(path, lambda handler: head(handler) and None):
        assert answerer.asked_there(QUESTION) is None


def test_a_question_that_nobody_waits_for_is_left(path: Path) -> None:
    left = threading.Event()

    def handle(handler: socketserver.StreamRequestHandler) -> None:
        head(handler)
        bounds.stopped.set()
        assert handler.rfile.read(1) == b""
        left.set()

    bounds = query_limits.Bounds(60.0)
    with there(path, handle):
        with query_limits.bounded(bounds):
            # The API makes an answer of what a view raises; what is raised around one would be in the log as a fault of the program.
            assert answerer.elsewhere(lambda request: HttpResponse(status=499))(QUESTION).status_code == 499
        assert left.wait(10)


SYMPTOM = Symptom(service="mühle", focus_from="2026-01-01T00:00:00Z", focus_to="2026-01-01T00:20:00Z")


@pytest.mark.parametrize(("status", "found"), [(200, {"candidates": []}), (422, "no requests of mühle are stored"), (500, None)])
def test_a_cause_is_found_there_and_what_is_wrong_with_the_question_is_told(path: Path, status: int, found: object) -> None:
    seen: list[bytes] = []

    def handle(handler: socketserver.StreamRequestHandler) -> None:
        seen.append(head(handler))
        body = json.dumps(found if status == 200 else {"detail": found}).encode()
        handler.wfile.write(f"HTTP/1.1 {status} \r\nContent-Length: {len(body)}\r\nConnection: close\r\n\r\n".encode() + body)

    with there(path, handle):
        if status == 422:
            with pytest.raises(HttpError, match=str(found)):
                _found_there(QUESTION, SYMPTOM)
        else:
            assert _found_there(QUESTION, SYMPTOM) == found
    line = seen[0].decode().split("\r\n")[0]
    assert line == "GET /api/cause?service=m%C3%BChle&signal=latency&focus_from=2026-01-01T00%3A00%3A00Z&focus_to=2026-01-01T00%3A20%3A00Z HTTP/1.1"


def test_the_real_one_answers_what_each_would(instance: Instance) -> None:
    socket = instance.home / "questions.sock"
    assert stat.S_IMODE(socket.stat().st_mode) == 0o600
    api = Api(instance)
    asked = "/api/ribbon?environment=production&" + "&".join(f"{name}={value}" for name, value in whole(instance).items())
    through = api.get(asked)
    cookie = "; ".join(f"{one.name}={one.value}" for one in api.cookies)
    connection = answerer._There(str(socket))
    connection.request("GET", asked, headers={"Cookie": cookie, "Host": "127.0.0.1"})
    answer = connection.getresponse()
    assert (answer.status, through[0]) == (200, 200)
    assert json.loads(answer.read()) == through[1]
    connection.request("GET", asked, headers={"Host": "127.0.0.1"})
    assert connection.getresponse().status == 401
    connection.close()
