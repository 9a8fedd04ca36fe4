"""One model weighs: evidence for never counts against, names do not matter, and the file fits the code."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from wirbel.core.diagnosis import change_choice
from wirbel.core.diagnosis.evidence import FEATURES, SOURCES
from wirbel.core.diagnosis.evidence.observation import Observation
from wirbel.core.diagnosis.weighing import CASE_FEATURES, CLEAR, COLUMNS, WITH_TRACES, WITHOUT_TRACES, Seen, gather, grown, load
from wirbel.core.stats.conditional_logit import probabilities

OF_CASE = {CLEAR: 5.0}
SIGNED = {name: feature.sign for name, feature in {**FEATURES, **CASE_FEATURES}.items()}


def test_the_file_names_what_the_sources_give() -> None:
    """A feature without a weight would be seen and not counted: fit again when a source changes."""
    weights = load()
    assert set(weights.candidates) == set(COLUMNS)
    assert set(weights.mechanisms) == set(FEATURES)
    assert set(weights.changes) == {*change_choice.COLUMNS, "any"}
    assert len({name for source in SOURCES for name in source.features}) == sum(len(source.features) for source in SOURCES)
    assert {"at", "drills", "l2", "sources"} <= set(weights.fitted)


def test_no_weight_has_the_wrong_sign() -> None:
    weights = load()
    for name, sign in SIGNED.items():
        assert weights.candidates[name] * sign >= 0, name
    assert all(weight >= 0 for weight in weights.mechanisms.values())


@pytest.mark.parametrize("known", [WITH_TRACES, WITHOUT_TRACES])
def test_calibration_keeps_the_order_and_all_with_none_add_up_to_one(known: str) -> None:
    scores = np.linspace(-6, 9, 31)
    found = probabilities(load().calibration[known].of(scores))
    assert list(found) == sorted(found)
    assert 0 <= found[0] <= found.sum() <= 1


def test_without_traces_nobody_is_as_sure() -> None:
    """The same score, where it is not known who calls whom."""
    with_them, without = (probabilities(load().calibration[known].of(np.array([6.0, 0.0])))[0] for known in (WITH_TRACES, WITHOUT_TRACES))
    assert with_them > without + 0.2


@given(st.floats(0, 1e9), st.floats(0, 1e9))
def test_more_of_a_feature_counts_for_no_less(one: float, other: float) -> None:
    for feature in FEATURES.values():
        low, high = sorted((grown(feature, one), grown(feature, other)))
        assert 0 <= low <= high <= 1


observations = st.lists(
    st.builds(
        Observation,
        entity=st.sampled_from([("service", "a"), ("service", "b"), ("host", "h"), ("database", "d")]),
        feature=st.sampled_from(sorted(FEATURES)),
        value=st.floats(0, 50),
        mechanism=st.sampled_from([None, "waiting", "errors"]),
    ),
    min_size=1,
    max_size=20,
)


@given(observations, st.sampled_from(sorted(FEATURES)), st.floats(0.01, 50))
def test_evidence_for_never_counts_against(found: list[Observation], feature: str, value: float) -> None:
    entity = found[0].entity
    with_it = [*found, Observation(entity, feature, value)]
    before, after = (chance(given, entity) for given in (found, with_it))
    if SIGNED[feature] > 0:
        assert after >= before - 1e-12
    else:
        assert after <= before + 1e-12


@given(observations)
def test_renaming_everything_changes_nothing(found: list[Observation]) -> None:
    renamed = [replace(one, entity=(one.entity[0], f"x-{one.entity[1]}")) for one in found]
    assert sorted(load().chances(gather(found, OF_CASE), WITH_TRACES)) == pytest.approx(sorted(load().chances(gather(renamed, OF_CASE), WITH_TRACES)))


@given(observations)
def test_an_innocent_entity_changes_no_order(found: list[Observation]) -> None:
    """Somebody of whom hardly anything is seen takes a little from all alike."""
    other = Observation(("service", "innocent"), "walked to", 0.001)
    before, after = gather(found, OF_CASE), gather([*found, other], OF_CASE)
    order = [before[n].entity for n in np.argsort(-load().chances(before, WITH_TRACES), kind="stable")]
    later = [after[n].entity for n in np.argsort(-load().chances(after, WITH_TRACES), kind="stable") if after[n].entity != other.entity]
    assert order == later


def chance(found: list[Observation], entity: tuple[str, str]) -> float:
    seen = gather(found, OF_CASE)
    return float(load().chances(seen, WITH_TRACES)[[one.entity for one in seen].index(entity)])


def test_the_mechanism_is_the_one_for_which_most_speaks() -> None:
    found = [
        Observation(("service", "a"), "explains", 0.9, "slower-work"),
        Observation(("service", "a"), "new pattern of its own", 0.2, "lock"),
    ]
    assert load().mechanism(gather(found, OF_CASE)[0]) == "slower-work"
    assert load().mechanism(gather([Observation(("service", "a"), "walked to", 1.0)], OF_CASE)[0]) == "unknown"


def test_a_part_has_its_whole_s_evidence_as_far_as_the_harm_is_in_it() -> None:
    """Of what fails on one instance only, that the service fails speaks for the instance; of what fails everywhere, it does not."""
    whole = Observation(("service", "a"), "errors begin", 1.0, "errors", service="a")

    def part(stands_out: float) -> Seen:
        found = gather([whole, Observation(("instance", "a-1"), "stands out", stands_out, service="a")], OF_CASE)
        return next(one for one in found if one.entity == ("instance", "a-1"))

    column = COLUMNS.index("errors begin")
    most = part(1.0)
    assert most.row()[column] == pytest.approx(grown(FEATURES["errors begin"], 1.0))
    assert part(0.5).row()[column] == pytest.approx(0.5 * most.row()[column])
    assert part(0.0).row()[column] == 0
    assert load().mechanism(most) == "errors"


def test_what_says_that_a_whole_has_a_bad_part_is_not_said_of_the_part() -> None:
    found = gather(
        [Observation(("service", "a"), "one value alone", 1.0, service="a"), Observation(("attribute", "k"), "stands out", 1.0, service="a")], OF_CASE
    )
    seen = {one.entity: one.row()[COLUMNS.index("one value alone")] for one in found}
    assert seen["service", "a"] > 0 == seen["attribute", "k"]
