"""From a question to an answer: reads what is needed, runs the diagnosis, keeps it."""

from __future__ import annotations

import time
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow, text
from wirbel.core.diagnosis.contrast import COMPARED_TYPES, IDENTITIES
from wirbel.core.diagnosis.inquire import diagnose
from wirbel.core.diagnosis.model import Answer, Question, Signal, Window
from wirbel.core.errors import InvalidQuestion, NotEnoughData
from wirbel.core.hashing import mix
from wirbel.core.signals import spans
from wirbel.explore.traces import say_detail
from wirbel.explore.windows import reference_for
from wirbel.inquiry import schemas
from wirbel.store import reading
from wirbel.store.models import AttributeName, Stream
from wirbel.store.scan import Where, scan

MAX_REQUESTS = 6_000  # traces read in full, of each window; of more an even sample is taken
MARGIN_NS = 5 * 60 * 10**9  # spans of a request may start this long after it
CHANGES_BEFORE_NS = 3 * 3600 * 10**9  # changes this long before the focus are judged
ONSET_BEFORE_NS = 15 * 60 * 10**9  # requests this long before the focus help to place the onset
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
    notes += [told for window in (reference, focus) if (told := say_detail((window.start, window.end), asked.environment))]
    changes = reading.changes(min(focus.start, focus.end) - CHANGES_BEFORE_NS, focus.end, asked.environment)
    answer = diagnose(question, table, changes, notes)
    return Answered(answer, round((time.monotonic() - began) * 1000))


def _read(question: Question) -> tuple[pa.Table, list[str]]:
    """Whole traces of the symptom's requests in both windows and just before the focus; sampled when there are many."""
    bridge = (
        Window(max(question.reference.end, question.focus.start - ONSET_BEFORE_NS), question.focus.start)
        if question.focus.start > question.reference.end
        else None
    )
    windows = [w for w in (question.reference, bridge, question.focus) if w]
    columns = _columns(question.environment)
    kept, notes, traces = [], [], []
    for window in windows:
        where = Where(Stream.SPANS, window.start, window.end, question.environment, (question.service,), fresh=True)
        chosen, weight, found = _choose(scan(where, _FIRST_LOOK, Symptom(question.service, question.operation), small=True))
        if weight > 1:
            notes.append(f"{found} requests between {_clock(window)}; an even sample of {len(chosen)} was read in full and weighted.")
        traces.append((window, chosen, weight))
    if not any(len(chosen) for _, chosen, _ in traces):
        what = f"{question.service} {question.operation or ''}".strip()
        raise NotEnoughData(f"no requests of {what} are stored in these windows. Is the name right, and the time?")
    for window, chosen, weight in traces:
        where = Where(Stream.SPANS, window.start, window.end + MARGIN_NS, question.environment, fresh=True)
        part = spans.concat(scan(where, columns, OfTraces(chosen.cast(pa.binary()))))
        if weight != 1:
            index = part.schema.get_field_index("weight")
            part = part.set_column(index, "weight", pa.array(arrow.numbers(part["weight"]) * weight))
        kept.append(part)
    # A trace that spans two windows was read twice.
    return spans.deduplicate(spans.conform(spans.concat(kept))), notes


def _columns(environment: str | None) -> list[str]:
    """What a diagnosis reads of a span: neither events and links nor what no two requests share."""
    known = AttributeName.objects.filter(stream=Stream.SPANS).exclude(level="")
    known = known if environment is None else known.filter(environment=environment)
    keys = [(level, key) for level, key in known.values_list("level", "name").distinct() if key not in IDENTITIES]
    return [*_OF_SPANS, *(arrow.attribute_column(level, letter, key) for level, key in keys for letter in COMPARED_TYPES)]


@dataclass(frozen=True)
class Symptom:
    """Work of a scan: the traces of the symptom's requests, and whether work of the service begins in them."""

    service: str
    operation: str | None

    def __call__(self, table: pa.Table, window: tuple[int, int] | None) -> pa.Table:
        keep = pc.equal(table["service"], self.service)
        if self.operation is not None:
            keep = pc.and_(keep, pc.equal(table["operation"], self.operation))
        if window is not None:
            keep = pc.and_(keep, pc.and_(pc.greater_equal(table["start"], window[0]), pc.less(table["start"], window[1])))
        mine = table.filter(keep)
        seen = pa.table({"trace": mine["trace_id"], "entry": pa.array(spans.is_entry(mine))})
        return seen.group_by("trace").aggregate([("entry", "max")])


@dataclass(frozen=True)
class OfTraces:
    """Work of a scan: all spans of some traces."""

    ids: pa.Array

    def __call__(self, table: pa.Table, window: tuple[int, int] | None) -> pa.Table:
        return table.filter(pc.is_in(table["trace_id"].cast(pa.binary()), value_set=self.ids))


def _choose(parts: list[pa.Table]) -> tuple[pa.Array, float, int]:
    """Trace ids of the symptom's requests in a window, at most MAX_REQUESTS, and what each stands for."""
    seen = pa.concat_tables(parts) if parts else pa.table({"trace": pa.array([], pa.binary(16)), "entry_max": pa.array([], pa.bool_())})
    entry = seen.filter(seen["entry_max"])
    ids = (entry if entry.num_rows else seen)["trace"].unique()
    ids = ids.combine_chunks() if isinstance(ids, pa.ChunkedArray) else ids
    found = len(ids)
    if found <= MAX_REQUESTS:
        return ids, 1.0, found
    # By a word of the id, not by order: the same traces whichever way they are stored.
    words = arrow.ids(ids, 16)
    chosen = np.argsort(mix(words[:, 0] ^ mix(words[:, 1])))[:MAX_REQUESTS]
    return ids.take(pa.array(np.sort(chosen))), found / MAX_REQUESTS, found


def _clock(window: Window) -> str:
    return f"{text.time(window.start)} and {text.time(window.end)}"


def check_signal(name: str) -> Signal:
    if name not in ("latency", "errors", "throughput"):
        raise InvalidQuestion("signal must be latency, errors or throughput")
    return name  # type: ignore[return-value]
