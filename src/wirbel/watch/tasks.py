"""Background work of the watch, run by Procrastinate."""

from __future__ import annotations

import time

from django.db import connection
from procrastinate.contrib.django import app

from wirbel.watch.watching import Watching

LOOKING = 7_302  # of PostgreSQL's advisory locks: it goes with the connection of a worker that is killed
_watching = Watching()


@app.periodic(cron="* * * * * */10")
@app.task(name="watch.look", queue="watch", queueing_lock="watch.look")
def look(timestamp: int) -> None:
    """Every ten seconds: the minutes that are over are read and judged. One worker at a time; another leaves it to that one."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_try_advisory_lock(%s)", [LOOKING])
        if cursor.fetchone() != (True,):
            return
        try:
            _watching.look(time.time_ns())
        finally:
            cursor.execute("SELECT pg_advisory_unlock(%s)", [LOOKING])
