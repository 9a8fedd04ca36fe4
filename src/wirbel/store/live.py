"""Telling web servers, and through them open pages, that something new can be seen."""

from __future__ import annotations

import time

from django.db import connection

CHANNEL = "wirbel_live"
OFTEN_S = 1.0  # a process tells no more often of what it took: to notify holds up whoever else commits; what was packed is told always
_told_at = -OFTEN_S


def announce(what: str) -> None:
    """When the transaction commits."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_notify(%s, %s)", [CHANNEL, what])


def announce_taken(what: str) -> None:
    """Of what can be seen already but is not packed yet: pages need not wait for the worker, which may have much to do."""
    global _told_at
    now = time.monotonic()
    if now - _told_at >= OFTEN_S:
        _told_at = now
        announce(what)
