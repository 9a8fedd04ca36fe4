"""Background work of the watch, run by Procrastinate."""

from __future__ import annotations

import time

from procrastinate.contrib.django import app

from wirbel.watch.watching import Watching

_watching = Watching()


@app.periodic(cron="* * * * * */10")
@app.task(name="watch.look", queueing_lock="watch.look", lock="watch.look")
def look(timestamp: int) -> None:
    """Every ten seconds: the minutes that are over are read and judged. One worker at a time."""
    _watching.look(time.time_ns())
