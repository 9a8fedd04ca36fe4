"""Where the time of a request went: every instant belongs to exactly one span.

Walking back from the end of a span, the child that finished last holds the time back to its
start; what no child holds is the span's own. In order of falling end, the child's stretch
ends at the earliest start of the children before it, which is a running minimum: a whole
level of all trees is done in a few NumPy calls.

The idea is the longest path of a fork-join graph (common practice in tracing); the property
checked is that self times add up to the duration of the root, in whole nanoseconds.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wirbel.core.signals import spans

Ints = npt.NDArray[np.int64]
MAX_DEPTH = 10_000  # deeper spans are left in their ancestor's own time


@dataclass(frozen=True)
class Children:
    """Rows of children, grouped by parent: those of ``p`` are ``rows[first[p]:first[p + 1]]``."""

    first: Ints
    rows: Ints

    @classmethod
    def of(cls, parent: Ints) -> Children:
        order = np.argsort(parent, kind="stable")
        order = order[parent[order] >= 0]
        return cls(np.searchsorted(parent[order], np.arange(len(parent) + 1)), order)

    def under(self, parents: Ints) -> tuple[Ints, Ints]:
        """Children of all ``parents``, and for each the position of its parent in ``parents``."""
        count = self.first[parents + 1] - self.first[parents]
        group = np.repeat(np.arange(len(parents)), count)
        offset = np.arange(len(group)) - np.repeat(np.cumsum(count) - count, count)
        return self.rows[self.first[parents][group] + offset], group


@dataclass(frozen=True)
class Path:
    """For each span (row): its stretch on the path and its own share of it, ns.

    ``low`` and ``high`` are absolute times after correction for clock skew, equal where the span is
    not on the path; ``self_time`` sums to the roots' durations; ``request`` is the index of the
    root above, −1 where none.
    """

    low: Ints
    high: Ints
    self_time: Ints
    request: Ints

    @property
    def on_path(self) -> npt.NDArray[np.bool_]:
        return self.high > self.low


def _exclusive_running_minimum(values: Ints, group: Ints, initial: Ints) -> Ints:
    """Minimum of ``initial[group]`` and all earlier values of the same group; groups contiguous."""
    floor = values.min(initial=0)
    span = int(max(initial.max(initial=0), values.max(initial=0)) - floor) + 1
    if span * (int(group[-1]) + 1) >= 2**62:  # the offsets below would overflow: do it in two halves
        middle = np.searchsorted(group, (group[0] + group[-1] + 1) // 2)
        parts = [slice(0, middle), slice(middle, None)]
        return np.concatenate([_exclusive_running_minimum(values[p], group[p] - group[p][0], initial[group[p][0] :]) for p in parts])
    shifted = np.where(np.r_[True, np.diff(group) != 0], initial[group], np.r_[0, values[:-1]])
    # Later groups lie wholly below earlier ones, so that one running minimum serves all.
    lowered = shifted - floor - group * span
    return np.minimum.accumulate(lowered) + floor + group * span


def skew(start: Ints, end: Ints, kind: Ints, child: Ints, above: Ints, above_start: Ints, above_end: Ints, shift: Ints) -> Ints:
    """Shift that brings an answer inside its question when the two clocks disagree, ns, one each of the rows ``child`` under those ``above``.

    ``start``, ``end`` and ``kind`` are of all spans, ``above_start`` and ``above_end`` with the ``shift`` that those above have already; shape (children,).

    Only a server span under a client span that is no shorter than it can be judged: it must lie
    inside. It is put in the middle, as if the way there took as long as the way back.
    """
    begin, finish = start[child] + shift, end[child] + shift
    judged = (kind[child] == spans.SERVER) & (kind[above] == spans.CLIENT)
    fits = (finish - begin) <= (above_end - above_start)
    outside = (begin < above_start) | (finish > above_end)
    middle = above_start + ((above_end - above_start) - (finish - begin)) // 2
    return np.where(judged & fits & outside, middle - begin, 0)


def critical_path(start: Ints, duration: Ints, parent: Ints, kind: Ints, roots: Ints) -> Path:
    """The critical path of the trees under ``roots`` (rows).

    ``start`` and ``duration`` are ns, ``parent`` rows (−1: none), ``kind`` OTLP span kinds; all of
    shape (rows,). Children that outlive their parent count only while it runs; a consumer under
    a producer is asynchronous and not followed; a span reached twice (a cycle) counts once.
    """
    count = len(start)
    children = Children.of(parent)
    end = start + duration
    low, high = np.zeros(count, np.int64), np.zeros(count, np.int64)
    self_time = np.zeros(count, np.int64)
    shift = np.zeros(count, np.int64)
    request = np.full(count, -1, np.int64)
    request[roots] = np.arange(len(roots))
    low[roots], high[roots] = start[roots], end[roots]
    seen = np.zeros(count, np.bool_)
    seen[roots] = True
    frontier = roots[duration[roots] > 0]
    for _ in range(MAX_DEPTH):
        self_time[frontier] = high[frontier] - low[frontier]
        child, group = children.under(frontier)
        above = frontier[group]
        keep = ~seen[child] & ~((kind[child] == spans.CONSUMER) & (kind[above] == spans.PRODUCER))
        child, group, above = child[keep], group[keep], above[keep]
        if not len(child):
            break
        seen[child] = True
        moved = shift[above]
        shift[child] = moved + skew(start, end, kind, child, above, start[above] + moved, end[above] + moved, moved)
        begin = np.maximum(start[child] + shift[child], low[above])
        finish = np.minimum(end[child] + shift[child], high[above])
        begin = np.minimum(begin, high[above])  # keeps the running minimum's range narrow
        # Falling end; ties by row, so that the answer does not depend on the order of arrival.
        order = np.lexsort((child, -(end[child] + shift[child]), group))
        child, group, above, begin, finish = (a[order] for a in (child, group, above, begin, finish))
        base = low[frontier]
        limit = _exclusive_running_minimum(begin - base[group], group, high[frontier] - base) + base[group]
        finish = np.minimum(finish, limit)
        chosen = finish > begin
        child, above = child[chosen], above[chosen]
        low[child], high[child] = begin[chosen], finish[chosen]
        request[child] = request[above]
        np.subtract.at(self_time, above, high[child] - low[child])
        frontier = child
        if not len(frontier):
            break
    return Path(low, high, self_time, request)


def outermost(parent: Ints, candidates: Ints) -> Ints:
    """Those of the candidate rows that have no other candidate above them."""
    is_candidate = np.zeros(len(parent) + 1, np.bool_)
    is_candidate[candidates] = True
    above = parent[candidates]
    inside = np.zeros(len(candidates), np.bool_)
    for _ in range(MAX_DEPTH):
        inside |= is_candidate[above]
        above = np.where((above >= 0) & ~inside, parent[above], -1)
        if (above < 0).all():
            break
    return candidates[~inside]


def members(parent: Ints, roots: Ints) -> Ints:
    """For each row the index of the root above it (or itself), −1 where none; whole trees."""
    children = Children.of(parent)
    owner = np.full(len(parent), -1, np.int64)
    owner[roots] = np.arange(len(roots))
    frontier = roots
    for _ in range(MAX_DEPTH):
        child, group = children.under(frontier)
        fresh = owner[child] < 0
        if not fresh.any():
            break
        owner[child[fresh]] = owner[frontier[group[fresh]]]
        frontier = child[fresh]
    return owner
