"""A trace as it is read and drawn: spans as an outline, a channel for each service, the stretches of the critical path, runs of like calls."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from wirbel.core.diagnosis.critical_path import Path, skew
from wirbel.core.topology.trace_set import TraceSet

Ints = npt.NDArray[np.int64]
LEAST_RUN = 3  # like calls that make a run


@dataclass(frozen=True)
class Steps:
    """Stretches of the critical path in order of time, which touch and cover the root: ns, and the row of the span that each passes in."""

    start: Ints
    end: Ints
    row: Ints


@dataclass(frozen=True)
class Run:
    """Like calls under one span, one after another or side by side; ns."""

    row: int  # the first of them
    count: int
    start: int
    end: int
    total: int
    sequential: bool


@dataclass(frozen=True)
class Outline:
    """The rows under ``root`` and of fragments whose parent has not arrived, at most ``most`` of them.

    Spans above ``root``, and what else is under them, are not part of it.
    """

    traces: TraceSet
    root: int
    most: int

    @cached_property
    def _parent(self) -> Ints:
        parent = self.traces.parent.copy()
        parent[self.root] = -1
        return parent

    @cached_property
    def _levels(self) -> list[Ints]:
        """Rows by depth; each level in the order of the one above, siblings in order of time."""
        by_parent = np.lexsort((self.traces.start, self._parent))
        begin = np.searchsorted(self._parent[by_parent], np.arange(-1, len(self.traces) + 1))
        tops = by_parent[: begin[1]]
        tops = np.r_[self.root, tops[(tops != self.root) & ~np.isin(tops, self._above)]].astype(np.int64)
        levels, level = [], tops
        while len(level):
            levels.append(level)
            first, count = begin[level + 1], begin[level + 2] - begin[level + 1]
            within = np.arange(count.sum()) - np.repeat(np.cumsum(count) - count, count)
            level = by_parent[np.repeat(first, count) + within]
        return levels

    @cached_property
    def _above(self) -> Ints:
        found: list[int] = []
        at = int(self.traces.parent[self.root])
        while at >= 0:
            found.append(at)
            at = int(self.traces.parent[at])
        return np.array(found, np.int64)

    @cached_property
    def _whole(self) -> tuple[Ints, Ints]:
        """All rows, parents before children, and their depths."""
        size, place = np.ones(len(self.traces), np.int64), np.zeros(len(self.traces), np.int64)
        for level in reversed(self._levels[1:]):
            np.add.at(size, self._parent[level], size[level])
        for depth, level in enumerate(self._levels):
            before = np.cumsum(size[level]) - size[level]
            if depth:
                parent = self._parent[level]
                first = np.r_[True, parent[1:] != parent[:-1]]
                # What comes before the first of some siblings is not beneath their parent.
                before += place[parent] + 1 - before[np.maximum.accumulate(np.where(first, np.arange(len(level)), 0))]
            place[level] = before
        rows = np.concatenate(self._levels)
        depths = np.repeat(np.arange(len(self._levels)), [len(level) for level in self._levels])
        order = np.argsort(place[rows])
        return rows[order], depths[order]

    @property
    def order(self) -> Ints:
        """Rows in reading order, shape (shown,)."""
        return self._whole[0][: self.most]

    @property
    def depth(self) -> Ints:
        """How far beneath the top each of ``order`` is."""
        return self._whole[1][: self.most]

    @property
    def levels(self) -> int:
        """How many spans are at most above each other, those left out as well."""
        return len(self._levels)

    @cached_property
    def moved(self) -> Ints:
        """By how much each row is moved as clocks disagree, ns: what answers lies within the call that it answers, and what is beneath moves along.

        As the critical path has it: see core.diagnosis.critical_path.skew.
        """
        traces, by = self.traces, np.zeros(len(self.traces), np.int64)
        for level in self._levels[1:]:
            above = self._parent[level]
            by[level] = by[above]
            by[level] += skew(traces.start, traces.end, traces.kind, level, above, traces.start[above] + by[above], traces.end[above] + by[above], by[above])
        return by

    @cached_property
    def start(self) -> Ints:
        """When each row starts, so moved; ns."""
        return self.traces.start + self.moved

    @property
    def left_out(self) -> int:
        return max(len(self._whole[0]) - self.most, 0)

    @property
    def beside(self) -> int:
        """Spans above the root, and what else is beneath them."""
        return len(self.traces) - len(self._whole[0])

    @cached_property
    def place(self) -> Ints:
        """Where each row is in ``order``, shape (rows,); −1 where it is not."""
        found = np.full(len(self.traces), -1, np.int64)
        found[self.order] = np.arange(len(self.order))
        return found

    @cached_property
    def parents(self) -> Ints:
        """Place of the parent of each of ``order``; −1 for a top."""
        above = self._parent[self.order]
        return np.where(above >= 0, self.place[above], -1)

    @cached_property
    def _channels(self) -> tuple[Ints, list[str]]:
        service, services = self.traces.codes("service")
        peer, peers = self.traces.codes("peer")
        kind, kinds = self.traces.codes("peer_kind")
        number = {name: n for n, name in enumerate(dict.fromkeys([*services, *peers]))}
        names = np.array([number[name] for name in [*services, *peers]] + [-1], np.int64)
        elsewhere = (peer >= 0) & (kind != (kinds.index("service") if "service" in kinds else -2))
        of = names[np.where(elsewhere, len(services) + peer, service)]
        distinct, first = np.unique(of[self.order], return_index=True)
        distinct = distinct[np.argsort(first)]
        channel = np.full(len(number) + 1, -1, np.int64)
        channel[distinct] = np.arange(len(distinct))
        text = list(number)
        return channel[of], [text[n] for n in distinct]

    @property
    def channel(self) -> Ints:
        """Of each row: a channel a service, in reading order; what sends no spans of its own is the channel of its calls."""
        return self._channels[0]

    @property
    def channels(self) -> list[str]:
        """Their names."""
        return self._channels[1]

    def steps(self, path: Path) -> Steps:
        """At each instant the deepest span on the path."""
        rows = self.order[path.high[self.order] > path.low[self.order]]
        on_path = np.zeros(len(self.traces), np.bool_)
        on_path[rows] = True
        inner = rows[(self._parent[rows] >= 0) & on_path[self._parent[rows]]]
        inner = inner[np.lexsort((path.low[inner], self._parent[inner]))]
        parent = self._parent[inner]
        # A span's own stretches: from its beginning, or the end of a child, to the next child, or its end.
        first = np.r_[True, parent[1:] != parent[:-1]][: len(inner)]
        last = np.r_[parent[1:] != parent[:-1], True][: len(inner)]
        before = np.where(first, path.low[parent], np.r_[0, path.high[inner[:-1]]][: len(inner)])
        childless = rows[~np.isin(rows, parent)]
        starts = np.concatenate([before, path.high[inner[last]], path.low[childless]])
        ends = np.concatenate([path.low[inner], path.high[parent[last]], path.high[childless]])
        of = np.concatenate([parent, parent[last], childless])
        order = np.lexsort((ends, starts))
        order = order[ends[order] > starts[order]]
        return Steps(starts[order], ends[order], of[order])

    def runs(self) -> Iterator[Run]:
        """Of at least LEAST_RUN spans with one parent, channel and operation; the longest in all first."""
        rows = self.order[self._parent[self.order] >= 0]
        if not len(rows):
            return
        operation = self.traces.codes("operation")[0]
        start, end = self.start, self.start + self.traces.duration
        rows = rows[np.lexsort((start[rows], operation[rows], self.channel[rows], self._parent[rows]))]
        key = np.stack([self._parent[rows], self.channel[rows], operation[rows]])
        first = np.flatnonzero(np.r_[True, (key[:, 1:] != key[:, :-1]).any(axis=0)])
        count = np.diff(np.r_[first, len(rows)])
        # One that begins before the one before it is over; the first of a run has none before it.
        beside = np.r_[False, start[rows[1:]] < end[rows[:-1]]]
        beside[first] = False
        total, latest, together = (
            ufunc.reduceat(values, first)
            for ufunc, values in ((np.add, self.traces.duration[rows]), (np.maximum, end[rows]), (np.add, beside.astype(np.int64)))
        )
        long = np.flatnonzero(count >= LEAST_RUN)
        for n in long[np.argsort(-total[long], kind="stable")]:
            row = int(rows[first[n]])
            yield Run(row, int(count[n]), int(start[row]), int(latest[n]), int(total[n]), not together[n])
