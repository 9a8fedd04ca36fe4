"""What a diagnosis must not be misled by: drift, sampling, crowds of values, and changes for the better."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pytest

from tests.builders import table
from tests.core.test_diagnosis import FOCUS_MS, answered, deploy, question, small_world
from tests.core.test_onset import drifting
from wirbel.core import arrow
from wirbel.core.diagnosis import marks
from wirbel.core.diagnosis.model import Answer
from wirbel.core.signals import spans
from wirbel.core.stats.tests import Counts, adjusted, stratified_association, weighted_association

Floats = npt.NDArray[np.float64]


def stretched(world: pa.Table, factor: Floats) -> pa.Table:
    """Durations times a factor of the minute in which the request starts; a trace is stretched about its own start."""
    start, duration = arrow.numbers(world["start"]), arrow.numbers(world["duration"])
    trace = arrow.ids(world["trace_id"], 16)[:, 1]
    _, of = np.unique(trace, return_inverse=True)
    first = np.full(of.max() + 1, 2**62)
    np.minimum.at(first, of, start)
    minute = np.minimum((first - start.min()) // (60 * 10**9), len(factor) - 1)
    times = factor[minute][of]
    new_start = first[of] + ((start - first[of]) * times).astype(np.int64)
    world = world.set_column(world.schema.get_field_index("start"), "start", pa.array(new_start))
    return world.set_column(world.schema.get_field_index("duration"), "duration", pa.array((duration * times).astype(np.int64)))


def test_harmless_drift_accuses_nobody() -> None:
    """AR(1) 0.95 by the minute, standard deviation 10 %: of 20 quiet questions at most one names somebody for likely."""
    accused = 0
    for seed in range(20):
        rng = np.random.default_rng(seed)
        world = stretched(small_world(count=900, seed=seed), 1 + drifting(rng, 121, 0.95, 0.1))
        answer = answered(question(), world, [deploy("back", 59.9), deploy("front", 62)])
        accused += any(candidate.confidence >= 0.8 for candidate in answer.candidates)
    assert accused <= 1


def sampled(world: pa.Table, share: float, seed: int, window: str = "both") -> pa.Table:
    """Whole traces kept with some probability, each standing for the others; only those of one window, if asked."""
    rng = np.random.default_rng(seed)
    trace = arrow.ids(world["trace_id"], 16)[:, 1]
    distinct, of = np.unique(trace, return_inverse=True)
    thinned = np.ones(len(distinct), np.bool_)
    if window == "reference":
        start = np.zeros(len(distinct))
        start[of] = arrow.numbers(world["start"])
        thinned = start < arrow.numbers(world["start"]).min() + FOCUS_MS * 10**6
    keep = ~thinned | (rng.random(len(distinct)) < share)
    weight = np.where(thinned, 1 / share, 1.0)
    world = world.set_column(world.schema.get_field_index("weight"), "weight", pa.array(weight[of]))
    return world.filter(pa.array(keep[of]))


def said(answer: Answer) -> tuple[object, ...]:
    """What a person would take away from an answer."""
    first = answer.candidates[0] if answer.candidates else None
    return (
        first and (first.kind, first.name, first.mechanism, first.change),
        [(j.change.id, j.verdict) for j in answer.changes],
        [(s.service, s.key, s.value) for s in answer.standouts[:1]],
        answer.onset is not None,
    )


@pytest.mark.parametrize("window", ["both", "reference"])
@pytest.mark.parametrize("world", [{"queries": (1, 12)}, {"slow_database": 6.0}, {"slow_instance": 120.0}, {}])
def test_sampling_at_another_rate_changes_no_verdict(world: dict, window: str) -> None:
    changes = [deploy("back", 59.9), deploy("front", 75), deploy("elsewhere", 59.8)]
    whole = small_world(count=1600, seed=3, **world)
    answers = [answered(question(), given, changes) for given in (whole, *(sampled(whole, 0.3, seed, window) for seed in (1, 2)))]
    assert said(answers[1]) == said(answers[2]) == said(answers[0])
    for answer in answers[1:]:
        assert answer.effect.low <= answers[0].effect.delta <= answer.effect.high


def test_a_thinned_reference_does_not_look_slower() -> None:
    """Of the reference the slowest twentieth is kept whole and of the others a tenth, as retention does; the focus is whole. Nothing changed."""
    for seed in range(4):
        whole = small_world(count=1500, seed=seed)
        roots = whole.filter(whole["parent_id"].is_null())
        duration, start = arrow.numbers(roots["duration"]), arrow.numbers(roots["start"])
        early = start < start.min() + FOCUS_MS * 10**6
        ordinary = early & (duration < np.quantile(duration[early], 0.95))
        weight = np.where(ordinary, 10.0, 1.0)
        keep = ~ordinary | (np.random.default_rng(seed).random(len(early)) < 0.1)
        number = arrow.ids(whole["trace_id"], 16)[:, 1].byteswap().astype(np.int64) - 1
        given = whole.set_column(whole.schema.get_field_index("weight"), "weight", pa.array(weight[number])).filter(pa.array(keep[number]))
        answer = answered(question(), given, [deploy("back", 59.9)])
        assert answer.effect.low <= 0 <= answer.effect.high
        assert answer.candidates == []
        assert answer.onset is None
        assert answer.standouts == []


def test_the_weighted_test_is_the_plain_one_where_weights_are_equal_and_fair_where_they_are_not() -> None:
    rng = np.random.default_rng(4)
    plain = [rng.integers(20, 200, (50, 3)).astype(float) for _ in range(4)]
    weighted = weighted_association(*(Counts(7 * x, 49 * x) for x in plain))
    usual = stratified_association(*plain)
    assert np.allclose(weighted[usual > 0.01], usual[usual > 0.01], rtol=0.1)
    assert (weighted[usual < 1e-6] < 1e-5).all()
    # Records of weight 1 and 20 at random, nothing between rows and columns: p is uniform; by the sums alone it is not.
    p, sums = [], []
    for _ in range(300):
        row, column, weight = rng.random(400) < 0.3, rng.random(400) < 0.2, rng.choice([1.0, 20.0], 400)
        cells = [(row & column), (row & ~column), (~row & column), (~row & ~column)]
        p.append(weighted_association(*(Counts(np.array([[weight[c].sum()]]), np.array([[(weight[c] ** 2).sum()]])) for c in cells))[0])
        sums.append(stratified_association(*(np.array([[weight[c].sum()]]) for c in cells))[0])
    assert 0.02 <= np.mean(np.array(p) < 0.05) <= 0.08
    assert np.mean(np.array(sums) < 0.05) > 0.3
    assert len(adjusted(p)) == 300


def test_the_bad_one_among_very_many_instances_is_found_and_what_was_left_out_is_told() -> None:
    """330 instances of one service, and each request of another with a value of its own."""
    rng = np.random.default_rng(6)
    rows = []
    for number, at in enumerate(np.sort(rng.uniform(0, 2 * FOCUS_MS, 6000)), 1):
        instance = int(rng.integers(330))
        bad = at >= FOCUS_MS and instance == 207
        duration = float(rng.lognormal(2.5, 0.2)) + (4000 if bad else 0)
        rows.append(
            {
                "trace": number,
                "span": 2 * number,
                "service": "front",
                "operation": "GET /",
                "start": at,
                "duration": duration + 4,
                "span.s:order": f"o-{number}",
            }
        )
        rows.append({"trace": number, "span": 2 * number + 1, "parent": 2 * number, "service": "back", "operation": "GET /x", "start": at + 2, "duration": duration, "instance": f"back-{instance}"})  # fmt: skip
    answer = answered(question(), table(*rows), [])
    assert [(s.service, s.key, s.value) for s in answer.standouts][:1] == [("back", "service.instance.id", "back-207")]
    assert any("values of service.instance.id at back" in note for note in answer.notes)
    assert not any("order" in note for note in answer.notes)


def test_what_became_faster_became_slower_nowhere() -> None:
    answer = answered(question(), small_world(count=900, slow_database=0.2), [deploy("back", 59.9)])
    assert answer.effect.delta < 0
    assert answer.candidates
    for candidate in answer.candidates:
        assert candidate.mechanism == "unknown"
    adds = [evidence.facts["adds"] for candidate in answer.candidates for evidence in candidate.evidence if "adds" in evidence.facts]
    assert adds
    assert max(adds) <= 0
    assert answer.standouts == []


def test_status_and_weight_reach_the_failures() -> None:
    """Failures in a thinned reference count by what they stand for: one of ten kept, as the successes are."""
    world = small_world(count=2000, seed=2)
    rng = np.random.default_rng(2)
    trace = arrow.ids(world["trace_id"], 16)[:, 1].byteswap()
    failed = (rng.random(int(trace.max()) + 1) < 0.05)[trace.astype(np.int64)]
    outcome = np.where(failed & (arrow.numbers(world["kind"]) == spans.SERVER), spans.ERROR, spans.OK).astype(np.int8)
    world = world.set_column(world.schema.get_field_index("outcome"), "outcome", pa.array(outcome))
    answer = answered(question(signal="errors"), sampled(world, 0.3, 1, "reference"), [])
    assert answer.effect.low <= 0 <= answer.effect.high
    assert answer.candidates == []


def test_marks_are_the_same_by_a_table_and_by_sorting(monkeypatch: pytest.MonkeyPatch) -> None:
    keys = np.random.default_rng(3).integers(0, 500, 2_000)
    by_table = (marks._distinct(keys, 500), *marks._numbered(keys, 500))
    monkeypatch.setattr(marks, "MOST_MARKS_IN_TABLE", 100)
    by_sorting = (marks._distinct(keys, 500), *marks._numbered(keys, 500))
    for one, other in zip(by_table, by_sorting, strict=True):
        assert one.tolist() == other.tolist()
