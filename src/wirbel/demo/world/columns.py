"""Pieces of columns, made a kind of span at a time, to one table."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from wirbel.core import arrow
from wirbel.demo.world.topology import Topology

Ints = npt.NDArray[np.int64]


@dataclass
class Pieces:
    """Spans of one batch, column by column; every piece is an array or one value for all its rows."""

    pieces: list[tuple[int, dict[str, object]]] = field(default_factory=list)

    def add(self, count: int, **columns: object) -> None:
        if count:
            self.pieces.append((count, columns))

    @property
    def total(self) -> int:
        return sum(count for count, _ in self.pieces)

    @property
    def names(self) -> list[str]:
        return sorted({name for _, columns in self.pieces for name in columns})

    def numbers(self, name: str, width: int = 0, dtype: npt.DTypeLike = np.int64) -> npt.NDArray:  # type: ignore[type-arg]
        """A column of numbers, 0 where a piece has none; shape (rows,) or (rows, width)."""
        into = np.zeros((self.total, width) if width else self.total, dtype)
        at = 0
        for count, columns in self.pieces:
            if name in columns:
                value = np.asarray(columns[name])
                into[at : at + count] = value.reshape(count, -1) if width and value.ndim < 2 else value
            at += count
        return into

    def column(self, name: str, order: Ints) -> pa.Array:
        """A column as Arrow, null where a piece has none; strings as a dictionary, because few distinct ones repeat."""
        sample = next(columns[name] for _, columns in self.pieces if name in columns)
        if not (isinstance(sample, str) or (isinstance(sample, np.ndarray) and sample.dtype == object)):
            values = self.numbers(name, dtype=np.asarray(sample).dtype)
            missing = np.concatenate([np.full(count, name not in columns) for count, columns in self.pieces])
            return pa.array(values[order], mask=missing[order])
        words: dict[str, int] = {}
        codes = np.full(self.total, -1, np.int32)
        at = 0
        for count, columns in self.pieces:
            value = columns.get(name)
            if isinstance(value, str):
                codes[at : at + count] = words.setdefault(value, len(words))
            elif value is not None:
                encoded = pa.array(value, pa.string()).dictionary_encode()
                mapped = np.array([words.setdefault(word, len(words)) for word in encoded.dictionary.to_pylist()] + [-1], np.int32)
                codes[at : at + count] = mapped[encoded.indices.fill_null(-1).to_numpy(zero_copy_only=False)]
            at += count
        codes = codes[order]
        return pa.DictionaryArray.from_arrays(pa.array(codes, mask=codes < 0), pa.array(list(words), pa.string())).cast(pa.string())


def binary(words: npt.NDArray[np.uint64], missing: npt.NDArray[np.bool_] | None = None) -> pa.Array:
    """Rows of 64-bit words as fixed-width ids."""
    width = words.shape[1] * 8
    data = pa.py_buffer(np.ascontiguousarray(words).tobytes())
    if missing is None or not missing.any():
        return pa.FixedSizeBinaryArray.from_buffers(pa.binary(width), len(words), [None, data])
    valid = pa.array(~missing).buffers()[1]
    return pa.FixedSizeBinaryArray.from_buffers(pa.binary(width), len(words), [valid, data])


def lists(values: pa.StructArray, rows: Ints, count: int) -> pa.Array:
    """A list column with one value in the given rows (ascending), null in the others."""
    lengths = np.zeros(count, np.int64)
    lengths[rows] = 1
    offsets = np.r_[0, np.cumsum(lengths)].astype(np.int32)
    missing = np.r_[lengths == 0, False]
    return pa.ListArray.from_arrays(pa.array(offsets, mask=missing), values)


def places(topology: Topology, service: pa.Array, instance: Ints) -> dict[str, pa.Array]:
    """Instance, host and zone names for rows of (service, instance number)."""
    code, names = arrow.codes(service)
    most = max(len(found) for found in topology.instances.values())
    table = {name: np.full((len(names), most), None, object) for name in ("name", "host", "zone")}
    for row, name in enumerate(names):
        for column, found in enumerate(topology.instances[name]):
            for key in table:
                table[key][row, column] = getattr(found, key)

    def named(key: str) -> pa.Array:
        flat = pa.array(table[key].ravel(), pa.string())
        return flat.take(pa.array(code * most + instance))

    return {"instance": named("name"), "host": named("host"), "resource.s:cloud.availability_zone": named("zone"), "resource.s:k8s.pod.name": named("name")}
