"""Words of texts as numbers, against Python's own sets of words."""

from __future__ import annotations

import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from wirbel.core import words
from wirbel.store import bloom

TEXTS = st.lists(st.one_of(st.none(), st.text(alphabet="aB9_ -.éß漢\n", max_size=60), st.text(max_size=40)), max_size=12)


@given(TEXTS)
def test_each_word_of_a_column_is_found_and_no_other(texts: list[str | None]) -> None:
    expected = {word for text in texts if text for word in words.words_in(text)}
    found = set(map(tuple, words.distinct(pa.chunked_array([pa.array(texts, pa.string())])).tolist()))
    assert found == set(map(tuple, words.numbers_of(sorted(expected)).tolist()))


@given(TEXTS, st.text(alphabet="aB9_ é", max_size=8))
def test_rows_that_contain_all_words_are_found_and_the_filter_never_hides_one(texts: list[str | None], asked: str) -> None:
    column = pa.chunked_array([pa.array(texts, pa.string())])
    wanted = words.words_in(asked)
    expected = [text is not None and set(wanted) <= set(words.words_in(text)) for text in texts]
    assert words.contains_all(column, wanted).to_pylist() == expected
    if any(expected) and wanted:
        assert bloom.may_contain(bloom.build(words.distinct(column)), words.numbers_of(wanted)).all()


def test_long_words_count_by_their_first_bytes() -> None:
    assert (words.numbers_of(["a" * 32]) == words.numbers_of(["a" * 40])).all()
    assert (words.numbers_of(["a" * 31]) != words.numbers_of(["a" * 32])).any()


def test_the_filter_hides_what_is_not_there() -> None:
    """False positives with sixteen bits a word and seven hashes are (1 − e^(−7/16))⁷ = 0.06 % (Kirsch and Mitzenmacher 2006)."""
    held = bloom.build(words.distinct(pa.array([f"seen {n}" for n in range(5_000)])))
    wrong = bloom.may_contain(held, words.numbers_of([f"{n}" for n in range(5_000, 55_000)])).mean()
    assert 0.0002 < wrong < 0.0015
