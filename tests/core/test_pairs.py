"""A value that does harm only together with another is named with it, and one that does harm by itself is not."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pyarrow as pa
import pytest

from tests.builders import table
from tests.core.made_cases import seen
from tests.core.test_diagnosis import FOCUS_MS, question
from wirbel.core.diagnosis.case import Case, Records
from wirbel.core.diagnosis.inquire import answer
from wirbel.core.diagnosis.sentences import sentence, title
from wirbel.core.signals import spans

VERSIONS, SYSTEMS = ("5.1", "5.2", "5.3"), ("android", "ios", "web")


def apps(harmed: Callable[[str, str], bool], signal: str = "latency", weights: bool = False, seed: int = 4) -> Case:
    """Requests of three versions of an app on three systems, of which some are slow or fail from the second hour on."""
    rng = np.random.default_rng(seed)
    rows = []
    for trace, at in enumerate(np.sort(rng.uniform(0, 2 * FOCUS_MS, 2400)), 1):
        version, system = str(rng.choice(VERSIONS)), str(rng.choice(SYSTEMS))
        hit = at >= FOCUS_MS and harmed(version, system)
        rows.append(
            {
                "trace": trace,
                "span": trace,
                "service": "front",
                "operation": "GET /x",
                "start": at,
                "duration": float(rng.lognormal(3, 0.2)) * (6 if hit and signal == "latency" else 1),
                "outcome": spans.ERROR if hit and signal == "errors" else spans.OK,
                "span.s:app.version": version,
                "span.s:os.name": system,
                "span.s:error.type": "late" if hit else "none",
                "weight": float(rng.choice([1, 10])) if weights else 1.0,
            }
        )
    return Case(question(signal=signal), Records(spans=table(*rows)))


def together(version: str, system: str) -> bool:
    return version == "5.2" and system == "android"


@pytest.mark.parametrize("signal", ["latency", "errors"])
@pytest.mark.parametrize("weights", [False, True])
def test_both_values_are_named_where_neither_does_harm_alone(signal: str, weights: bool) -> None:
    found = {(one.key, one.value): one.only_with for one in apps(together, signal, weights).standouts}
    for (key, value), (other_key, other) in ((("app.version", "5.2"), ("os.name", "android")), (("os.name", "android"), ("app.version", "5.2"))):
        needed = found[key, value]
        assert needed is not None
        assert (needed.key, needed.value) == (other_key, other)
        assert needed.excess_with > 0.09  # six times some 20 ms, or all of them fail
        assert abs(needed.excess_without) < 0.1 * needed.excess_with
    assert found.get(("error.type", "late")) is None  # says how it ended: there are none outside


def test_a_value_that_does_harm_by_itself_needs_no_other() -> None:
    found = {(one.key, one.value): one.only_with for one in apps(lambda version, _: version == "5.2").standouts}
    assert ("app.version", "5.2") in found
    assert not any(found.values())


def test_two_values_that_each_do_harm_are_no_pair() -> None:
    found = {(one.key, one.value): one.only_with for one in apps(lambda version, system: version == "5.2" or system == "android").standouts}
    assert {("app.version", "5.2"), ("os.name", "android")} <= set(found)
    assert not any(found.values())


def test_the_pair_is_said_and_named() -> None:
    case = apps(together)
    observation = next(o for (entity, feature), o in seen(case, "contrast").items() if entity[0] == "attribute" and feature == "stands out")
    assert observation.attributes == {"app.version": "5.2", "os.name": "android"}
    first = answer(case).candidates[0]
    told = next(sentence(evidence) for evidence in first.evidence if evidence.kind == "stands-out")
    assert "It is only so together with" in told
    assert {"android", "5.2"} <= set(title(first, []).split())


def test_a_value_on_all_requests_is_no_partner() -> None:
    """It could never be told what the first does without it."""
    case = apps(lambda version, _: version == "5.2")
    whole = case.records.spans.append_column("span.s:region", pa.array(["north"] * len(case.records.spans)))
    found = Case(case.question, Records(spans=whole)).standouts
    assert found
    assert not any(one.only_with for one in found)
