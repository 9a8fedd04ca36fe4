"""Masks of log records, and counts that add."""

from __future__ import annotations

import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

from wirbel.core.patterns import drain
from wirbel.core.patterns.counts import COUNTED, Count, merge
from wirbel.core.patterns.masks import LONGEST, MASK, masked
from wirbel.core.signals.logs import LOG_SCHEMA

BEFORE, DURING = (0, 1000), (1000, 2000)


def test_what_varies_is_masked_and_what_is_said_stays() -> None:
    bodies = [
        "order 4711 answered with 200 in 3.25 ms",
        "order 9 answered with 503 in 11,5 ms",
        "user 3f2b8c1d-0001-4a4e-9c9c-111122223333 from 10.0.0.7:5432 said 'no way'",
        "could not extend file base/16401/99: No space left on device",
        None,
        "",
    ]
    found = masked(pa.array(bodies)).to_pylist()
    assert found[0] == found[1] == f"order {MASK} answered with {MASK} in {MASK} ms"
    assert found[2] == f"user {MASK} from {MASK} said {MASK}"
    assert found[3] == f"could not extend file base/{MASK}/{MASK}: No space left on device"
    assert found[4:] == [None, ""]


@settings(deadline=None)
@given(st.lists(st.text(max_size=400), max_size=20))
def test_any_text_is_masked_alike_twice(bodies: list[str]) -> None:
    once = masked(pa.array(bodies, pa.string()))
    assert len(once) == len(bodies)
    assert masked(pa.array([body[:LONGEST] for body in bodies], pa.string())).equals(once)


def records(rows: list[tuple[int, str, str]]) -> pa.Table:
    return pa.Table.from_pylist([{"time": at, "service": service, "severity": 9, "body": body, "weight": 2.0} for at, service, body in rows], LOG_SCHEMA)


row = st.tuples(st.integers(0, 2500), st.sampled_from(["a", "b"]), st.sampled_from(["x 1", "x 2", "y"]))


@settings(deadline=None)
@given(st.lists(row, max_size=30), st.integers(0, 30))
def test_counts_of_parts_add_up_to_those_of_all(rows: list[tuple[int, str, str]], cut: int) -> None:
    count = Count(BEFORE, DURING)
    whole, parts = count(records(rows)), merge([count(records(rows[:cut])), count(records(rows[cut:]))])
    keys = [("service", "ascending"), ("template", "ascending")]
    assert whole.sort_by(keys).equals(parts.sort_by(keys))
    assert whole.schema == COUNTED
    expected = {(service, "y" if body == "y" else f"x {MASK}"): 0.0 for at, service, body in rows if at < 2000}
    for at, service, body in rows:
        if 1000 <= at < 2000:
            expected[service, "y" if body == "y" else f"x {MASK}"] += 2.0
    assert {(r["service"], r["template"]): r["after"] for r in whole.to_pylist()} == expected


def test_templates_in_which_a_word_varies_are_one() -> None:
    """The worked example of He et al. 2017, figure 1 (from memory): lines of one event differ in a word."""
    lines = ["Receive from node <*>", "user anna logged in from <*>", "user ben logged in from <*>", "disk full", "disk slow", "user carl logged in from <*>"]
    numbers, templates = drain.group(lines)
    assert [templates[number] for number in numbers] == [
        "Receive from node <*>",
        *["user <*> logged in from <*>"] * 2,
        "disk full",
        "disk slow",
        "user <*> logged in from <*>",
    ]


@given(st.lists(st.lists(st.sampled_from(["a", "b", "c", "<*>", "found", "lost"]), max_size=6), max_size=40))
def test_a_group_s_template_matches_all_that_is_in_it(words: list[list[str]]) -> None:
    numbers, templates = drain.group([" ".join(one) for one in words])
    for own, number in zip(words, numbers, strict=True):
        common = templates[number].split()
        assert len(common) == len(own)
        assert all(word == other or word == "<*>" for word, other in zip(common, own, strict=True))
