"""Log records: of one pattern, and what a pattern that is new or multiplied really says; and of one trace."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow
from wirbel.core.patterns.masks import masked
from wirbel.core.signals import logs
from wirbel.core.text import rfc3339
from wirbel.explore.schemas import LogRecord, LogRecords
from wirbel.store.models import Stream
from wirbel.store.reading import Rows
from wirbel.store.scan import Where, scan

COLUMNS = ["time", "service", "severity", "body", "trace_id", "span_id", "instance", "host"]
MOST = 200
AROUND_NS = 60 * 10**9  # of a trace: clocks differ, and records are written late


@dataclass(frozen=True)
class OfPattern:
    """Work of a scan: a service's records of some templates (core.patterns.masks), and of them only so many as are shown."""

    service: str
    templates: tuple[str, ...]
    most: int

    def __call__(self, table: pa.Table, window: tuple[int, int] | None) -> pa.Table:
        mine = Rows("time", (self.service,))(table, window)
        found = mine.filter(pc.is_in(masked(mine["body"]), value_set=pa.array(self.templates, pa.string())))
        return found.slice(0, self.most).append_column("of", pa.repeat(pa.scalar(found.num_rows), min(found.num_rows, self.most)))


def log_records(service: str, templates: Sequence[str], start: int, end: int, environment: str | None, most: int) -> LogRecords:
    """The first ``most`` records of a pattern in [start, end) ns, and how many there are in all."""
    most = max(1, min(most, MOST))
    where = Where(Stream.LOGS, start, end, environment, (service,), fresh=True)
    parts = [part for part in scan(where, COLUMNS, OfPattern(service, tuple(templates), most)) if part.num_rows]
    count = sum(part["of"][0].as_py() for part in parts)
    return LogRecords(count=count, records=_shown([part.drop_columns("of") for part in parts], most))


@dataclass(frozen=True)
class OfTrace:
    """Work of a scan: the records that name a trace."""

    trace: bytes

    def __call__(self, table: pa.Table, window: tuple[int, int] | None) -> pa.Table:
        return table.filter(pc.equal(table["trace_id"], pa.scalar(self.trace, table.schema.field("trace_id").type)))


def trace_logs(trace: bytes, spans: pa.Table) -> LogRecords:
    """What was logged with a trace's id while it ran, or shortly before or after; the first records, and how many there are."""
    start = arrow.numbers(spans["start"])
    low, high = int(start.min()) - AROUND_NS, int((start + arrow.numbers(spans["duration"])).max()) + AROUND_NS
    parts = scan(Where(Stream.LOGS, low, high, None, None, fresh=True), COLUMNS, OfTrace(trace))
    return LogRecords(count=sum(part.num_rows for part in parts), records=_shown(parts, MOST))


def _shown(parts: Sequence[pa.Table], most: int) -> list[LogRecord]:
    """The first so many by time."""
    held = [part.select(COLUMNS) for part in parts if part.num_rows]
    rows = pa.concat_tables(held).sort_by("time").slice(0, most).to_pylist() if held else []
    return [
        LogRecord(
            at=rfc3339(row["time"]),
            service=row["service"],
            severity=logs.severity_name(row["severity"]),
            body=row["body"] or "",
            instance=row["instance"],
            trace=row["trace_id"].hex() if row["trace_id"] else None,
            span=row["span_id"].hex() if row["span_id"] else None,
        )
        for row in rows
    ]
