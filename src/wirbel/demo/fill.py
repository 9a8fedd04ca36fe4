"""Puts the demo's history into the store: the last hours in full, the days before as summaries and a sample.

The days before are made by another process, beside the last hours.
"""

from __future__ import annotations

import subprocess
import sys

from django.db import transaction

from wirbel.core.errors import WirbelError
from wirbel.core.signals import logs as log_model
from wirbel.core.signals import points, spans
from wirbel.core.signals.changes import from_plain
from wirbel.core.text import rfc3339
from wirbel.demo.history import DAY_NS, HOUR_NS, HOURS, KEPT, MINUTE_NS, ahead, make_history
from wirbel.demo.making import Telemetry, World
from wirbel.demo.telemetry import logs, metrics, summaries
from wirbel.demo.world.skerry import SKERRY
from wirbel.runtime.database import say
from wirbel.store import packer, reading
from wirbel.store.models import Stream
from wirbel.store.streams import SUMMARY_STEPS

CHUNK_NS = HOUR_NS // 2
CALM_NS = 90 * MINUTE_NS  # of the last hours, early in them: what is usual
COARSE_S = 120  # between two moments of the state long ago
SAMPLED = 1 / 8_000  # of the requests of long ago that are left
LINES_LEFT = 1 / 200  # of the log records of long ago
PACE_NS = 10 * MINUTE_NS  # of metric samples of long ago


def fill(seed: int, now: int, kind: str, days: float) -> None:
    """Raises FillFailed if the process for the days before failed."""
    beside = (
        subprocess.Popen([sys.executable, "-m", "wirbel.demo.days_before", str(seed), str(now), kind, str(days)]) if days * DAY_NS > HOURS * HOUR_NS else None
    )
    try:
        _last_hours(seed, now, kind, days)
    finally:
        failed = beside is not None and beside.wait() != 0
    if failed:
        raise FillFailed("the days before could not be made; see above. Start again with --reset.")


class FillFailed(WirbelError):
    """A part of the demo's history is missing."""


def _last_hours(seed: int, now: int, kind: str, days: float) -> None:
    happenings = make_history(seed, now, kind, days)
    recent = now - HOURS * HOUR_NS
    world = World.make(SKERRY, seed, happenings, recent, now, KEPT, ahead=ahead(now))
    total = 0
    for chunk in range(recent, now, CHUNK_NS):
        made = world.telemetry(chunk, min(chunk + CHUNK_NS, now))
        store(made)
        total += made.spans.num_rows
        say(f"  {100 * (min(chunk + CHUNK_NS, now) - recent) // (now - recent):3d} %  {total} spans")
    reading.store_changes([from_plain(change) for change in happenings.changes if str(change["at"]) <= rfc3339(now)])


def store(told: Telemetry) -> None:
    """Everything of a stretch, as merged blocks."""
    for stream, table in ((Stream.SPANS, told.spans), (Stream.LOGS, told.logs), (Stream.POINTS, told.points)):
        with transaction.atomic():
            packer.write(stream, table, level=1)


def days_before(seed: int, now: int, kind: str, days: float) -> None:
    """Summaries for all of it, and few requests and log records, each of which stands for many."""
    happenings = make_history(seed, now, kind, days)
    first, until = now - round(days * DAY_NS), now - HOURS * HOUR_NS
    until -= until % HOUR_NS  # whole stretches; what is between is told in minutes
    calm = (until + HOUR_NS, until + HOUR_NS + CALM_NS)
    usual = World.make(SKERRY, seed, happenings, *calm, KEPT, ahead=ahead(now))
    shapes = summaries.shapes(usual.traffic.spans(*calm))
    old = World.make(SKERRY, seed, happenings, first, until, SAMPLED, step_s=COARSE_S, ahead=ahead(now))
    for step in SUMMARY_STEPS:
        cells = summaries.over(old.state, happenings, shapes, calm, usual.state, first, until, step)
        samples = points.summarise(metrics.gauges(old.state, happenings, seed, first, until, max(PACE_NS, step * 10**9)), step * 10**9)
        with transaction.atomic():
            packer.write_summaries(Stream.CELLS, cells, step)
            packer.write_summaries(Stream.POINTS, samples, step)
    requests = spans.combine([old.traffic.spans(first, until)])
    lines = log_model.combine([logs.of_requests(SKERRY, requests, thinned=True), logs.lines(old.state, happenings, seed, first, until, LINES_LEFT)])
    with transaction.atomic():
        packer.write_summaries(Stream.SPANS, requests, 0, thinned=True)
        packer.write_summaries(Stream.LOGS, lines, 0, thinned=True)
    say(f"  {days:g} days, in summary")
