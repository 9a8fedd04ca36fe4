"""Whether anything listens where the database should: asked before its pool, which waits for ten seconds until it gives up."""

from __future__ import annotations

import logging
import socket
import time

from django.db import connection

log = logging.getLogger(__name__)
TRUSTED_S = 0.5  # that what was found holds
PATIENCE_S = 0.7
_known: tuple[float, bool] = (-TRUSTED_S, True)


class Unreachable(Exception):
    """Nothing listens there."""


def check() -> None:
    """Raises Unreachable."""
    global _known
    at, was_there = _known
    if time.monotonic() - at > TRUSTED_S:
        is_there = _listens()
        if is_there != was_there:
            log.warning("the database can %s", "be reached again" if is_there else "not be reached")
            if is_there:  # the pool would wait longer between two tries the longer it was away
                connection.close_pool()  # type: ignore[attr-defined]
        _known = time.monotonic(), is_there
    if not _known[1]:
        raise Unreachable


def _listens() -> bool:
    host, port = connection.settings_dict["HOST"], int(connection.settings_dict["PORT"] or 5432)
    if not host or host.startswith("/"):
        return True  # a socket file: the pool is told at once
    try:
        socket.create_connection((host, port), PATIENCE_S).close()
    except OSError:
        return False
    return True
