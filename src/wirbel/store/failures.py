"""Background work that fails is told where people look, with its reason, until it succeeds again."""

from __future__ import annotations

import logging
import time
from collections.abc import Iterator
from contextlib import contextmanager

from django.db import DatabaseError, connection

from wirbel.store.models import Failure

log = logging.getLogger(__name__)
WATCH = "the watch"  # as people call the work, of which more than Intake tells
LONGEST = 300  # characters of a reason


def reason(error: Exception) -> str:
    """What people are told of an error."""
    return f"{type(error).__name__}: {error}"[:LONGEST]


@contextmanager
def told(work: str) -> Iterator[None]:
    """Notes that what is done inside failed, or that it succeeds again; raises what it raised."""
    try:
        yield
    except Exception as error:
        _note(work, reason(error))
        raise
    Failure.objects.filter(work=work).delete()


def _note(work: str, why: str) -> None:
    connection.close_if_unusable_or_obsolete()
    try:
        failure, _ = Failure.objects.get_or_create(work=work, defaults={"since": time.time_ns(), "reason": why})
        if failure.reason != why:
            Failure.objects.filter(pk=failure.pk).update(reason=why)
    except DatabaseError:  # what fails because the database is away cannot be noted there
        log.warning("that %s fails could not be noted", work)
