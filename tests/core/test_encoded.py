"""Texts encoded as dictionaries say the same as texts."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

from wirbel.core import arrow

WORDS = st.lists(st.none() | st.sampled_from(["", "a", "b", "c", "ä"]), max_size=30)


@settings(deadline=None)
@given(st.lists(WORDS, min_size=1, max_size=4), st.integers(0, 30))
def test_codes_do_not_depend_on_how_a_column_is_kept(chunks: list[list[str | None]], cut: int) -> None:
    """Encoded chunk by chunk, each with a dictionary of its own, and cut: then the dictionaries hold values that no row has."""
    plain = pa.chunked_array([pa.array(chunk, pa.string()) for chunk in chunks])
    kept = pa.chunked_array([chunk.dictionary_encode() for chunk in plain.chunks], type=arrow.ENCODED)

    codes, values = arrow.codes(plain.slice(cut))
    again, same = arrow.codes(kept.slice(cut))

    assert same == values
    assert again.tolist() == codes.tolist()
    assert [None if code < 0 else values[code] for code in codes] == plain.slice(cut).to_pylist()


def test_tables_are_put_together_whether_their_texts_are_encoded_alike() -> None:
    first = arrow.encoded(pa.table({"service": ["a", "b"], "span.s:x": ["1", None]}))
    second = arrow.encoded(pa.table({"service": ["c", "a"]}))
    schema = pa.schema([("service", pa.string())])

    table = arrow.conform(arrow.concat([first, second], schema).unify_dictionaries(), schema)

    assert arrow.in_order(table, np.array([3, 2, 1, 0])).column("service").cast(pa.string()).to_pylist() == ["a", "c", "b", "a"]
    assert arrow.decoded(table["span.s:x"]).to_pylist() == ["1", None, None, None]


NUMBERS = st.lists(st.integers(-(2**62), 2**62) | st.integers(0, 3), max_size=400)


@settings(deadline=None)
@given(NUMBERS, st.integers(1, 400), st.integers(1, 3))
def test_what_is_packed_comes_back_as_it_was(minutes: list[int], texts: int, chunks: int) -> None:
    """However many different ones there are: codes of one byte hold 128."""
    names = pa.array([f"service {n % texts}" if n % 7 else None for n in range(len(minutes))], pa.string())
    part = pa.table({"minute": pa.array(minutes, pa.int64()), "service": names.dictionary_encode(), "rows": pa.array(range(len(minutes)), pa.int32())})
    table = pa.concat_tables([part.slice(n) for n in range(chunks)])

    back = arrow.unpacked(arrow.packed(table))

    assert back.schema.equals(table.schema)
    assert back.to_pydict() == table.to_pydict()


def test_what_is_packed_takes_less() -> None:
    minute = pa.array(np.repeat(np.arange(60) * 60 * 10**9, 200))
    table = pa.table({"minute": minute, "service": pa.array([f"service {n % 200}" for n in range(len(minute))]).dictionary_encode()})

    assert arrow.packed(table).nbytes < table.nbytes / 3
