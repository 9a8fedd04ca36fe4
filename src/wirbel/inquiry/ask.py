"""From a question to an answer: reads what is needed, runs the diagnosis, keeps it."""

from __future__ import annotations

import time
from dataclasses import dataclass
from functools import reduce
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow, cells_of_metrics, text
from wirbel.core.cells import MINUTE_NS
from wirbel.core.diagnosis import choose, mean_requests
from wirbel.core.diagnosis.case import Records
from wirbel.core.diagnosis.clock import Clock
from wirbel.core.diagnosis.inquire import diagnose
from wirbel.core.diagnosis.marks import COMPARED_TYPES, IDENTITIES
from wirbel.core.diagnosis.model import Answer, Question, Signal, Window
from wirbel.core.errors import InvalidQuestion, NotEnoughData
from wirbel.core.patterns.counts import COLUMNS as COUNTED_COLUMNS
from wirbel.core.patterns.counts import Count, merge
from wirbel.core.series import cells as cell_series
from wirbel.core.signals import points, spans
from wirbel.core.signals.changes import Change
from wirbel.core.signals.entities import address_of, first_part
from wirbel.explore.traces import say_detail
from wirbel.explore.windows import reference_for
from wirbel.inquiry import schemas
from wirbel.store import reading
from wirbel.store.models import AttributeName, Stream
from wirbel.store.scan import Where, scan

_OF_SPANS = [
    "trace_id",
    "span_id",
    "parent_id",
    "start",
    "duration",
    "environment",
    "service",
    "version",
    "instance",
    "host",
    "operation",
    "kind",
    "peer",
    "peer_kind",
    "outcome",
    "weight",
]
_OF_POINTS = [*points.SERIES.names, "time", "start", "value", "count", "total"]
NO_TRACES = (
    "There are no traces of it in these windows: what metrics count of its requests and calls was read, as one request a minute that is like their mean."
)
_FIRST_LOOK = ["trace_id", "service", "operation", "kind", "start", "is_root"]


@dataclass(frozen=True)
class Asked:
    service: str
    operation: str | None
    signal: Signal
    focus: tuple[int, int]
    reference: tuple[int, int] | None
    environment: str | None = None


@dataclass(frozen=True)
class Answered:
    answer: Answer
    took_ms: int

    def contract(self) -> dict[str, Any]:
        """The part of the answer that scripts rely on."""
        return schemas.contract(self.answer, self.took_ms).model_dump(by_alias=True)

    def everything(self) -> dict[str, Any]:
        """The contract's answer with what the screen shows beside it."""
        return schemas.answer_view(self.answer, self.took_ms).model_dump(by_alias=True)


def ask(asked: Asked) -> Answered:
    """Runs the diagnosis. Raises InvalidQuestion or NotEnoughData with what to do."""
    began = time.monotonic()
    focus = Window(*asked.focus)
    reference = Window(*(asked.reference or reference_for(asked.service, focus.start, focus.end, asked.environment)))
    question = Question(asked.service, asked.operation, asked.signal, focus, reference, "given" if asked.reference else "auto", asked.environment)
    table, notes = _read(question)
    counted = None
    if not table.num_rows:
        counted = _counted(question)
        table, notes = _mean_requests(question, counted), [NO_TRACES]
    notes += [told for window in (reference, focus) if (told := say_detail((window.start, window.end), asked.environment))]
    changes = reading.changes(min(focus.start, focus.end) - choose.CHANGES_BEFORE_NS, focus.end, asked.environment)
    answer = diagnose(question, _records(question, table, counted, _made_there(changes, table), notes))
    return Answered(answer, round((time.monotonic() - began) * 1000))


def _made_there(changes: list[Change], requests: pa.Table) -> list[Change]:
    """Changes made where the symptom's requests were served: those of other environments are none of theirs."""
    where = requests["environment"].drop_null().unique().to_pylist()
    return [change for change in changes if change.environment is None or not where or change.environment in where]


def _records(question: Question, table: pa.Table, cells: pa.Table | None, changes: list[Change], notes: list[str]) -> Records:
    """What is known beside the requests: of the services and hosts that they met, of whom they called, and what runs on these. ``cells`` are those of metrics, if there are no others.

    Only what the question looks at is read: nothing between a reference and a focus that lie apart.
    """
    environment = question.environment
    stretches = [(window.start, window.end) for window in Clock(question, question.step_s).stretches]
    met = (tuple(sorted(set(table[name].drop_null().unique().to_pylist()))) for name in ("service", "host", "peer"))
    services, hosts, peers = met
    around = Around(services, hosts, tuple(sorted({text for peer in peers for text in (address_of(peer), first_part(address_of(peer)))})))
    count = Count((question.reference.start, question.reference.end), (question.focus.start, question.focus.end))
    samples = [part for start, end in stretches for part in scan(Where(Stream.POINTS, start, end, environment, fresh=True), _OF_POINTS, around)]
    windows = [(question.reference.start, question.reference.end), (question.focus.start, question.focus.end)]
    counted = [
        part
        for start, end in windows
        for part in scan(Where(Stream.LOGS, start, end, environment, around.services, fresh=True), COUNTED_COLUMNS, count, small=True)
    ]
    return Records(
        spans=table,
        cells=_cells(stretches, environment) if cells is None else cells,
        points=points.combine(samples),
        patterns=merge(counted),
        by_metrics=cells is not None,
        changes=changes,
        notes=notes,
    )


def _cells(stretches: list[tuple[int, int]], environment: str | None) -> pa.Table:
    return pa.concat_tables([reading.cells(start - start % MINUTE_NS, end, environment, None, cell_series.CELL_COLUMNS) for start, end in stretches])


def _counted(question: Question) -> pa.Table:
    """Cells of what metrics of all services count of requests and calls, from the start of the reference to the end of the focus."""
    stretches = Clock(question, question.step_s).stretches
    # A sample tells of the time before it.
    samples = [
        part
        for window in stretches
        for part in scan(
            Where(Stream.POINTS, window.start - MINUTE_NS, window.end + MINUTE_NS, question.environment, fresh=True), _OF_POINTS, CountingRequests()
        )
    ]
    found = cells_of_metrics.derive(points.combine(samples))
    minute = arrow.numbers(found["minute"])
    inside = np.logical_or.reduce([(minute >= window.start - window.start % MINUTE_NS) & (minute < window.end) for window in stretches])
    return found.filter(pa.array(inside))


def _mean_requests(question: Question, counted: pa.Table) -> pa.Table:
    """Raises NotEnoughData where metrics count no requests of the service."""
    window = min(question.reference.start, question.focus.start), max(question.reference.end, question.focus.end)
    table = mean_requests.of_cells(counted, question.service, question.operation, window)
    if not table.num_rows:
        what = f"{question.service} {question.operation or ''}".strip()
        raise NotEnoughData(
            f"no requests of {what} are stored in these windows, neither as traces nor in metrics that count them. Is the name right, and the time?"
        )
    return table


@dataclass(frozen=True)
class CountingRequests:
    """Work of a scan: samples of metrics that count requests and calls."""

    def __call__(self, table: pa.Table, window: tuple[int, int] | None) -> pa.Table:
        mine = reading.Rows("time")(table, window)
        return mine.filter(pc.is_in(mine["metric"], value_set=pa.array(list(cells_of_metrics.COUNTED))))


@dataclass(frozen=True)
class Around:
    """Work of a scan: samples that services send, that come from hosts, or that tell of what is called at an address."""

    services: tuple[str, ...]
    hosts: tuple[str, ...]
    addresses: tuple[str, ...] = ()

    def __call__(self, table: pa.Table, window: tuple[int, int] | None) -> pa.Table:
        told = reading.Rows("time")(table, window)
        of = (("service", self.services), ("host", (*self.hosts, *self.addresses)), ("instance", self.addresses))
        sent = [pc.is_in(told[name], value_set=pa.array(values, pa.string())).fill_null(False) for name, values in of]
        return told.filter(reduce(pc.or_, [*sent, self._named(told["labels"])]))

    def _named(self, labels: pa.ChunkedArray) -> pa.ChunkedArray:
        """Samples of which a label is one of the addresses."""
        code, texts = arrow.codes(labels)
        wanted = {f'"{address}"' for address in self.addresses}
        named = np.array([any(one in text for one in wanted) for text in texts] + [False], np.bool_)
        return pa.chunked_array([pa.array(named[code])])


def _read(question: Question) -> tuple[pa.Table, list[str]]:
    """Whole traces of the symptom's requests in both windows and just before the focus; sampled when there are many. Empty where there are none."""
    columns = _columns(question.environment)
    found, notes = [], []
    for window in choose.windows(question):
        where = Where(Stream.SPANS, window.start, window.end, question.environment, (question.service,), fresh=True)
        looked = scan(where, _FIRST_LOOK, choose.Symptom(question.service, question.operation), small=True)
        if looked.left_out:
            notes.append(f"{looked.left_out} spans between {_clock(window)} wait to be packed and were not read: is a worker running?")
        chosen = choose.choose(looked)
        if chosen.weight > 1:
            notes.append(f"{chosen.found} requests between {_clock(window)}; an even sample of {len(chosen.ids)} was read in full and weighted.")
        found.append((window, chosen))
    if not any(chosen.found for _, chosen in found):
        return spans.empty(), notes
    kept = []
    for window, chosen in found:
        where = Where(Stream.SPANS, window.start, window.end + choose.MARGIN_NS, question.environment, fresh=True)
        found_spans = scan(where, columns, choose.OfTraces(chosen.ids.cast(pa.binary())), encoded=True)
        kept.append(choose.weighted(spans.concat(found_spans), chosen.weight))
    return choose.joined(kept), notes


def _columns(environment: str | None) -> list[str]:
    """What a diagnosis reads of a span: neither events and links nor what no two requests share."""
    known = AttributeName.objects.filter(stream=Stream.SPANS).exclude(level="")
    known = known if environment is None else known.filter(environment=environment)
    keys = [(level, key) for level, key in known.values_list("level", "name").distinct() if key not in IDENTITIES]
    return [*_OF_SPANS, *(arrow.attribute_column(level, letter, key) for level, key in keys for letter in COMPARED_TYPES)]


def _clock(window: Window) -> str:
    return f"{text.time(window.start)} and {text.time(window.end)}"


def check_signal(name: str) -> Signal:
    if name not in ("latency", "errors", "throughput"):
        raise InvalidQuestion("signal must be latency, errors or throughput")
    return name  # type: ignore[return-value]
