"""How passwords are kept and checked: a few at a time, so that nothing else waits for them."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager

from django.contrib.auth.hashers import Argon2PasswordHasher

AT_ONCE = 1  # in a process: a check takes a processor and 19 MB for some hundredths of a second
MOST_WAITING = 30
PATIENCE_S = 5.0
_turns, _waiting = threading.BoundedSemaphore(AT_ONCE), threading.BoundedSemaphore(MOST_WAITING)


class Hasher(Argon2PasswordHasher):
    """Argon2id as the OWASP Password Storage Cheat Sheet has it: 19 MiB, two passes, one thread. What was kept with more is kept anew at the next sign-in."""

    time_cost = 2
    memory_cost = 19 * 1024
    parallelism = 1


class TooManyAtOnce(Exception):
    """More people sign in at this moment than can be checked."""


@contextmanager
def turn() -> Iterator[None]:
    """While a password is checked; raises TooManyAtOnce."""
    if not _waiting.acquire(blocking=False):
        raise TooManyAtOnce
    try:
        if not _turns.acquire(timeout=PATIENCE_S):
            raise TooManyAtOnce
        try:
            yield
        finally:
            _turns.release()
    finally:
        _waiting.release()
