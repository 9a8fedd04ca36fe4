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
from wirbel.core.signals import otlp, spans
from wirbel.demo.history import make_history
from wirbel.demo.simulate import World
from wirbel.demo.world import RATE

STEP_NS = 10**9
LATE_NS = 2 * 10**9  # a span is sent this long after its second is over, when most requests have ended
LONGEST_GAP_NS = 30 * 60 * 10**9  # after a longer stop the feed does not fill the gap
RETRIES = 5


def send(url: str, token: str, body: bytes) -> None:
    """Sends one request, again on 429, 503 and broken connections, as an exporter would."""
    packed = gzip.compress(body, 1)
    headers = {"Authorization": f"Bearer {token}", "Content-Type": "application/x-protobuf", "Content-Encoding": "gzip"}
    for attempt in range(RETRIES):
        try:
            urllib.request.urlopen(urllib.request.Request(f"{url}/v1/traces", packed, headers), timeout=10)
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


def run(url: str, state: dict[str, object]) -> None:
    made = int(state["made"])  # type: ignore[call-overload]
    world = World(int(state["seed"]), make_history(made), RATE)  # type: ignore[call-overload]
    progress = Path(str(state["file"])).with_name("feed.json")
    at = int(progress.read_text() or made) if progress.exists() else made
    at = max(at, time.time_ns() - LONGEST_GAP_NS)
    at -= at % STEP_NS
    running = spans.empty()
    while True:
        until = time.time_ns() - LATE_NS
        until -= until % STEP_NS
        if until <= at:
            time.sleep(0.2)
            continue
        until = min(until, at + 30 * STEP_NS)
        made_now = [world.requests(second, second + STEP_NS) for second in range(at, until, STEP_NS)]
        ready, running = ended_before(spans.concat([running, *made_now]), time.time_ns())
        for first in range(0, ready.num_rows, 2000):
            send(url, str(state["token"]), otlp.traces.encode(ready.slice(first, 2000)))
        at = until
        # Stopped at any moment, the file holds one time or the other.
        unfinished = progress.with_suffix(".new")
        unfinished.write_text(str(at))
        unfinished.replace(progress)


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
