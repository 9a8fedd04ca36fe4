"""Waiting lines against the theory of queues, and against a line simulated customer by customer."""

from __future__ import annotations

import heapq

import numpy as np
import pytest

from wirbel.demo.world.queues import NEARLY_FULL, erlang_c, waiting

STEP_S = 10.0


def steady(rate: float, hold_s: float, servers: int):  # type: ignore[no-untyped-def]
    return waiting(np.full(60, rate), np.full(60, hold_s), servers, STEP_S, longest_s=30.0)


@pytest.mark.parametrize(("servers", "load", "wait"), [(10, 7, 0.2217), (2, 1, 1 / 3), (1, 0.6, 0.6)])
def test_erlang_c_tables(servers: int, load: float, wait: float) -> None:
    """Erlang C tables of telephone engineering: 10 servers at 7 erlangs wait with 0.2217."""
    assert erlang_c(servers, load) == pytest.approx(wait, abs=5e-5)


@pytest.mark.parametrize(("arrivals", "served"), [(8.0, 10.0), (3.0, 4.0), (0.5, 5.0)])
def test_response_time_of_m_m_1(arrivals: float, served: float) -> None:
    """1 / (μ − λ): any textbook of queues, as Kleinrock, Queueing Systems I, 3.2."""
    found = steady(arrivals, 1 / served, 1)
    assert found.expected[-1] + 1 / served == pytest.approx(1 / (served - arrivals))


def simulated(rate: float, hold_s: float, servers: int, customers: int) -> float:
    """Mean wait in a line of so many servers, customer by customer, first come first served."""
    rng = np.random.default_rng(8)
    arrivals = np.cumsum(rng.exponential(1 / rate, customers))
    free = [0.0] * servers
    waited = 0.0
    for at, work in zip(arrivals.tolist(), rng.exponential(hold_s, customers).tolist(), strict=True):
        begins = max(at, heapq.heappop(free))
        heapq.heappush(free, begins + work)
        waited += begins - at
    return waited / customers


@pytest.mark.parametrize(("rate", "hold_s", "servers"), [(7.0, 0.5, 5), (24.0, 0.1, 3), (1.4, 0.5, 1)])
def test_mean_wait_is_that_of_a_line_simulated_customer_by_customer(rate: float, hold_s: float, servers: int) -> None:
    assert steady(rate, hold_s, servers).expected[-1] == pytest.approx(simulated(rate, hold_s, servers, 400_000), rel=0.06)


def test_a_line_grows_by_what_comes_beyond_what_is_served_and_is_worked_off_again() -> None:
    rate = np.r_[np.full(30, 5.0), np.full(6, 15.0), np.full(60, 5.0)]
    found = waiting(rate, np.full(len(rate), 0.1), 1, STEP_S, longest_s=1e9)
    served = NEARLY_FULL * 10.0
    assert (found.line[:30] == 0).all()
    assert found.line[35] * served == pytest.approx(6 * STEP_S * (15.0 - served))
    emptied = 36 + int(np.ceil(6 * (15.0 - served) / (served - 5.0)))
    assert found.line[emptied - 2] > 0
    assert (found.line[emptied:] == 0).all()
    assert (found.refused == 0).all()


def test_nobody_waits_longer_than_the_longest_wait_and_the_rest_is_turned_away() -> None:
    found = waiting(np.full(200, 20.0), np.full(200, 0.1), 1, STEP_S, longest_s=4.0)
    assert found.line.max() == pytest.approx(4.0)
    assert found.refused[-1] == pytest.approx(1 - NEARLY_FULL * 10 / 20)
    assert found.busy[-1] == 1.0
