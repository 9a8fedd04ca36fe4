"""Which services patterns mean."""

from __future__ import annotations

import time

import pytest

from wirbel.core.topology.selection import Selection

HOSTS = {
    "berth-api": {"north-1", "north-2"},
    "berth-planner": {"north-2"},
    "pay": {"south-1"},
    "pay-test": {"south-1"},
    "no-host": set(),
}


@pytest.mark.parametrize(
    ("selection", "meant"),
    [
        (Selection(), sorted(HOSTS)),
        (Selection(services=("berth-*",)), ["berth-api", "berth-planner"]),
        (Selection(services=("berth-*", "pay")), ["berth-api", "berth-planner", "pay"]),
        (Selection(not_services=("*-test", "no-?ost")), ["berth-api", "berth-planner", "pay"]),
        (Selection(services=("pay*",), not_services=("*-test",)), ["pay"]),
        (Selection(hosts=("north-*",)), ["berth-api", "berth-planner"]),
        (Selection(hosts=("north-*",), not_hosts=("north-2",)), ["berth-api"]),
        (Selection(not_hosts=("north-*",)), ["no-host", "pay", "pay-test"]),
        (Selection(services=("Pay",)), []),
    ],
)
def test_patterns_of_services_and_hosts(selection: Selection, meant: list[str]) -> None:
    assert selection.of(HOSTS) == meant


def test_no_pattern_runs_away() -> None:
    """Many stars over a long name that does not match: linear regular expressions would not end."""
    began = time.monotonic()
    assert Selection(services=("*a" * 90 + "b",)).of({"a" * 2000: set()}) == []
    assert time.monotonic() - began < 5
