from __future__ import annotations

import networkx as nx
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from wirbel.core.diagnosis.critical_path import critical_path, members, outermost
from wirbel.core.signals.spans import CLIENT, CONSUMER, INTERNAL, PRODUCER, SERVER


def path(spans: list[tuple[int, int, int]], kinds: list[int] | None = None, roots: tuple[int, ...] = (0,)):
    """Spans as (parent row, start, end)."""
    parent, start, end = (np.array(column, np.int64) for column in zip(*spans, strict=True))
    kind = np.array(kinds or [INTERNAL] * len(spans))
    return critical_path(start, end - start, parent, kind, np.array(roots))


@st.composite
def trees(draw: st.DrawFn) -> tuple[list[tuple[int, int, int]], list[int]]:
    """Random trees: parallel, overlapping and outliving children, spans before their parent (skew), cycles, missing parents."""
    count = draw(st.integers(1, 40))
    spans, kinds = [], []
    for row in range(count):
        parent = -1 if row == 0 else draw(st.integers(-1, count - 1))
        start = draw(st.integers(-50, 1000))
        spans.append((parent, start, start + draw(st.integers(0, 500))))
        kinds.append(draw(st.sampled_from([INTERNAL, SERVER, CLIENT, PRODUCER, CONSUMER])))
    return spans, kinds


@settings(max_examples=400)
@given(trees())
def test_own_times_sum_to_the_root_exactly(tree: tuple[list[tuple[int, int, int]], list[int]]) -> None:
    spans, kinds = tree
    found = path(spans, kinds)
    reached = found.request == 0
    assert found.self_time[reached].sum() == spans[0][2] - spans[0][1]
    assert (found.self_time >= 0).all()


@settings(max_examples=200)
@given(trees())
def test_the_answer_does_not_depend_on_how_many_trees_are_done_at_once(tree: tuple[list[tuple[int, int, int]], list[int]]) -> None:
    spans, kinds = tree
    shift = len(spans)
    twice = spans + [(p + shift if p >= 0 else p, a + 10**6, b + 10**6) for p, a, b in spans]
    both = path(twice, kinds * 2, (0, shift))
    alone = path(spans, kinds)
    assert (both.self_time[:shift] == alone.self_time).all()
    assert (both.self_time[shift:] == alone.self_time).all()


def test_children_one_after_another_and_side_by_side() -> None:
    # root 0–100; a 10–40; b 20–60 beside it; c 70–90 after both
    found = path([(-1, 0, 100), (0, 10, 40), (0, 20, 60), (0, 70, 90)])
    # Back from the end: own 90–100, c 70–90, own 60–70, b 20–60, a 10–20, own 0–10.
    assert found.self_time.tolist() == [30, 10, 40, 20]


def test_a_child_that_outlives_its_parent_counts_only_while_it_runs() -> None:
    assert path([(-1, 0, 100), (0, 80, 500)]).self_time.tolist() == [80, 20]


def test_a_consumer_is_not_waited_for_by_its_producer() -> None:
    assert path([(-1, 0, 100), (0, 10, 30), (1, 15, 400)], [SERVER, PRODUCER, CONSUMER]).self_time.tolist() == [80, 20, 0]


def test_a_skewed_clock_is_put_right_between_question_and_answer() -> None:
    # The server's clock is 1000 ahead: its span is put in the middle of the client's.
    found = path([(-1, 0, 100), (0, 10, 90), (1, 1020, 1080), (2, 1030, 1050)], [SERVER, CLIENT, SERVER, INTERNAL])
    assert found.self_time.tolist() == [20, 20, 40, 20]
    assert (found.low[2], found.high[2]) == (20, 80)


def test_against_the_longest_path_of_fork_join_graphs() -> None:
    """networkx.dag_longest_path_length on series of parallel stages: the path is the slowest branch of each stage."""
    rng = np.random.default_rng(3)
    for _ in range(40):
        spans, graph, at, join = [(-1, 0, 0)], nx.DiGraph(), 0, "start"
        graph.add_node(join)
        for stage in range(int(rng.integers(1, 6))):
            lengths = rng.choice(np.arange(1, 200), int(rng.integers(1, 6)), replace=False)
            after = f"join {stage}"
            for branch, length in enumerate(lengths):
                spans.append((0, at, at + int(length)))
                graph.add_edge(join, f"{stage}.{branch}", weight=int(length))
                graph.add_edge(f"{stage}.{branch}", after, weight=0)
            at += int(lengths.max())
            join = after
        spans[0] = (-1, 0, at)
        found = path(spans)
        assert found.self_time[0] == 0
        assert found.self_time[1:].sum() == nx.dag_longest_path_length(graph)
        on_path = set(nx.dag_longest_path(graph))
        names = [name for name in graph if "." in name]
        assert {names[row - 1] for row in np.flatnonzero(found.self_time[1:] > 0) + 1} == {name for name in names if name in on_path}


def test_requests_inside_requests_belong_to_the_outermost() -> None:
    parent = np.array([-1, 0, 1, -1])
    assert outermost(parent, np.array([0, 2, 3])).tolist() == [0, 3]
    assert members(parent, np.array([0, 3])).tolist() == [0, 0, 0, 1]


def test_long_chains_do_not_overflow() -> None:
    hour = 3600 * 10**9
    count = 3000
    spans = [(-1, 0, hour)] + [(0, 0, hour - n) for n in range(count)]
    found = path(spans)
    assert found.self_time.sum() == hour


@pytest.mark.parametrize("roots", [(), (0,)])
def test_no_spans_under_no_roots(roots: tuple[int, ...]) -> None:
    found = path([(-1, 0, 0)], roots=roots) if roots else critical_path(*(np.array([5]),) * 2, np.array([-1]), np.array([2]), np.array([], np.int64))
    assert found.self_time.sum() == 0
