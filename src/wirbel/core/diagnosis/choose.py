"""Which requests of a symptom are read in full: all of few, an even sample of many."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow
from wirbel.core.diagnosis.model import Question, Window
from wirbel.core.hashing import mix
from wirbel.core.signals import spans

MAX_REQUESTS = 6_000  # traces read in full, of each window; of more an even sample is taken
MARGIN_NS = 5 * 60 * 10**9  # spans of a request may start this long after it
CHANGES_BEFORE_NS = 3 * 3600 * 10**9  # changes this long before the focus are judged
ONSET_BEFORE_NS = 15 * 60 * 10**9  # requests this long before the focus help to place the onset


def windows(question: Question) -> list[Window]:
    """The stretches from which requests are read: both windows, and the time just before the focus that is in neither."""
    first, reference = question.focus.start - ONSET_BEFORE_NS, question.reference
    if reference.start < question.focus.start:  # it may come after the focus
        first = max(first, reference.end)
    bridge = [Window(first, question.focus.start)] if first < question.focus.start else []
    return [question.reference, *bridge, question.focus]


@dataclass(frozen=True)
class Symptom:
    """Finds the traces of the symptom's requests in a table of spans, and whether work of the service begins in them."""

    service: str
    operation: str | None

    def __call__(self, table: pa.Table, window: tuple[int, int] | None) -> pa.Table:
        """Columns ``trace`` and ``entry_max``, one row a trace, of spans that start in ``window`` (ns)."""
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
    """All spans of some traces in a table of spans, with their texts encoded, as they may be before."""

    ids: pa.Array

    def __call__(self, table: pa.Table, window: tuple[int, int] | None) -> pa.Table:
        return arrow.encoded(table.filter(pc.is_in(table["trace_id"].cast(pa.binary()), value_set=self.ids)))


@dataclass(frozen=True)
class Chosen:
    """Trace ids that are read of ``found`` ones; each stands for ``weight`` of them."""

    ids: pa.Array
    found: int

    @property
    def weight(self) -> float:
        return self.found / len(self.ids) if len(self.ids) else 1.0


def choose(seen: list[pa.Table]) -> Chosen:
    """The traces to read, of what :class:`Symptom` found in parts of a window: MAX_REQUESTS at most."""
    whole = pa.concat_tables(seen) if seen else pa.table({"trace": pa.array([], pa.binary(16)), "entry_max": pa.array([], pa.bool_())})
    entry = whole.filter(whole["entry_max"])
    ids = (entry if entry.num_rows else whole)["trace"].unique()
    ids = ids.combine_chunks() if isinstance(ids, pa.ChunkedArray) else ids
    found = len(ids)
    if found > MAX_REQUESTS:
        # By a word of the id, not by order: the same traces whichever way they are stored.
        words = arrow.ids(ids, 16)
        chosen = np.argsort(mix(words[:, 0] ^ mix(words[:, 1])))[:MAX_REQUESTS]
        ids = ids.take(pa.array(np.sort(chosen)))
    return Chosen(ids, found)


def joined(tables: list[pa.Table]) -> pa.Table:
    """The spans of several windows, each once: a trace that spans two windows was read twice."""
    return spans.deduplicate(spans.conform(spans.concat(tables).unify_dictionaries()))


def weighted(table: pa.Table, weight: float) -> pa.Table:
    """Spans that stand for ``weight`` times as many as before."""
    if weight == 1:
        return table
    place = table.schema.get_field_index("weight")
    return table.set_column(place, "weight", pa.array(arrow.numbers(table["weight"]) * weight))
