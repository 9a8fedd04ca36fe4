"""The live feed: goes on where the history ended, through the real door, in real time."""

from __future__ import annotations

import argparse
import gzip
import json
import sys
import time
import urllib.error
import urllib.request
from pathlib import Path

import pyarrow as pa

from wirbel.core import arrow
from wirbel.core.signals import logs, otlp, spans
from wirbel.core.signals.changes import parse_time
from wirbel.demo.history import KEPT, ahead, everyday, later
from wirbel.demo.making import World
from wirbel.demo.practice import Practice, write
from wirbel.demo.telemetry import durations, metrics
from wirbel.demo.telemetry import logs as log_lines
from wirbel.demo.world.skerry import SKERRY

STEP_NS = 10**9
MINUTE_NS = 60 * STEP_NS
LATE_NS = 2 * 10**9  # a span is sent this long after its second is over, when most requests have ended
LONGEST_GAP_NS = 30 * 60 * 10**9  # after a longer stop the feed does not fill the gap
AHEAD_NS = 15 * MINUTE_NS  # for which the state is reckoned at a time
RETRIES = 5
MOST_AT_ONCE = 2000  # records in a request


def send(url: str, token: str, signal: str, body: bytes) -> None:
    post(f"{url}/v1/{signal}", token, gzip.compress(body, 1), "application/x-protobuf", {"Content-Encoding": "gzip"})


def post(url: str, token: str, body: bytes, kind: str, more: dict[str, str] | None = None) -> None:
    """Sends one request, again on 429, 503 and broken connections, as an exporter would."""
    headers = {"Authorization": f"Bearer {token}", "Content-Type": kind, **(more or {})}
    for attempt in range(RETRIES):
        try:
            urllib.request.urlopen(urllib.request.Request(url, body, headers), timeout=10)
            return
        except urllib.error.HTTPError as error:
            if error.code not in (429, 503):
                raise
            time.sleep(float(error.headers.get("Retry-After") or 1))
        except OSError:
            time.sleep(0.5 * 2**attempt)


def ended_before(table: pa.Table, until: int) -> tuple[pa.Table, pa.Table]:
    """Spans that have ended, as an exporter would send them, and those still running."""
    end = arrow.numbers(table["start"]) + arrow.numbers(table["duration"])
    return table.filter(pa.array(end <= until)), table.filter(pa.array(end > until))


class Feed:
    """Where the feed is, and what it still has to send."""

    def __init__(self, url: str, state: dict[str, object]) -> None:
        self.url, self.token = url, str(state["token"])
        self.seed, self.made = int(str(state["seed"])), int(str(state["made"]))
        kind = str(state["fault"])
        self._usual = everyday(self.seed, self.made, kind, float(str(state["days"]))).add(later(self.seed, self.made, kind))
        self.practice = Practice(Path(str(state["file"])).parent, self.seed, self.made, kind)
        self.history = self._usual.add([self.practice.happenings()])
        self.running = spans.empty()
        self.minute: list[pa.Table] = []  # served requests whose minute is not over
        self._world: World | None = None
        self._known_until = 0

    def world(self, at: int) -> World:
        """The world around a moment; its state is reckoned anew every quarter of an hour."""
        if self._world is None or at + MINUTE_NS > self._known_until:
            self._known_until = at + AHEAD_NS
            self._world = World.make(SKERRY, self.seed, self.history, at - MINUTE_NS, self._known_until, KEPT, ahead=ahead(self.made))
        return self._world

    def go_on(self, at: int, until: int) -> None:
        """Makes and sends everything of [at, until)."""
        if self.practice.obey(at):
            self.history, self._world = self._usual.add([self.practice.happenings()]), None
        world = self.world(at)
        made = spans.concat([world.traffic.spans(second, second + STEP_NS) for second in range(at, until, STEP_NS)])
        ready, self.running = ended_before(spans.concat([self.running, made]), time.time_ns())
        self._send("traces", ready)
        self._send("logs", logs.combine([log_lines.of_requests(SKERRY, ready), log_lines.lines(world.state, self.history, self.seed, at, until)]))
        self._send_changes(at, until)
        self.minute.append(made)
        if at // MINUTE_NS != until // MINUTE_NS:
            self._send_metrics(world, until - until % MINUTE_NS)

    def _send_metrics(self, world: World, minute: int) -> None:
        """Samples of the minute that ended at ``minute``."""
        held = spans.concat(self.minute)
        over = pa.array(arrow.numbers(held["start"]) < minute)
        self._send("metrics", durations.request_durations(held.filter(over)))
        self._send("metrics", metrics.gauges(world.state, self.history, self.seed, minute, minute + 1))
        self.minute = [held.filter(pa.compute.invert(over))]

    def _send_changes(self, at: int, until: int) -> None:
        told = [change for change in self.history.changes if at <= parse_time(str(change["at"]), "at") < until]
        if told:
            post(f"{self.url}/v1/changes", self.token, json.dumps(told).encode(), "application/json")

    def _send(self, signal: str, table: pa.Table) -> None:
        encode = otlp.ENCODERS[signal]
        for first in range(0, table.num_rows, MOST_AT_ONCE):
            send(self.url, self.token, signal, encode(table.slice(first, MOST_AT_ONCE)))


def run(url: str, state: dict[str, object]) -> None:
    feed = Feed(url, state)
    progress = Path(str(state["file"])).with_name("feed.json")
    at = int(progress.read_text() or feed.made) if progress.exists() else feed.made
    at = max(at, time.time_ns() - LONGEST_GAP_NS)
    at -= at % STEP_NS
    while True:
        until = time.time_ns() - LATE_NS
        until -= until % STEP_NS
        if until <= at:
            time.sleep(0.2)
            continue
        until = min(until, at + 30 * STEP_NS)
        feed.go_on(at, until)
        at = until
        write(progress, at)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--url", required=True)
    parser.add_argument("--state", required=True)
    arguments = parser.parse_args()
    state = json.loads(Path(arguments.state).read_text()) | {"file": arguments.state}
    try:
        run(arguments.url, state)
    except KeyboardInterrupt:
        sys.exit(0)


if __name__ == "__main__":
    main()
