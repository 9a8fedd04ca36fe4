"""A trace's outline against the plain way: a walk that visits one span after the other."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.builders import NOW, table
from wirbel.core.diagnosis import requests as rq
from wirbel.core.oddities import oddities
from wirbel.core.outline import LEAST_RUN, Outline
from wirbel.core.signals import spans
from wirbel.core.topology.parents import parent_rows
from wirbel.core.topology.trace_set import TraceSet

MS = 10**6


@st.composite
def traces(draw: st.DrawFn) -> TraceSet:
    """A few dozen spans under each other, in circles too, or under parents that have not arrived, of three services and three operations."""
    rows = []
    count = draw(st.integers(1, 40))
    is_sound = draw(st.booleans())
    for n in range(1, count + 1):
        parent = draw(st.sampled_from([None, 999, *range(1, n if is_sound else count + 1)]))
        call = draw(st.booleans())
        rows.append(
            {
                "trace": 1,
                "span": n,
                "parent": parent,
                "service": draw(st.sampled_from(["a", "b", "c"])),
                "operation": draw(st.sampled_from(["x", "y", "z"])),
                "kind": spans.CLIENT if call else spans.SERVER,
                "peer": draw(st.sampled_from(["a", "db"])) if call else None,
                "peer_kind": "database" if call else None,
                "start": draw(st.integers(0, 50)),
                "duration": draw(st.integers(0, 30)),
            }
        )
    return TraceSet(table(*draw(st.permutations(rows))))


def plain_order(drawn: Outline) -> list[tuple[int, int]]:
    """Rows and depths, one span after the other."""
    parent, start, root = parent_rows(drawn.traces.table).tolist(), drawn.traces.start, drawn.root
    by_time = [int(row) for row in np.argsort(start, kind="stable")]
    for row in by_time:
        # The first that leads to itself is cut, and its circle is none any more.
        met, at = set(), parent[row]
        while at >= 0 and at != row and at not in met:
            met.add(at)
            at = parent[at]
        if at == row:
            parent[row] = -1
    above, at = set(), parent[root]
    while at >= 0:
        above.add(at)
        at = parent[at]
    parent[root] = -1
    tops = [root] + [row for row in by_time if parent[row] < 0 and row != root and row not in above]
    found: list[tuple[int, int]] = []

    def visit(row: int, depth: int) -> None:
        found.append((row, depth))
        for child in by_time:
            if parent[child] == row and child != root:
                visit(child, depth + 1)

    for top in tops:
        visit(top, 0)
    return found


@settings(deadline=None)
@given(traces(), st.data())
def test_the_order_is_that_of_a_walk(given_: TraceSet, data: st.DataObject) -> None:
    drawn = Outline(given_, data.draw(st.integers(0, len(given_) - 1)), 10**6)
    assert list(zip(drawn.order.tolist(), drawn.depth.tolist(), strict=True)) == plain_order(drawn)
    for place, above in enumerate(drawn.parents.tolist()):
        row = int(drawn.order[place])
        is_top = row == drawn.root or given_.parent[row] < 0
        assert above == (-1 if is_top else drawn.order.tolist().index(given_.parent[row]))
    # Nothing vanishes.
    assert len(set(drawn.order.tolist())) == len(drawn.order) == len(given_) - drawn.beside
    assert drawn.levels == max(drawn.depth) + 1
    if given_.parent[drawn.root] < 0:
        assert drawn.beside == 0
    names = [given_.text("peer", row) if given_.text("peer_kind", row) == "database" else given_.text("service", row) for row in drawn.order.tolist()]
    assert drawn.channels == list(dict.fromkeys(names))
    assert [drawn.channels[n] for n in drawn.channel[drawn.order]] == names


@settings(deadline=None)
@given(traces(), st.integers(1, 20))
def test_what_is_left_out_is_counted(given_: TraceSet, most: int) -> None:
    whole, cut = Outline(given_, 0, 10**6), Outline(given_, 0, most)
    assert cut.order.tolist() == whole.order.tolist()[:most]
    assert len(cut.order) + cut.left_out == len(whole.order)


@settings(deadline=None)
@given(traces(), st.data())
def test_the_steps_of_the_path_cover_the_root_without_gap(given_: TraceSet, data: st.DataObject) -> None:
    root = data.draw(st.integers(0, len(given_) - 1))
    path = rq.build(given_, np.array([root]), (0, 2**62)).path
    drawn = Outline(given_, root, 10**6)
    steps = drawn.steps(path)
    assert (steps.end > steps.start).all()
    assert (steps.start[1:] == steps.end[:-1]).all()
    assert int((steps.end - steps.start).sum()) == int(given_.duration[root])
    own = np.bincount(steps.row, steps.end - steps.start, len(given_))
    assert own.tolist() == path.self_time.tolist()


@settings(deadline=None)
@given(traces())
def test_runs_are_counted_as_one_by_one(given_: TraceSet) -> None:
    drawn = Outline(given_, 0, 10**6)
    groups: dict[tuple[int, int, str], list[int]] = {}
    for row in drawn.order.tolist():
        if drawn.parents[drawn.place[row]] >= 0:
            groups.setdefault((int(given_.parent[row]), int(drawn.channel[row]), given_.text("operation", row) or ""), []).append(row)
    expected = []
    for rows in groups.values():
        if len(rows) >= LEAST_RUN:
            rows.sort(key=lambda row: int(drawn.start[row]))
            ends = [int(drawn.start[row] + given_.duration[row]) for row in rows]
            in_turn = all(int(drawn.start[b]) >= end for end, b in zip(ends, rows[1:], strict=False))
            expected.append((len(rows), int(drawn.start[rows[0]]), max(ends), int(given_.duration[rows].sum()), in_turn))
    found = [(run.count, run.start, run.end, run.total, run.sequential) for run in drawn.runs()]
    assert sorted(found) == sorted(expected)
    assert [run[3] for run in found] == sorted((run[3] for run in found), reverse=True)


def test_a_span_that_is_its_own_ancestor_ends() -> None:
    """Broken instrumentation: a and b are each other's parent."""
    rows: list[dict[str, object]] = [
        {"trace": 1, "span": 1, "parent": 2, "start": 0, "duration": 5},
        {"trace": 1, "span": 2, "parent": 1, "start": 1, "duration": 3},
    ]
    drawn = Outline(TraceSet(table(*rows)), 0, 100)
    assert drawn.order.tolist() == [0, 1]
    assert drawn.depth.tolist() == [0, 1]


FOUR_MINUTES = 240_000  # ms


def test_what_is_odd_is_said_and_all_of_it_is_drawn() -> None:
    rows: list[dict[str, object]] = [
        {"span": 1, "service": "web", "start": 0, "duration": 100},
        {"span": 2, "parent": 1, "service": "web", "kind": spans.CLIENT, "start": 10, "duration": 80},
        # It answers 2, on a host whose clock is four minutes ahead; 4 is beneath it, on the same.
        {"span": 3, "parent": 2, "service": "store", "start": 20 + FOUR_MINUTES, "duration": 60},
        {"span": 4, "parent": 3, "service": "store", "kind": spans.INTERNAL, "start": 30 + FOUR_MINUTES, "duration": 20},
        {"span": 5, "parent": 6, "start": 2, "duration": 1},
        {"span": 6, "parent": 5, "start": 1, "duration": 1},
        {"span": 7, "parent": 7, "start": 3, "duration": 1},
        {"span": 8, "parent": 99, "start": 4, "duration": 1},
    ]
    drawn = Outline(TraceSet(table(*rows)), 0, 100)
    assert [(row + 1, depth) for row, depth in zip(drawn.order.tolist(), drawn.depth.tolist(), strict=True)] == [
        (1, 0), (2, 1), (3, 2), (4, 3), (6, 0), (5, 1), (7, 0), (8, 0),
    ]  # fmt: skip
    assert ((drawn.start - NOW) / MS).tolist() == [0, 10, 20, 30, 2, 1, 3, 4]
    assert oddities(drawn) == [
        "1 span names a parent that has not arrived.",
        "1 span names itself as its parent.",
        "1 circle of spans has no beginning, as each is beneath another of it: the one that started first is drawn at the top.",
        "The clock of store is about 4 min ahead: its spans are drawn within the calls that they answer.",
    ]
    path = rq.build(drawn.traces, np.array([0]), (0, 2**62)).path
    on_path = path.on_path
    assert drawn.start[on_path].tolist() == path.low[on_path].tolist()
    assert oddities(Outline(TraceSet(table(*rows[:2])), 0, 100)) == []


def test_a_very_deep_trace_is_read_too() -> None:
    deep: pa.Table = table(*({"trace": 1, "span": n, "parent": n - 1 or None, "start": n / 1000, "duration": 100 - n / 1000} for n in range(1, 3001)))
    drawn = Outline(TraceSet(deep), 0, 10**6)
    assert drawn.depth.tolist() == list(range(3000))
    assert drawn.levels == 3000
    assert not oddities(drawn)
    assert drawn.traces.start[0] == pytest.approx(NOW, abs=MS)
