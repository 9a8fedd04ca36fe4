"""People who look while telemetry arrives: how long each kind of answer takes, and how long senders wait.

Run: ./wirbel bench eyes. It takes a few minutes. Those who look and those who send share the machine with the servers.
"""

from __future__ import annotations

import itertools
import json
import sys
import threading
import time
from datetime import UTC, datetime, timedelta

import numpy as np
import pyarrow as pa
from django.db import transaction

from bench import load, people
from wirbel.core.signals import otlp, spans
from wirbel.demo.making import recorded
from wirbel.demo.world.skerry import SKERRY
from wirbel.intake.models import Token
from wirbel.runtime.processes import SERVER_PROCESSES
from wirbel.store import packer
from wirbel.store.models import Block, Stream

SECOND_NS = 10**9
HOUR_NS = 3600 * SECOND_NS
PEOPLE = 50
EVERY_S = 2.0  # a page that follows now asks so often
A_SECOND = 4_100  # spans
LASTS_S = 120
WARM_S = 20
CAUSE_EVERY_S = 10.0
BATCH = 512  # spans a request
HISTORY_PACE = 2.0  # of the hours before, at rate one about 11 spans a second
TRIED_PACE = 40.0  # at which it is found out how many there are at rate one


def fill(now: int) -> None:
    """Six hours of the demo's world."""
    for first in range(now - 6 * HOUR_NS, now, HOUR_NS):
        table = recorded(SKERRY, 1, first, first + HOUR_NS, HISTORY_PACE).traffic.spans(first, first + HOUR_NS)
        with transaction.atomic():
            packer.write(Stream.SPANS, spans.combine([table]), level=1)


def coming(start: int) -> list[tuple[float, bytes]]:
    """Requests of the time from ``start`` on, each with the second from then on at which its last span has ended."""
    until = start + LASTS_S * SECOND_NS

    def made(pace: float) -> pa.Table:
        return recorded(SKERRY, 2, start, until, pace).traffic.spans(start, until)

    # How busy the world is goes by the hour of the day.
    table = made(TRIED_PACE * A_SECOND * LASTS_S / made(TRIED_PACE).num_rows)
    ends = np.asarray(table["start"]) + np.asarray(table["duration"])
    table, ends = table.take(np.argsort(ends)), np.sort(ends)
    return [
        ((ends[min(first + BATCH, len(ends)) - 1] - start) / SECOND_NS, otlp.traces.encode(table.slice(first, BATCH))) for first in range(0, len(ends), BATCH)
    ]


def question(ribbon: bytes, number: int) -> people.Question:
    """What one page asks at a time beside the ribbon, by who looks at what: a list, a service or traces, with the windows that the ribbon proposed."""
    told = json.loads(ribbon)
    windows = {f"{name}_{side}": told[name][key] for name in ("focus", "reference") for side, key in (("from", "start"), ("to", "end"))}
    del windows["focus_to"]  # it goes up to now
    asked = {"environment": "production", **windows}
    service = ("quay-web", "sailing-api", "berth-planner")[number % 3]
    views = [
        ("overview", "/api/overview", asked),
        ("overview", "/api/overview", asked),
        ("service", f"/api/services/{service}", asked),
        ("traces", "/api/traces", {"environment": "production", "service": service, "start": told["focus"]["start"]}),
    ]
    return views[number % 4]


def causes(url: str, until: float, took: list[float]) -> None:
    """Somebody who asks for the cause of what the last ten minutes were like, again and again."""
    looker = people.Looker(url)
    while time.monotonic() < until:
        end = datetime.now(UTC)
        focus = {"start": (end - timedelta(minutes=10)).isoformat(), "end": end.isoformat()}
        took.append(looker.order("/api/inquiries", service="quay-web", environment="production", focus=focus)[0])
        looker.rest()
        time.sleep(CAUSE_EVERY_S)


def main() -> None:
    Block.objects.all().delete()
    start = time.time_ns() + 60 * SECOND_NS  # when all that comes is made
    fill(start - start % SECOND_NS)
    bodies = coming(start)
    token = Token.make("eyes")
    waited: list[float] = []
    with load.serving(workers=1) as url:
        pids = people.server_processes()
        time.sleep(max(0.0, start / SECOND_NS - time.time()))
        sending = threading.Thread(target=lambda: waited.extend(load.send_on_time(url, token, "/v1/traces", bodies)))
        sending.start()
        time.sleep(20)  # until the first of it is seen
        numbers = itertools.count()
        inquiries: list[float] = []
        asking = threading.Thread(target=causes, args=(url, time.monotonic() + LASTS_S - 30, inquiries))
        asking.start()
        found = people.look(url, PEOPLE, LASTS_S - 30, EVERY_S, lambda ribbon: question(ribbon, next(numbers)), WARM_S)
        sending.join()
        asking.join()
        memory, shared = people.memory_mb(pids), people.shared_mb(pids)
    print(f"{PEOPLE} people who ask every {EVERY_S:g} s while {len(bodies) * BATCH / LASTS_S:,.0f} spans/s arrive, {SERVER_PROCESSES} server processes:")
    for name in sorted(found.took):
        middle, most = found.quantiles(name)
        print(f"  {name:10} p50 {middle * 1e3:6.0f} ms, p95 {most * 1e3:6.0f} ms   ({len(found.took[name])} answers)")
    print(f"  inquiry    p50 {np.quantile(inquiries, 0.5) * 1e3:6.0f} ms, most {max(inquiries) * 1e3:5.0f} ms   ({len(inquiries)} of them)")
    print(f"  accepting  p50 {np.quantile(waited, 0.5) * 1e3:6.0f} ms, p95 {np.quantile(waited, 0.95) * 1e3:6.0f} ms   ({len(waited)} requests)")
    print(
        f"  memory of the server processes at most {' + '.join(f'{mb:.0f}' for mb in memory)} MB, of which {shared:.0f} are counted more than once", flush=True
    )
    Block.objects.all().delete()
    sys.stdout.flush()
