"""Words of texts as numbers, against Python's own sets of words."""

from __future__ import annotations

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from wirbel.core import words
from wirbel.core.errors import InvalidQuestion
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
    assert words.rows_with_all(column, wanted).tolist() == [row for row, has in enumerate(expected) if has]
    if any(expected) and wanted:
        assert bloom.may_contain(bloom.build(words.distinct(column)), words.numbers_of(wanted)).all()


def test_a_search_is_bounded() -> None:
    assert words.asked_for("Berth berth 7, BERTH!") == ["berth", "7"]
    for too_much in ("x" * 2_001, " ".join(f"w{n}" for n in range(51))):
        with pytest.raises(InvalidQuestion, match="at most 50 different words, and 2000 characters"):
            words.asked_for(too_much)


def test_long_words_count_by_their_first_bytes() -> None:
    assert (words.numbers_of(["a" * 32]) == words.numbers_of(["a" * 40])).all()
    assert (words.numbers_of(["a" * 31]) != words.numbers_of(["a" * 32])).any()


def test_the_filter_hides_what_is_not_there() -> None:
    """False positives with sixteen bits a word and seven hashes are (1 − e^(−7/16))⁷ = 0.06 % (Kirsch and Mitzenmacher 2006)."""
    held = bloom.build(words.distinct(pa.array([f"seen {n}" for n in range(5_000)])))
    wrong = bloom.may_contain(held, words.numbers_of([f"{n}" for n in range(5_000, 55_000)])).mean()
    assert 0.0002 < wrong < 0.0015
