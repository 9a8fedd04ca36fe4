"""Who uses a home folder: its database runs as long as anybody does, and one server serves it."""

from __future__ import annotations

import fcntl
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from wirbel.runtime.database import CannotStart, EmbeddedDatabase


@contextmanager
def database(home: Path, port: int) -> Iterator[EmbeddedDatabase]:
    """The embedded database, started if it does not run; whoever uses it last stops it."""
    with _opened(home / "users") as users:
        fcntl.flock(users, fcntl.LOCK_SH)  # waits while it is being stopped
        with _opened(home / "starting") as starting:
            fcntl.flock(starting, fcntl.LOCK_EX)
            embedded = EmbeddedDatabase(home)
            embedded.start(port)
        try:
            yield embedded
        finally:
            fcntl.flock(users, fcntl.LOCK_UN)
            stop_if_unused(home)


def stop_if_unused(home: Path) -> bool:
    """False where somebody uses it."""
    with _opened(home / "users") as users:
        try:
            fcntl.flock(users, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            return False
        embedded = EmbeddedDatabase(home)
        if embedded.is_running():
            embedded.stop()
    return True


@contextmanager
def serving(home: Path) -> Iterator[None]:
    """Raises CannotStart where a server of this folder runs."""
    with _opened(home / "serving") as held:
        try:
            fcntl.flock(held, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError as error:
            number = os.pread(held, 20, 0).decode().strip()
            raise CannotStart(f"Wirbel runs in {home} already (process {number}); stop it, or set WIRBEL_HOME to another folder") from error
        os.ftruncate(held, 0)
        os.pwrite(held, str(os.getpid()).encode(), 0)
        yield


@contextmanager
def _opened(file: Path) -> Iterator[int]:
    """Raises CannotStart where the folder cannot be written."""
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        held = os.open(file, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    except OSError as error:
        raise CannotStart(f"the folder {file.parent} cannot be written ({error.strerror}); set WIRBEL_HOME to one that can") from error
    try:
        yield held
    finally:
        os.close(held)
