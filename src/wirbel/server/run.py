"""One process of the web server: ``python -m wirbel.server.run PORT [SOCKET]`` takes telemetry and asks the one that answers
questions, ``python -m wirbel.server.run SOCKET``.

Several share a port: the kernel spreads connections over all processes that listen on it. Without a socket one answers by itself.
"""

from __future__ import annotations

import os
import socket
import sys
from pathlib import Path

import uvicorn

from wirbel.server import slow_senders

HOST = "127.0.0.1"
LAST_WORDS_S = 3  # for requests under way when the server is stopped


def listen(port: int) -> socket.socket:
    listener = socket.socket()
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEPORT, 1)
    listener.bind((HOST, port))
    return listener


def listen_privately(path: Path) -> socket.socket:
    """On a Unix socket that only this user can reach."""
    path.unlink(missing_ok=True)
    listener = socket.socket(socket.AF_UNIX)
    before = os.umask(0o177)
    try:
        listener.bind(str(path))
    finally:
        os.umask(before)
    return listener


def take(port: int, questions: str | None) -> None:
    if questions:
        os.environ["WIRBEL_QUESTIONS"] = questions
    config = uvicorn.Config(
        "wirbel.server.asgi:application", http=slow_senders.Protocol, log_level="warning", server_header=False, timeout_graceful_shutdown=LAST_WORDS_S
    )
    uvicorn.Server(config).run(sockets=[listen(port)])


def answer(path: Path) -> None:
    config = uvicorn.Config("wirbel.server.asgi:application", log_level="warning", server_header=False, timeout_graceful_shutdown=LAST_WORDS_S)
    uvicorn.Server(config).run(sockets=[listen_privately(path)])


def main() -> None:
    where, *more = sys.argv[1:]
    if where.isdigit():
        take(int(where), more[0] if more else None)
    else:
        answer(Path(where))


if __name__ == "__main__":
    main()
