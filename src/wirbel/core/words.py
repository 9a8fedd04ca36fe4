"""Words of texts, as numbers, so that a filter can say which blocks lack one.

A word is a run of letters, digits and underscores; upper and lower case are the same. Of a
long word the first 32 bytes count.
"""

from __future__ import annotations

import re

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core.errors import InvalidQuestion
from wirbel.core.hashing import Words, mix

LONGEST = 32  # bytes of a word that count
MOST_WORDS, LONGEST_ASKED = 50, 2_000  # of a search: different words, and characters
_INSIDE = np.zeros(256, np.bool_)
_INSIDE[[*b"0123456789_abcdefghijklmnopqrstuvwxyz"]] = True
_INSIDE[0x80:] = True  # parts of letters that are not ASCII
_WORD = re.compile(r"[0-9_a-z\x80-\U0010ffff]+")


def words_in(asked: str) -> list[str]:
    """The words of a search text, in lower case."""
    return _WORD.findall(asked.lower())


def asked_for(text: str) -> list[str]:
    """The words of a search, each once. Raises InvalidQuestion if there are too many."""
    found = list(dict.fromkeys(words_in(text[: LONGEST_ASKED + 1])))
    if len(text) > LONGEST_ASKED or len(found) > MOST_WORDS:
        raise InvalidQuestion(f"a search has at most {MOST_WORDS} different words, and {LONGEST_ASKED} characters in all")
    return found


def numbers_of(words: list[str]) -> Words:
    """The number of each word, shape (words, 2)."""
    return distinct(pa.array(words, pa.string()))


def distinct(texts: pa.Array | pa.ChunkedArray) -> Words:
    """The numbers of all words in a column of text, each once; shape (words, 2), in no order."""
    column = pa.concat_arrays(texts.chunks) if isinstance(texts, pa.ChunkedArray) and texts.num_chunks else texts
    if not len(column) or column.null_count == len(column):
        return np.zeros((0, 2), np.uint64)
    # One text with a gap between records, so that words are found in all of them at once.
    whole = pc.binary_join(pa.ListArray.from_arrays([0, len(column)], pc.utf8_lower(column.fill_null(""))), "\n")[0].as_buffer()
    raw = np.concatenate([np.zeros(1, np.uint8), np.frombuffer(whole, np.uint8), np.zeros(LONGEST + 1, np.uint8)])
    inside = _INSIDE[raw]
    edges = np.flatnonzero(inside[1:] != inside[:-1]) + 1
    first = pc.unique(pa.array(_numbers(raw, edges[::2], edges[1::2] - edges[::2]))).to_numpy()
    return np.stack([first, np.zeros_like(first)], axis=1)  # in the width of a trace id, which the filter takes


_KEPT = np.array([(1 << (8 * count)) - 1 for count in range(9)], np.uint64)  # masks for the first bytes of eight


def _numbers(raw: npt.NDArray[np.uint8], starts: npt.NDArray[np.int64], lengths: npt.NDArray[np.int64]) -> npt.NDArray[np.uint64]:
    """A number of each word, eight bytes at a time; few words are longer than that."""
    eights = np.ndarray((len(raw) - 7,), np.uint64, raw, strides=(1,))  # the eight bytes from each place on
    number = mix(eights[starts] & _KEPT[np.minimum(lengths, 8)])
    for place in range(8, LONGEST, 8):
        longer = np.flatnonzero(lengths > place)
        number[longer] = mix(number[longer] ^ (eights[starts[longer] + place] & _KEPT[np.minimum(lengths[longer] - place, 8)]))
    return number


def rows_with_all(texts: pa.ChunkedArray, words: list[str]) -> npt.NDArray[np.int64]:
    """Rows whose text contains every word; null texts contain none."""
    left = pc.utf8_lower(texts)
    rows = np.flatnonzero(pc.is_valid(left).to_numpy())
    left = left.take(pa.array(rows))
    # Long words first, as they leave the fewest texts for the others; where a word stands is looked at in what holds its letters.
    for word in sorted(words, key=len, reverse=True):
        edge = r"[^0-9_a-z\x{80}-\x{10ffff}]"
        for is_there, sought in ((pc.match_substring, word), (pc.match_substring_regex, f"(^|{edge}){word}({edge}|$)")):
            kept = np.flatnonzero(is_there(left, sought).to_numpy())
            rows, left = rows[kept], left.take(pa.array(kept))
    return rows
