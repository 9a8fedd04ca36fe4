"""Where failures began, on hand-made traces."""

from __future__ import annotations

from tests.core.test_responsibility import Trace, both_windows, built
from wirbel.core.diagnosis.error_origins import origins
from wirbel.core.signals import spans

BAD = {"outcome": spans.ERROR}


def origin_of(*made: Trace) -> list[tuple[str, str]]:
    """Service and operation in which the failure of each failing request began."""
    found = built(both_windows(lambda number, at, focus: made[0] if number == 1 else Trace(number, at, 10)))
    rows = origins(found)
    return [(found.traces.text("service", int(row)), found.traces.text("operation", int(row))) for row in rows]


def test_it_is_the_end_of_the_chain() -> None:
    trace = Trace(1, 1, 100, **BAD)
    answer = trace.call(trace.root, "front", "back", 10, 50, **BAD)
    trace.query(answer, "back", 20, 10, **BAD)
    assert origin_of(trace) == [("back", "ask db")]


def test_a_failure_that_was_got_over_is_no_origin() -> None:
    """back swallows what its database did; front fails for a reason of its own."""
    trace = Trace(1, 1, 100, **BAD)
    answer = trace.call(trace.root, "front", "back", 10, 50)
    trace.query(answer, "back", 20, 10, **BAD)
    assert origin_of(trace) == [("front", "GET /")]


def test_an_attempt_that_was_made_good_is_no_origin() -> None:
    trace = Trace(1, 1, 100, **BAD)
    trace.query(trace.root, "front", 10, 10, **BAD)
    trace.query(trace.root, "front", 30, 10)
    assert origin_of(trace) == [("front", "GET /")]


def test_of_several_the_last_that_nobody_got_over_counts() -> None:
    """An optional call failed early, and the request went on for long; it ended with the second."""
    trace = Trace(1, 1, 100, **BAD)
    trace.query(trace.root, "front", 5, 10, "cache", "cache", **BAD)
    trace.query(trace.root, "front", 80, 15, "store", "database", **BAD)
    assert origin_of(trace) == [("front", "ask store")]


def test_a_refusal_that_its_caller_calls_an_error_is_the_origin() -> None:
    """429 with status ERROR on the client span; the server that refused thinks itself well."""
    trace = Trace(1, 1, 100, **BAD)
    client = trace.query(trace.root, "front", 10, 10, "limits", "service", status_code=429, **BAD)
    trace.span(client, "limits", "GET /q", spans.SERVER, 11, 8, status_code=429, outcome=spans.CLIENT_ERROR)
    assert origin_of(trace) == [("front", "ask limits")]


def test_requests_that_did_not_fail_have_none() -> None:
    trace = Trace(1, 1, 100)
    trace.query(trace.root, "front", 10, 10, **BAD)
    assert origin_of(trace) == []
