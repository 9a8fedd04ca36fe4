"""Waiting told from working, and who is slow at everything told from whom it calls."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pyarrow as pa
import pytest

from tests.builders import table
from tests.core.made_cases import fleet, samples, seen
from tests.core.test_diagnosis import FOCUS_MS, question
from wirbel.core.diagnosis.case import Case, Records
from wirbel.core.diagnosis.evidence.observation import Observation
from wirbel.core.diagnosis.model import Evidence
from wirbel.core.diagnosis.sentences import sentence
from wirbel.core.signals import points, spans


def office(wait: float = 0.0, work: float = 1.0, starved: float = 1.0, provider: float = 1.0, count: int = 500, seed: int = 5) -> pa.Table:
    """front → back → provider and database. From the second hour on requests wait in back for ``wait`` ms before its first call,
    its own work after its calls takes ``work`` times as long, all that it does and takes in ``starved`` times, and its provider ``provider`` times."""
    rng = np.random.default_rng(seed)
    rows, span = [], 0
    for trace, at in enumerate(np.sort(rng.uniform(0, 2 * FOCUS_MS, 2 * count)), 1):
        wrong = at >= FOCUS_MS
        slow = starved if wrong else 1.0
        before, after = float(rng.lognormal(2, 0.2)) * slow, float(rng.lognormal(2, 0.2)) * slow * (work if wrong else 1)
        before += float(rng.exponential(wait)) if wrong and wait else 0.0
        asks = [float(rng.lognormal(2.5, 0.2)) * (provider if wrong else 1), float(rng.lognormal(1.5, 0.2))]
        asks = [one + float(rng.lognormal(1, 0.2)) * slow for one in asks]
        way = float(rng.lognormal(0.5, 0.2)) * slow
        inner = before + sum(asks) + after
        front, client, server = span + 1, span + 2, span + 3
        span += 5
        rows += [
            {"trace": trace, "span": front, "service": "front", "operation": "GET /x", "start": at, "duration": inner + 2 * way + 10},
            {"trace": trace, "span": client, "parent": front, "service": "front", "operation": "GET /y", "kind": spans.CLIENT, "start": at + 5, "duration": inner + 2 * way, "peer": "back", "peer_kind": "service"},
            {"trace": trace, "span": server, "parent": client, "service": "back", "operation": "GET /y", "start": at + 5 + way, "duration": inner},
            {"trace": trace, "span": span - 1, "parent": server, "service": "back", "operation": "GET", "kind": spans.CLIENT, "start": at + 5 + way + before, "duration": asks[0], "peer": "rates.example", "peer_kind": "external"},
            {"trace": trace, "span": span, "parent": server, "service": "back", "operation": "SELECT t", "kind": spans.CLIENT, "start": at + 5 + way + before + asks[0], "duration": asks[1], "peer": "ns at db", "peer_kind": "database"},
        ]  # fmt: skip
    return table(*rows)


def of(given: pa.Table) -> Case:
    return Case(question(), Records(spans=given))


BACK, RATES = ("service", "back"), ("external", "rates.example")


def test_time_before_the_first_call_is_waiting() -> None:
    found = seen(of(office(wait=40.0)), "waiting")[BACK, "waits before it asks"]
    assert found.value == pytest.approx(1.0, abs=0.1)
    assert found.mechanism == "waiting"
    before, after = found.facts["gap"]
    assert after - before == pytest.approx(0.040, rel=0.2)


def test_work_after_the_calls_is_none() -> None:
    assert not seen(of(office(work=6.0)), "waiting")


def test_who_is_short_of_a_processor_is_slow_at_everything_and_whom_it_calls_is_not_to_blame() -> None:
    case = of(office(starved=8.0))
    assert seen(case, "slow at everything")[BACK, "slow at everything"].value > 0.5
    assert case.its_own(RATES) < 0.5
    shares = {entity: o.value for (entity, feature), o in seen(case, "time split").items() if feature == "explains"}
    plain = case.sizes[RATES] / case.effect.delta
    assert shares.get(RATES, 0.0) < 0.5 * plain
    assert shares[BACK] > case.sizes[BACK] / case.effect.delta


def test_what_only_a_starved_service_sees_slow_is_no_excuse_for_it() -> None:
    starved, provider = (seen(of(office(**wrong)), "passing on") for wrong in ({"starved": 8.0}, {"provider": 5.0}))
    assert starved[BACK, "off by itself"].value > starved[BACK, "passes on"].value
    assert not starved[BACK, "off by itself"].facts["seems"]
    assert (RATES, "off by itself") not in starved
    assert (BACK, "passes on") in provider
    assert (BACK, "off by itself") not in provider


def test_a_callee_that_seems_farther_off_than_who_makes_it_seem_so_is_told() -> None:
    """The starved service itself has always wandered, so that it left its range by less than what only it calls."""
    case = of(office(starved=8.0))
    services = case.services
    wander = np.ones_like(services.total)
    wander[services.entities.index(BACK), :60:10] = 1.7
    case.__dict__["services"] = replace(services, total=services.total * wander)
    facts = seen(case, "passing on")[BACK, "off by itself"].facts
    assert facts["seems"]
    assert sentence(Evidence("off-by-itself", True, 1.0, facts)).endswith("; what it calls seems as far off, but only from there.")


@pytest.mark.parametrize("wrong", [{"provider": 5.0}, {"wait": 40.0}, {"work": 6.0}], ids=["provider", "line", "own work"])
def test_who_is_slow_at_one_thing_is_not(wrong: dict[str, float]) -> None:
    case = of(office(**wrong))
    assert (BACK, "slow at everything") not in seen(case, "slow at everything")
    assert case.its_own(RATES) > 0.95


POOL = '{"db.client.connection.pool.name": "db", "db.client.connection.state": "used"}'


def pool(used: tuple[float, float], slow_database: bool = False) -> dict[tuple[tuple[str, str], str], Observation]:
    """Of 20 connections of back so many are in use before and after; a query of db takes some 8 ms, or four times that."""
    given = fleet(slow_database=slow_database, count=20_000)
    counted = samples({("back", "back-h1", "h1", "db.client.connection.count", POOL): used}, unit="{connection}")
    limit = samples({("back", "back-h1", "h1", "db.client.connection.max", '{"db.client.connection.pool.name": "db"}'): (20.0, 20.0)}, unit="{connection}")
    return seen(Case(question(), Records(spans=given, points=points.combine([counted, limit]))), "holding")


def test_connections_that_no_call_keeps_busy_are_held_without_work() -> None:
    """20,000 queries an hour of some 7.5 ms keep 0.04 connections busy (Little's law)."""
    [found] = pool((1.0, 17.0)).values()
    assert found.entity == BACK
    assert found.value == pytest.approx(16 / 20, abs=0.02)
    assert found.facts["busy"] == pytest.approx([20_000 * 7.54e-3 / 3600] * 2, rel=0.05)
    assert sentence(Evidence(found.kind or "", True, 0.0, found.facts, {})).startswith("back holds 17 of 20 connections, 1 before")


def test_connections_in_use_in_proportion_to_the_calls_do_work() -> None:
    assert not pool((4.0, 16.5), slow_database=True)
    assert not pool((4.0, 4.4))
    assert pool((4.0, 16.5))
