"""Child processes that live as long as the command in the foreground."""

from __future__ import annotations

import ctypes
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from wirbel.runtime.database import CannotStart, EmbeddedDatabase, say

STOP_TIMEOUT_S = 10
LOOK_S = 0.3
FIRST_PAUSE_S, LONGEST_PAUSE_S = 1.0, 30.0  # before a child that has ended is started again: twice as long each time
SOUND_S = 60.0  # a child that has lived so long was sound
SERVER_PROCESSES = 2  # that take telemetry: to decode it keeps one of them busy
LONGEST_SOCKET = 100  # bytes of the path of a Unix socket (unix(7): 108); where the folder's is longer, each process answers by itself
PR_SET_PDEATHSIG = 1  # linux/prctl.h


def server_command(port: int) -> list[str]:
    """One process of the web server, which answers questions by itself; several of the same port share its connections."""
    return [sys.executable, "-m", "wirbel.server.run", str(port)]


def server_commands(port: int, processes: int, home: Path) -> list[list[str]]:
    """Processes that share a port, and the one that answers their questions."""
    questions = home / "questions.sock"
    if len(bytes(questions)) > LONGEST_SOCKET:
        return [server_command(port)] * processes
    return [[*server_command(port), str(questions)]] * processes + [[sys.executable, "-m", "wirbel.server.run", str(questions)]]


def worker_command() -> list[str]:
    return [sys.executable, "-m", "wirbel", "worker"]


class Stopped(Exception):
    """The command was asked to stop."""


_libc = ctypes.CDLL(None)


def _die_with_parent() -> None:
    """In a child: however its parent ends, even killed, it is asked to stop."""
    _libc.prctl(PR_SET_PDEATHSIG, signal.SIGTERM)


def start(command: list[str]) -> subprocess.Popen[bytes]:
    """In a session of its own, so that Ctrl-C reaches it through us, in order."""
    return subprocess.Popen(command, start_new_session=True, preexec_fn=_die_with_parent)


@dataclass
class _Child:
    command: list[str]
    process: subprocess.Popen[bytes]
    began: float
    pause_s: float = FIRST_PAUSE_S
    again_at: float | None = None  # when it is started again

    @classmethod
    def of(cls, command: list[str]) -> _Child:
        return cls(command, start(command), time.monotonic())

    def look(self) -> None:
        """Starts it again some time after it has ended."""
        now = time.monotonic()
        if self.again_at is None and (status := self.process.poll()) is not None:
            self.pause_s = FIRST_PAUSE_S if now - self.began > SOUND_S else self.pause_s
            say(f"{' '.join(self.command[1:])} ended with status {status}; it is started again in {self.pause_s:g} s")
            self.again_at, self.pause_s = now + self.pause_s, min(self.pause_s * 2, LONGEST_PAUSE_S)
        elif self.again_at is not None and now >= self.again_at:
            self.process, self.began, self.again_at = start(self.command), now, None


@dataclass
class _Database:
    embedded: EmbeddedDatabase
    pause_s: float = FIRST_PAUSE_S
    again_at: float = 0.0

    def look(self) -> None:
        """Starts the server again where it has ended; after a failure some time later."""
        if self.embedded.lives():
            self.pause_s = FIRST_PAUSE_S
        elif time.monotonic() >= self.again_at:
            say("the database has ended; it is started again")
            try:
                self.embedded.start_again()
            except CannotStart as error:
                say(f"{error}; tried again in {self.pause_s:g} s")
                self.again_at, self.pause_s = time.monotonic() + self.pause_s, min(self.pause_s * 2, LONGEST_PAUSE_S)


def run_until_stopped(commands: list[list[str]], database: EmbeddedDatabase | None, ready: Callable[[], None] | None = None) -> int:
    """Starts the commands, and again what ends, the embedded database too. Ctrl-C, or the end of its terminal, ends all: status 0."""

    def on_signal(*_: object) -> None:
        raise Stopped

    previous = {number: signal.signal(number, on_signal) for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)}
    children: list[_Child] = []
    kept = [] if database is None else [_Database(database)]
    try:
        children += [_Child.of(command) for command in commands]
        if ready:
            ready()
        while True:
            for server in kept:
                server.look()
            for child in children:
                child.look()
            time.sleep(LOOK_S)
    except Stopped:
        return 0
    finally:
        for number, handler in previous.items():
            signal.signal(number, signal.SIG_IGN if handler is None else handler)
        end([child.process for child in children])


def end(processes: list[subprocess.Popen[bytes]]) -> None:
    """Asks them to stop, and ends those that do not."""
    for process in processes:
        process.terminate()
    for process in processes:
        try:
            process.wait(STOP_TIMEOUT_S)
        except subprocess.TimeoutExpired:
            process.kill()
