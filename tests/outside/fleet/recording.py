"""What a real fleet sent while real faults happened to it, kept in a file as it came, so that it can be sent again at any time.

Record anew: ``./wirbel test tests/outside/test_real_faults.py`` with WIRBEL_RECORD=quay, or another story's environment, on a machine that is left alone: what else two cores do
is as loud as some of the faults.
"""

from __future__ import annotations

import http.server
import io
import json
import tarfile
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from opentelemetry.proto.collector.logs.v1.logs_service_pb2 import ExportLogsServiceRequest
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest
from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import ExportTraceServiceRequest

from tests.outside.fleet.happenings import Lived, Story, live
from tests.outside.fleet.running import running

REQUESTS = {"traces": ExportTraceServiceRequest, "metrics": ExportMetricsServiceRequest, "logs": ExportLogsServiceRequest}
TIMES = ("time_unix_nano", "start_time_unix_nano", "end_time_unix_nano", "observed_time_unix_nano")
NS = 10**9
MERGED = 2**20  # bytes of a body that is sent


@dataclass(frozen=True)
class Recording:
    """Bodies, each with the stream that it belongs to; what happened when; and what parts of the fleet are called in what was sent that had their name from the system."""

    bodies: list[tuple[str, bytes]]
    lived: list[Lived]
    called: dict[str, str]

    def save(self, file: Path) -> None:
        parts = [("lived.json", json.dumps({"called": self.called, "lived": [asdict(one) for one in self.lived]}).encode())]
        parts += [(f"{number:05}.{stream}", body) for number, (stream, body) in enumerate(self.bodies)]
        with tarfile.open(file, "w:xz", preset=9) as archive:
            for name, content in parts:
                entry = tarfile.TarInfo(name)
                entry.size = len(content)
                archive.addfile(entry, io.BytesIO(content))

    @classmethod
    def load(cls, file: Path) -> Recording:
        with tarfile.open(file) as archive:
            parts = [(entry.name, taken.read()) for entry in archive if (taken := archive.extractfile(entry))]
        told = json.loads(parts[0][1])
        lived = [Lived(one["name"], tuple(one["reference"]), tuple(one["focus"]), one["change"]) for one in told["lived"]]
        return cls([(name.partition(".")[2], body) for name, body in parts[1:]], lived, told["called"])

    def moved(self, by: timedelta) -> Recording:
        """The same, had it happened so much later: stores keep what is new."""
        minutes = round(by.total_seconds() // 60)  # whole ones: what is counted by the minute stays together
        return Recording(
            [(stream, _later(stream, body, minutes * 60 * NS)) for stream, body in self.bodies],
            [_lived_later(one, timedelta(minutes=minutes)) for one in self.lived],
            self.called,
        )


def _later(stream: str, body: bytes, by: int) -> bytes:
    request = REQUESTS[stream]()
    request.ParseFromString(body)
    _move(request, by)
    return bytes(request.SerializeToString())


def _move(message: Any, by: int) -> None:
    """All times in a message and what it holds; attributes hold none."""
    for field, value in message.ListFields():
        if field.name in TIMES:
            setattr(message, field.name, value + by)
        elif field.message_type is not None and field.name not in ("attributes", "body", "resource", "scope"):
            for part in value if field.is_repeated else [value]:
                _move(part, by)


def _lived_later(one: Lived, by: timedelta) -> Lived:
    def later(text: str) -> str:
        return (datetime.fromisoformat(text) + by).isoformat().replace("+00:00", "Z")

    change = None if one.change is None else {**one.change, "at": later(one.change["at"])}
    return Lived(one.name, (later(one.reference[0]), later(one.reference[1])), (later(one.focus[0]), later(one.focus[1])), change)


@contextmanager
def _receiver(bodies: list[tuple[str, bytes]]) -> Iterator[str]:
    """Takes whatever is sent; its address."""

    class Taker(http.server.BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def do_POST(self) -> None:
            body = self.rfile.read(int(self.headers["Content-Length"]))
            assert "Content-Encoding" not in self.headers  # as stock exporters send unless they are told to
            bodies.append((self.path.rpartition("/")[2], body))
            self.send_response(200)
            self.send_header("Content-Length", "0")
            self.end_headers()

        def log_message(self, *_: object) -> None:
            pass

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Taker)
    threading.Thread(target=server.serve_forever).start()
    try:
        yield f"http://127.0.0.1:{server.server_address[1]}"
    finally:
        server.shutdown()
        server.server_close()


def record(database: str, story: Story) -> Recording:
    """Runs the fleet of a story on a database and lets everything happen to it."""
    bodies: list[tuple[str, bytes]] = []
    with _receiver(bodies) as collector, running(collector, database, story.processes, story.environment) as fleet:
        lived = list(live(fleet, story))
        instances = {name: f"{name.split()[0]}-{process.pid}" for name, process in fleet.processes.items() if name.endswith(" 2")}
        called = {"rates": fleet.at["rates"].removeprefix("http://"), **instances}
    return Recording(_merged(bodies), lived, called)


def _merged(bodies: list[tuple[str, bytes]]) -> list[tuple[str, bytes]]:
    """Fewer bodies that say the same: messages one after the other are one message with all their parts."""
    found = []
    for stream in REQUESTS:
        waiting = b""
        for _, body in (one for one in bodies if one[0] == stream):
            waiting += body
            if len(waiting) > MERGED:
                found.append((stream, waiting))
                waiting = b""
        found.append((stream, waiting))
    return found
