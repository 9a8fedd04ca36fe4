"""Waiting told from working, and who is slow at everything told from whom it calls."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pytest

from tests.builders import table
from tests.core.test_diagnosis import FOCUS_MS, question
from tests.core.test_evidence import seen
from wirbel.core.diagnosis.case import Case, Records
from wirbel.core.signals import spans


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
    assert (RATES, "off by itself") not in starved
    assert (BACK, "passes on") in provider
    assert (BACK, "off by itself") not in provider


@pytest.mark.parametrize("wrong", [{"provider": 5.0}, {"wait": 40.0}, {"work": 6.0}], ids=["provider", "line", "own work"])
def test_who_is_slow_at_one_thing_is_not(wrong: dict[str, float]) -> None:
    case = of(office(**wrong))
    assert (BACK, "slow at everything") not in seen(case, "slow at everything")
    assert case.its_own(RATES) > 0.95
