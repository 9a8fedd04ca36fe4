"""The streams, and how the rows of each lie in blocks. Everything else in the store is the same for all of them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from wirbel.core import arrow, cells, served, thinning
from wirbel.core.signals import logs, otlp, points, spans
from wirbel.store.models import Stream

Ints = npt.NDArray[np.int64]
Times = Callable[[pa.Table], Ints]


@dataclass(frozen=True, kw_only=True)
class Layout:
    signal: str | None  # of OTLP, in which such records are sent
    schema: pa.Schema
    combine: Callable[[list[pa.Table]], pa.Table]  # several tables as one, in the order of a block, each row once
    begins: Times  # of each row, ns
    ends: Times
    belongs: Times  # by which a row belongs to an hour, ns
    plain: frozenset[str]  # columns in which a dictionary only costs
    steady: tuple[str, ...]  # integer columns whose neighbours are close
    summarise: Callable[[pa.Table, int], pa.Table] | None = None  # records to stretches of so many ns
    merge_summaries: Callable[[list[pa.Table], int], pa.Table] | None = None
    identity: tuple[str, ...] = ()  # columns that tell a record from all others, where summaries could count one twice
    not_in: Callable[[pa.Table, list[pa.Table]], pa.Table] | None = None  # records that others, of which these columns are told, do not hold
    brief: Callable[[pa.Table], pa.Table] | None = None  # what most questions want of a block, in fewer rows
    brief_rest: tuple[str, ...] = ()  # columns of that which few want, and which are most of it
    uncut: str | None = None  # column whose runs of one value stay in one block
    thin: Callable[[pa.Table, float, thinning.Keys], pa.Table] | None = None  # to a share of the ordinary records; traces kept whole elsewhere stay


HOUR_NS = 3600 * 10**9
DAY_NS = 24 * HOUR_NS
PERIODS_NS = {0: HOUR_NS, 600: 6 * HOUR_NS, 3600: 48 * HOUR_NS}
"""Steps in which rows are kept (s; 0: as they are), and how much time one block of each holds."""

SUMMARY_STEPS = tuple(step for step in PERIODS_NS if step)


def _column(name: str) -> Times:
    return lambda table: arrow.numbers(table[name])


LAYOUTS: dict[str, Layout] = {
    Stream.SPANS: Layout(
        signal=otlp.TRACES.name,
        schema=spans.SPAN_SCHEMA,
        combine=spans.combine,
        begins=_column("start"),
        ends=lambda table: arrow.numbers(table["start"]) + arrow.numbers(table["duration"]),
        belongs=spans.trace_starts,  # whole traces stay together
        plain=frozenset({"span_id", "start", "duration", "trace_id"}),
        steady=("start", "duration"),
        thin=thinning.thin_spans,
    ),
    Stream.LOGS: Layout(
        signal=otlp.LOGS.name,
        schema=logs.LOG_SCHEMA,
        combine=logs.combine,
        begins=_column("time"),
        ends=_column("time"),
        belongs=_column("time"),
        plain=frozenset({"time", "observed", "span_id", "trace_id"}),
        steady=("time", "observed"),
        thin=thinning.thin_logs,
    ),
    Stream.POINTS: Layout(
        signal=otlp.METRICS.name,
        schema=points.POINT_SCHEMA,
        combine=points.combine,
        begins=_column("time"),
        ends=_column("time"),
        belongs=_column("time"),
        plain=frozenset({"time"}),
        steady=("time",),
        summarise=points.summarise,
        merge_summaries=points.merge_summaries,
        identity=tuple(points.IDENTITY),
        not_in=points.not_in,
    ),
    Stream.CELLS: Layout(
        signal=None,  # derived, not sent
        schema=cells.CELL_SCHEMA,
        combine=cells.merge,
        begins=_column("minute"),
        ends=lambda table: arrow.numbers(table["minute"]) + cells.MINUTE_NS,
        belongs=_column("minute"),
        plain=frozenset(),
        steady=(),
        summarise=cells.summarise,
        merge_summaries=lambda tables, step_ns: cells.merge(tables),
        brief=served.of_cells,
        brief_rest=served.REST,
        uncut="service",
    ),
}

STREAM_OF = {layout.signal: stream for stream, layout in LAYOUTS.items() if layout.signal}
"""The stream in which each signal is kept, by its name."""
