"""Child processes that live as long as the command in the foreground."""

from __future__ import annotations

import signal
import subprocess
import sys
import time
from collections.abc import Callable

STOP_TIMEOUT_S = 10


SERVER_PROCESSES = 2  # so that a long question keeps neither senders nor other people waiting


def server_command(port: int) -> list[str]:
    """One process of the web server; several of the same port share its connections."""
    return [sys.executable, "-m", "wirbel.server.run", str(port)]


def worker_command() -> list[str]:
    return [sys.executable, "-m", "wirbel", "worker"]


class Stopped(Exception):
    """The command was asked to stop."""


def run_until_stopped(commands: list[list[str]], ready: Callable[[], None] | None = None) -> int:
    """Starts the commands, restarts none: if one ends, all end, with its status. Ctrl-C ends all, status 0."""

    def on_signal(*_: object) -> None:
        raise Stopped

    previous = {number: signal.signal(number, on_signal) for number in (signal.SIGINT, signal.SIGTERM)}
    # A session of their own, so that Ctrl-C reaches them through us, in order.
    children: list[subprocess.Popen[bytes]] = []
    try:
        children += [subprocess.Popen(command, start_new_session=True) for command in commands]
        if ready:
            ready()
        while all(child.poll() is None for child in children):
            time.sleep(0.3)
        ended = next(child for child in children if child.poll() is not None)
        print(f"wirbel: {' '.join(map(str, ended.args))} ended with status {ended.returncode}", file=sys.stderr)  # type: ignore[arg-type]
        return 1
    except Stopped:
        return 0
    finally:
        for number, handler in previous.items():
            signal.signal(number, signal.SIG_IGN if handler is None else handler)
        for child in children:
            child.terminate()
        for child in children:
            try:
                child.wait(STOP_TIMEOUT_S)
            except subprocess.TimeoutExpired:
                child.kill()
