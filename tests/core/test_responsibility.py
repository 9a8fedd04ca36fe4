"""Whose doing a change is, on hand-made traces whose answer is known."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.builders import NOW, table
from wirbel.core.diagnosis import attribution, requests, responsibility
from wirbel.core.diagnosis.requests import Requests
from wirbel.core.signals import spans
from wirbel.core.topology.trace_set import TraceSet

MINUTE = 60_000  # ms
FOCUS = (NOW + 60 * MINUTE * 10**6, NOW + 120 * MINUTE * 10**6)


class Trace:
    """Spans of one request, with times in ms since its start."""

    def __init__(self, number: int, at: float, duration: float, service: str = "front", **more: Any) -> None:
        self.number, self.at, self.rows = number, at, []
        self.root = self.span(None, service, "GET /", spans.SERVER, 0, duration, **more)

    def span(self, parent: int | None, service: str, operation: str, kind: int, start: float, duration: float, **more: Any) -> int:
        span = self.number * 1000 + len(self.rows) + 1
        row = {"trace": self.number, "span": span, "parent": parent, "service": service, "operation": operation, "kind": kind}
        self.rows.append(row | {"start": self.at + start, "duration": duration, **more})
        return span

    def query(self, parent: int, service: str, start: float, duration: float, peer: str = "db", kind: str = "database", **more: Any) -> int:
        return self.span(parent, service, f"ask {peer}", spans.CLIENT, start, duration, peer=peer, peer_kind=kind, **more)

    def call(self, parent: int, service: str, peer: str, start: float, duration: float, **more: Any) -> int:
        """A call to a service that is answered 1 ms after it and 1 ms before its end; returns the span of the answer."""
        client = self.query(parent, service, start, duration, peer, "service", **more)
        return self.span(client, peer, "POST /x", spans.SERVER, start + 1, duration - 2, **more)


def both_windows(make: Any, count: int = 60) -> pa.Table:
    """``make(number, at, is_focus)`` for requests spread over both hours."""
    rows = [row for n in range(2 * count) for row in make(n + 1, (n + 0.5) * 60 * MINUTE / count, n >= count).rows]
    return table(*rows)


def built(spans_table: pa.Table) -> Requests:
    traces = TraceSet(spans_table)
    return requests.build(traces, requests.symptom_rows(traces, "front", None), FOCUS)


def changes(found: Requests) -> dict[tuple[str, str], float]:
    """What each doer adds to the change of the mean, ms, by (name, mechanism)."""
    doers = responsibility.for_time(found)
    amount = doers.amount[found.in_focus].mean(axis=0) - doers.amount[~found.in_focus].mean(axis=0)
    change = found.seconds[found.in_focus].mean() - found.seconds[~found.in_focus].mean()
    assert amount.sum() == pytest.approx(change, abs=1e-12)
    return {(doer.name, doer.mechanism): 1000 * value for doer, value in zip(doers.doers, amount, strict=True) if abs(value) > 1e-9}


def test_who_is_called_twenty_times_is_not_to_blame_but_its_caller() -> None:
    def make(number: int, at: float, focus: bool) -> Trace:
        calls = 20 if focus else 1
        trace = Trace(number, at, 10 + calls * 10)
        for n in range(calls):
            answer = trace.call(trace.root, "front", "back", 5 + 10 * n, 10)
            trace.query(answer, "back", 5 + 10 * n + 2, 3)
        return trace

    assert changes(built(both_windows(make))) == {("front", "more-calls"): pytest.approx(190)}


def test_what_the_callers_caller_does_goes_to_it() -> None:
    """front asks middle five times instead of once; middle asks back twice each time, as ever."""

    def make(number: int, at: float, focus: bool) -> Trace:
        calls = 5 if focus else 1
        trace = Trace(number, at, 10 + calls * 30)
        for n in range(calls):
            answer = trace.call(trace.root, "front", "middle", 5 + 30 * n, 30)
            for m in range(2):
                trace.call(answer, "middle", "back", 5 + 30 * n + 2 + 12 * m, 12)
        return trace

    assert changes(built(both_windows(make))) == {("front", "more-calls"): pytest.approx(120)}


def test_a_parallel_fan_out_does_not_make_the_database_slower() -> None:
    """One query becomes twelve side by side, each as long as before but for the longest: the path holds one of them."""

    def make(number: int, at: float, focus: bool) -> Trace:
        calls = 12 if focus else 1
        trace = Trace(number, at, 20 if focus else 15)
        for n in range(calls):
            trace.query(trace.root, "front", 5, 10 if focus and n == 0 else 5)
        return trace

    found = built(both_windows(make))
    [queries] = [c for c in attribution.where_the_time_went(found) if c.part.peer == "db"]
    assert (queries.calls_reference, queries.calls_focus) == (1.0, 12.0)
    assert queries.delta == pytest.approx(0.005)
    assert changes(found) == {("front", "more-calls"): pytest.approx(5)}


def test_more_and_faster_calls_are_told_as_their_net() -> None:
    """17 calls of 2.3 ms instead of one of 6 ms: Shapley's two halves are far beyond the change, the net is all of it."""

    def make(number: int, at: float, focus: bool) -> Trace:
        calls, each = (17, 2.3) if focus else (1, 6.0)
        trace = Trace(number, at, 10 + calls * each)
        for n in range(calls):
            trace.query(trace.root, "front", 5 + n * each, each)
        return trace

    found = built(both_windows(make))
    [queries] = [c for c in attribution.where_the_time_went(found) if c.part.peer == "db"]
    assert queries.more_calls == pytest.approx(16 * (2.3 + 6) / 2 / 1000)
    assert queries.slower_calls == pytest.approx(9 * (2.3 - 6) / 1000)
    assert changes(found) == {("front", "more-calls"): pytest.approx(17 * 2.3 - 6)}


def test_the_pause_between_attempts_is_not_the_callers_own_work() -> None:
    """A provider fails twice and is asked again after 50 and 100 ms: one call that takes longer."""

    def make(number: int, at: float, focus: bool) -> Trace:
        trace = Trace(number, at, 10 + (180 if focus else 10))
        start = 5.0
        for pause in (50, 100) if focus else ():
            trace.query(trace.root, "front", start, 10, "tides.example", "external", outcome=spans.ERROR)
            start += 10 + pause
        trace.query(trace.root, "front", start, 10, "tides.example", "external")
        return trace

    found = built(both_windows(make))
    assert changes(found) == {("tides.example", "slower-work"): pytest.approx(170)}
    [provider] = [c for c in attribution.where_the_time_went(found) if c.part.peer == "tides.example"]
    assert (provider.calls_reference, provider.calls_focus) == (1.0, 1.0)


def test_a_service_that_is_asked_again_because_it_fails_answers_for_it() -> None:
    def make(number: int, at: float, focus: bool) -> Trace:
        attempts = 3 if focus else 1
        trace = Trace(number, at, 10 + attempts * 20)
        for n in range(attempts):
            trace.call(trace.root, "front", "back", 5 + 20 * n, 20, outcome=spans.ERROR if n < attempts - 1 else spans.OK)
        return trace

    found = changes(built(both_windows(make)))
    assert sum(value for (name, _), value in found.items() if name == "back") == pytest.approx(40)
    assert set(name for name, _ in found) == {"back"}


@settings(max_examples=30, deadline=None)
@given(st.integers(0, 10**6))
def test_shares_add_up_to_the_change_on_random_trees(seed: int) -> None:
    rng = np.random.default_rng(seed)

    def make(number: int, at: float, focus: bool) -> Trace:
        trace = Trace(number, at, float(rng.uniform(20, 90)), weight=float(rng.choice([1.0, 8.0])))
        for n in range(int(rng.integers(0, 12))):
            parent = trace.rows[int(rng.integers(0, n + 1))]["span"]
            peer = [None, "db", "s1", "s2"][rng.integers(4)]
            more = {"peer": peer, "peer_kind": "database" if peer == "db" else "service"} if peer else {}
            kind = int(rng.integers(1, 6))
            trace.span(
                parent,
                ["front", "s1", "s2"][rng.integers(3)],
                f"op{rng.integers(2)}",
                kind,
                float(rng.uniform(-5, 60)),
                float(rng.uniform(0, 40)),
                outcome=int(rng.integers(3)),
                **more,
            )
        return trace

    found = built(both_windows(make, 20))
    doers = responsibility.for_time(found)
    amount = [np.average(doers.amount[rows], axis=0, weights=found.adjusted_count[rows]) for rows in (found.in_focus, ~found.in_focus)]
    assert (amount[0] - amount[1]).sum() == pytest.approx(attribution.effect(found, found.seconds, "s", "mean").delta, abs=1e-9)
    # Pauses that change hands change no sum: every instant of a request is somebody's.
    assert found.per_part(found.self_time).sum() == pytest.approx((found.seconds * 1e9).sum(), abs=1)
