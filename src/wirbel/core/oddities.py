"""What is odd about a trace and how it is drawn nevertheless, in English: nothing of it vanishes, and nothing is drawn without being said."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from wirbel.core import text
from wirbel.core.diagnosis.critical_path import MAX_DEPTH
from wirbel.core.outline import Outline

MINUTE_NS = 60 * 10**9
TOLD_NS = 10**6  # that clocks must disagree to be told: less is the time that a message takes to be handed over
MOST_CLOCKS = 3  # services whose clocks are named


def oddities(drawn: Outline) -> list[str]:
    """A sentence for each kind of thing that is odd."""
    return [*_parents(drawn), *_clocks(drawn), *_depth(drawn)]


def _parents(drawn: Outline) -> Iterator[str]:
    traces, order = drawn.traces, drawn.order
    lost, own, cut = (int(count) for count in (traces.lost_parent[order].sum(), traces.own_parent[order].sum(), len(traces.cut)))
    if lost:
        yield _count(lost, "span names a parent that has not arrived.", "spans name a parent that has not arrived.")
    if own:
        yield _count(own, "span names itself as its parent.", "spans name themselves as their parents.")
    if cut:
        circles = _count(cut, "circle of spans has no beginning, as each is", "circles of spans have no beginning, as each is")
        yield f"{circles} beneath another of it: the one that started first is drawn at the top."


def _clocks(drawn: Outline) -> Iterator[str]:
    """Of services whose answers lie outside of the calls that they answer."""
    service, names = drawn.traces.codes("service")
    moved, parent = drawn.moved[drawn.order], drawn.parents
    further = moved - np.where(parent >= 0, moved[parent], 0)  # than what is above
    off = np.flatnonzero(np.abs(further) >= TOLD_NS)
    of = service[drawn.order[off]]
    told = sorted(((int(np.median(further[off[of == one]])), names[one]) for one in np.unique(of)), key=lambda pair: -abs(pair[0]))
    for by, name in told[:MOST_CLOCKS]:
        far = text.seconds(by / 1e9) if abs(by) < MINUTE_NS else text.span_of_time(by / 1e9)
        yield f"The clock of {name} is about {far.lstrip(text.MINUS)} {'behind' if by > 0 else 'ahead'}: its spans are drawn within the calls that they answer."
    if len(told) > MOST_CLOCKS:
        yield f"So are those of {len(told) - MOST_CLOCKS} more services."


def _depth(drawn: Outline) -> Iterator[str]:
    if drawn.levels > MAX_DEPTH:
        yield f"It is {text.number(drawn.levels)} spans deep; time is followed through {text.number(MAX_DEPTH)} of them."


def _count(count: int, one: str, more: str) -> str:
    return f"{text.number(count)} {one if count == 1 else more}"
