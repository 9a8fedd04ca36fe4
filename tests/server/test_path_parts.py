"""What the view of one trace says of an attempt that failed and was made again."""

from __future__ import annotations

import pytest

from tests.builders import table
from tests.core.test_responsibility import Trace, built
from wirbel.core.signals import spans
from wirbel.explore.trace import path_parts


def test_repeats_are_calls_and_the_pause_before_them_is_told_by_itself() -> None:
    """`back` fails, is asked again 80 ms later, and asks its database once in the first and twice in the second attempt."""
    trace = Trace(1, 0, 200)
    for start, queries, outcome in ((10, 1, spans.ERROR), (110, 2, spans.OK)):
        answer = trace.call(trace.root, "front", "back", start, 20, outcome=outcome)
        for n in range(queries):
            trace.query(answer, "back", start + 3 + 5 * n, 4)
    parts = {part.label: (part.calls, part.here_ms) for part in path_parts(built(table(*trace.rows)))}
    assert parts == {
        "front self time in GET /": (1, pytest.approx(80)),
        "front, pause before a repeat to back": (0, pytest.approx(80)),
        "network and queue front → back": (2, pytest.approx(4)),
        "back self time in POST /x": (2, pytest.approx(24)),
        "db, ask db": (3, pytest.approx(12)),
    }
