"""Imports telemetry files: OTLP JSON Lines and protobuf of any signal, and changes as JSON Lines."""

from __future__ import annotations

import gzip
import hashlib
import re
import time
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import BinaryIO

import orjson
import pyarrow as pa
import pyarrow.parquet as pq

from wirbel.core import arrow
from wirbel.core.errors import InvalidChange, MalformedTelemetry, NotFound
from wirbel.core.signals import otlp
from wirbel.core.signals.changes import Change, from_cdevent, from_plain
from wirbel.intake.commit import Delivery, store_together
from wirbel.store import packer, reading, segments
from wirbel.store.blocks import PARQUET_STREAM
from wirbel.store.streams import LAYOUTS

MAX_LINE = 64 * 2**20  # bytes of one line, decompressed
_SIGNAL_OF_KEY = {"resourceSpans": otlp.TRACES, "resourceMetrics": otlp.METRICS, "resourceLogs": otlp.LOGS}
PACK_EVERY = 64 * 2**20  # bytes read between packs
CHANGES_AT_ONCE = 500
TOGETHER = 8 * 2**20  # bytes of lines that are decoded and stored together
LINES_TOGETHER = 256
_FIRST_KEY = re.compile(rb'\{\s*"(\w{1,40})"')
PARQUET_ROWS = 50_000  # of one segment
GZIP_MAGIC = b"\x1f\x8b"


@dataclass
class Loaded:
    """What became of a file."""

    stored: dict[str, int] = field(default_factory=lambda: dict.fromkeys(otlp.SIGNALS, 0))  # records by signal
    changes: int = 0
    known_changes: int = 0  # that were stored before
    repeated: int = 0  # requests that were stored before
    refused: dict[str, int] = field(default_factory=dict)

    @property
    def ok(self) -> bool:
        return bool(any(self.stored.values()) or self.changes or self.known_changes or self.repeated) or not self.refused

    def refuse(self, reason: str, count: int = 1) -> None:
        self.refused[reason] = self.refused.get(reason, 0) + count

    def summary(self, name: str) -> str:
        kinds = [f"{count} {otlp.SIGNALS[signal].noun}s" for signal, count in self.stored.items() if count]
        kinds += [f"{self.changes} changes"] if self.changes else []
        told = f"{name}: stored {' and '.join(kinds) or 'nothing'}"
        if self.repeated:
            told += f"; {self.repeated} requests were stored before"
        if self.known_changes:
            told += f"; {self.known_changes} changes were stored before"
        for reason, count in sorted(self.refused.items(), key=lambda item: -item[1])[:20]:
            told += f"\n  refused {count}: {reason}"
        return told


def load_file(path: Path, progress: Callable[[int, int], None] = lambda done, total: None) -> Loaded:
    """Stores a file's telemetry; all of it can be queried on return. The same file again stores nothing.

    Raises NotFound if the file cannot be read.
    """
    result = Loaded()
    try:
        total = path.stat().st_size
        raw = path.open("rb")
    except OSError as error:
        raise NotFound(f"{path} cannot be read: {error.strerror}") from error
    with raw:
        packed = raw.read(2) == GZIP_MAGIC
        raw.seek(0)
        stream: BinaryIO = gzip.GzipFile(fileobj=raw) if packed else raw  # type: ignore[assignment]
        try:
            if path.name.removesuffix(".gz").endswith(".binpb"):
                _store_unnamed(stream.read(MAX_LINE + 1), result)
            elif path.suffix == ".parquet":
                _load_parquet(path, result, progress)
            else:
                _load_lines(stream, raw, total, result, progress)
        except (OSError, EOFError) as error:  # gzip cut short: what came before is kept
            result.refuse(f"the file is damaged: {error}")
    packer.pack_all()
    while packer.merge_once():
        pass
    progress(total, total)
    return result


def _load_parquet(path: Path, result: Loaded, progress: Callable[[int, int], None]) -> None:
    """A file as Wirbel exports it; each group of rows is one request."""
    try:
        file = pq.ParquetFile(path)
        stream = (file.schema_arrow.metadata or {}).get(PARQUET_STREAM, b"").decode()
        layout = LAYOUTS.get(stream)
        if layout is None or layout.signal is None:
            result.refuse("not an export of spans, points or logs by Wirbel")
            return
        name = digest_of_file(path)
        for group, batch in enumerate(file.iter_batches(PARQUET_ROWS)):
            table = arrow.conform(pa.Table.from_batches([batch]), layout.schema)
            if segments.append_once(stream, table, segments.digest_of(f"{name} {group}".encode())):
                result.stored[layout.signal] += table.num_rows
            else:
                result.repeated += 1
            progress(group * PARQUET_ROWS, file.metadata.num_rows)
    except (pa.ArrowException, KeyError) as error:
        result.refuse(f"not a Parquet file that can be read: {str(error)[:200]}")


def digest_of_file(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def _load_lines(stream: BinaryIO, raw: BinaryIO, total: int, result: Loaded, progress: Callable[[int, int], None]) -> None:
    changes: list[Change] = []
    requests = _Requests(result)
    for line in _lines(stream, result):
        signal = _signal_of(line)
        if signal:
            requests.add(signal, line)
        else:
            _take_other(line, requests, changes, result)
        if len(changes) >= CHANGES_AT_ONCE:
            _store_changes(changes, result)
        progress(raw.tell(), total)
    requests.store()
    _store_changes(changes, result)


def _signal_of(line: bytes) -> otlp.Signal | None:
    """By the first key of the line, which is what writers of such files begin with; None if it is another one."""
    found = _FIRST_KEY.match(line)
    return _SIGNAL_OF_KEY.get(found[1].decode()) if found else None


def _take_other(line: bytes, requests: _Requests, changes: list[Change], result: Loaded) -> None:
    """A line that does not begin as telemetry does: it may be telemetry all the same, or a change."""
    record = _parse(line, result)
    if record is None:
        return
    signal = next((_SIGNAL_OF_KEY[key] for key in record if key in _SIGNAL_OF_KEY), None)
    if signal:
        requests.add(signal, line)
    elif "kind" in record or "specversion" in record:
        _take_change(record, changes, result)
    else:
        result.refuse("neither telemetry (resourceSpans, resourceMetrics, resourceLogs) nor a change (kind)")


class _Requests:
    """Lines of telemetry, stored many at a time; a line that was stored before is not even decoded."""

    def __init__(self, result: Loaded) -> None:
        self._result = result
        self._waiting: dict[str, list[Delivery]] = {name: [] for name in otlp.SIGNALS}
        self._size = 0
        self._unpacked = 0

    def add(self, signal: otlp.Signal, line: bytes) -> None:
        body = otlp.JsonText(line)
        self._waiting[signal.name].append(Delivery(signal, body, segments.digest_of(signal.name.encode() + body), len(body), None))
        self._size += len(body)
        if self._size > TOGETHER or len(self._waiting[signal.name]) >= LINES_TOGETHER:
            self.store()

    def store(self) -> None:
        for deliveries in self._waiting.values():
            if deliveries:
                self._store(deliveries)
            deliveries.clear()
        self._unpacked += self._size
        self._size = 0
        if self._unpacked > PACK_EVERY:
            packer.pack_all()
            self._unpacked = 0

    def _store(self, deliveries: list[Delivery]) -> None:
        known = segments.known([delivery.digest for delivery in deliveries])
        fresh = [delivery for delivery in deliveries if delivery.digest not in known]
        self._result.repeated += len(deliveries) - len(fresh)
        if fresh:
            store_together(fresh)
        for delivery in fresh:
            _count(delivery, self._result)


def _lines(stream: BinaryIO, result: Loaded) -> Iterator[bytes]:
    while line := stream.readline(MAX_LINE + 1):
        if len(line) > MAX_LINE:
            result.refuse(f"a line is longer than {MAX_LINE} bytes")
            while not line.endswith(b"\n") and (line := stream.readline(MAX_LINE)):
                pass
        elif line.strip():
            yield line.strip()


def _parse(line: bytes, result: Loaded) -> dict | None:  # type: ignore[type-arg]
    try:
        record = orjson.loads(line)
    except orjson.JSONDecodeError:
        result.refuse("a line is not JSON")
        return None
    if not isinstance(record, dict):
        result.refuse("a line is not a JSON object")
        return None
    return record


def _store_unnamed(protobuf: bytes, result: Loaded) -> None:
    """A protobuf file does not say its signal, and requests look alike down to their records: it is the signal
    as which it holds the most good records."""
    good = {}
    for signal in otlp.SIGNALS.values():
        with suppress(MalformedTelemetry):
            good[signal.name] = otlp.DECODERS[signal.name]([protobuf], time.time_ns()).table.num_rows
    best = max(good, key=lambda name: good[name], default=None)
    if best is None or (protobuf and not good[best]):
        result.refuse("not an OTLP request that holds good records of any signal")
    else:
        delivery = Delivery(otlp.SIGNALS[best], protobuf, segments.digest_of(best.encode() + protobuf), len(protobuf), None)
        store_together([delivery])
        _count(delivery, result)


def _count(delivery: Delivery, result: Loaded) -> None:
    """What became of a request. Raises what prevented it, unless that was its own fault."""
    if isinstance(delivery.error, MalformedTelemetry):
        result.refuse(str(delivery.error)[:200])
        return
    if delivery.error is not None:
        raise delivery.error
    for reason, count in delivery.refused.items():
        result.refuse(reason, count)
    result.repeated += delivery.repeated
    result.stored[delivery.signal.name] += delivery.stored


def _take_change(record: dict, pending: list[Change], result: Loaded) -> None:  # type: ignore[type-arg]
    try:
        if "specversion" in record:
            pending.append(from_cdevent({k: v for k, v in record.items() if isinstance(v, str)}, record.get("data")))
        else:
            pending.append(from_plain(record))
    except InvalidChange as error:
        result.refuse(f"change, {error}")


def _store_changes(pending: list[Change], result: Loaded) -> None:
    if pending:
        stored = reading.store_changes(pending)
        result.changes += stored.fresh
        result.known_changes += len(pending) - stored.fresh
        pending.clear()
