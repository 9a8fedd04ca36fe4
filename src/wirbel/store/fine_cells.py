"""Cells of ten seconds, from spans: where these are few, and a minute is long."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import pyarrow as pa
from django.db.models import Sum

from wirbel.core import cells
from wirbel.core.signals import spans
from wirbel.store import reading
from wirbel.store.block_work import Window
from wirbel.store.models import Stream
from wirbel.store.scan import Where, blocks_of, scan

STEP_S = 10
MOST_SPANS = 200_000  # that are read for them; with more, minutes tell as much and cost less
_OF_SPANS = [
    *dict.fromkeys(
        [*(name for name in cells.KEYS.names if name not in ("minute", "entry")), "start", "duration", "weight", "trace_id", "span_id", "parent_id", "is_root"]
    )
]


def may_be_read(start: int, end: int, environment: str | None = None) -> bool:
    """Whether the spans of [start, end) ns are few, and all there."""
    detail = reading.detail(Stream.SPANS, start, end, environment)
    held = blocks_of(environment).filter(stream=Stream.SPANS, step=0, time_to__gte=start, time_from__lt=end)
    return detail.thinned_until is None and (held.aggregate(rows=Sum("rows"))["rows"] or 0) <= MOST_SPANS


@dataclass(frozen=True)
class FineCells:
    """Work of a scan: cells in steps of so many ns."""

    step_ns: int
    services: tuple[str, ...] | None

    def __call__(self, table: pa.Table, window: Window | None) -> pa.Table:
        # Until it is packed, a span that was sent twice is there twice.
        once = spans.deduplicate(table)
        return cells.derive(reading.Rows("start", self.services)(once, window), self.step_ns)


def read(start: int, end: int, environment: str | None = None, services: Sequence[str] | None = None, columns: Sequence[str] | None = None) -> pa.Table:
    """Those that begin in [start, end) ns."""
    of = None if services is None else tuple(services)
    parts = scan(Where(Stream.SPANS, start, end, environment, fresh=True), _OF_SPANS, FineCells(STEP_S * 10**9, of), small=True)
    found = pa.concat_tables(parts) if parts else cells.CELL_SCHEMA.empty_table()
    return found if columns is None else found.select(list(dict.fromkeys([*columns, "minute", "environment", "service"])))
