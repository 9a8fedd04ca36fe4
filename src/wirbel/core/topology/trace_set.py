"""Spans of whole traces, with each column encoded once however many steps ask for it."""

from __future__ import annotations

from functools import cached_property

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow
from wirbel.core.signals import spans
from wirbel.core.topology.parents import earliest_of_circles, parent_rows, trace_keys

Ints = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]
Bools = npt.NDArray[np.bool_]


class TraceSet:
    """A table of spans (spans schema) as arrays, each of shape (rows,)."""

    def __init__(self, table: pa.Table) -> None:
        self.table = table
        self._codes: dict[str, tuple[Ints, list[str]]] = {}

    def __len__(self) -> int:
        return self.table.num_rows

    @cached_property
    def _named(self) -> Ints:
        """Row of the parent that each span names; −1 where it is not here."""
        return parent_rows(self.table)

    @cached_property
    def cut(self) -> Ints:
        """Rows that are read as if they named no parent: of spans that are beneath each other in a circle, the one that starts first."""
        return earliest_of_circles(self._named, self.start)

    @cached_property
    def parent(self) -> Ints:
        """Row of each span's parent; −1 for a root, or where the parent is not here. Whoever follows it comes to an end."""
        found = self._named.copy()
        found[self.cut] = -1
        return found

    @cached_property
    def words(self) -> npt.NDArray[np.uint64]:
        """A word of each span's trace id, as good as random."""
        return trace_keys(arrow.ids(self.table["trace_id"], 16))

    @cached_property
    def start(self) -> Ints:
        """ns since 1970."""
        return arrow.numbers(self.table["start"])

    @cached_property
    def duration(self) -> Ints:
        """ns."""
        return arrow.numbers(self.table["duration"])

    @property
    def end(self) -> Ints:
        """ns since 1970."""
        return self.start + self.duration

    @cached_property
    def kind(self) -> Ints:
        """OTLP span kind."""
        return arrow.numbers(self.table["kind"]).astype(np.int64)

    @cached_property
    def failed(self) -> Bools:
        """Whether the outcome is an error."""
        return np.asarray(arrow.numbers(self.table["outcome"]) == spans.ERROR)

    @cached_property
    def adjusted_count(self) -> Floats:
        """Adjusted counts."""
        return arrow.numbers(self.table["weight"])

    @cached_property
    def is_entry(self) -> Bools:
        """Whether work of the service begins here."""
        return spans.is_entry(self.table)

    @cached_property
    def own_parent(self) -> Bools:
        """Whether a span names itself as its parent."""
        return np.asarray(pc.fill_null(pc.equal(self.table["parent_id"], self.table["span_id"]), False))

    @property
    def lost_parent(self) -> Bools:
        """Whether a span names a parent that is not here."""
        return np.asarray(~self.table["parent_id"].is_null().to_numpy() & (self._named < 0) & ~self.own_parent)

    def codes(self, column: str) -> tuple[Ints, list[str]]:
        """A text column as codes (−1 for null) and what each stands for."""
        if column not in self._codes:
            self._codes[column] = arrow.codes(self.table[column])
        return self._codes[column]

    def together(self, *columns: str) -> list[tuple[int, ...]]:
        """The distinct combinations of values of text columns that spans have, as their codes, in order; spans that lack one are left out."""
        codes = [self.codes(column) for column in columns]
        known = np.logical_and.reduce([code >= 0 for code, _ in codes])
        shape = tuple(max(len(values), 1) for _, values in codes)
        found = np.unique(np.ravel_multi_index([code[known] for code, _ in codes], shape))
        return list(zip(*(part.tolist() for part in np.unravel_index(found, shape)), strict=True))

    def equal(self, column: str, value: str) -> Bools:
        """Where a text column has a value."""
        code, values = self.codes(column)
        return code == (values.index(value) if value in values else -2)

    def text(self, column: str, row: int) -> str | None:
        """The text of a column in one row."""
        code, values = self.codes(column)
        return values[code[row]] if code[row] >= 0 else None

    def ids(self, row: int) -> tuple[str, str]:
        """Trace id and span id of a row, hexadecimal."""
        return self.table["trace_id"][row].as_py().hex(), self.table["span_id"][row].as_py().hex()
