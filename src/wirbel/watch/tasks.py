"""Background work of the watch, run by Procrastinate."""

from __future__ import annotations

import time

from django.db import connection
from procrastinate.contrib.django import app

from wirbel.store import failures
from wirbel.watch.watching import Watching

LOOKING = 7_302  # of PostgreSQL's advisory locks: it goes with the connection of a worker that is killed
_watching = Watching()


@app.periodic(cron="* * * * * */10")
@app.task(name="watch.look", queue="watch", queueing_lock="watch.look")
def look(timestamp: int) -> None:
    """Every ten seconds: the minutes that are over are read and judged. One worker at a time; another leaves it to that one."""
    global _watching
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_try_advisory_lock(%s)", [LOOKING])
        if cursor.fetchone() != (True,):
            return
        try:
            with failures.told(failures.WATCH):
                _watching.look(time.time_ns())
        except Exception:
            # What is in memory may be ahead of what is stored: it is taken up again from there.
            _watching = Watching()
            raise
        finally:
            cursor.execute("SELECT pg_advisory_unlock(%s)", [LOOKING])
