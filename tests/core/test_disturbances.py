"""Deviations that are one disturbance, and what dates and leads it."""

from __future__ import annotations

import json
from dataclasses import replace

import pytest

from tests.core.made_series import BEGAN, MINUTE
from wirbel.core.deviation.contract import contract
from wirbel.core.deviation.disturbance import Of, clear_onset, windows
from wirbel.core.deviation.grouping import group
from wirbel.core.deviation.model import Deviation, Peak
from wirbel.core.deviation.sentences import deviates
from wirbel.core.topology.graph import EntityId


def deviation(onset_min: float, ended_min: float | None, expected: float = 1.0) -> Deviation:
    onset = BEGAN + round(onset_min * MINUTE)
    ended = None if ended_min is None else BEGAN + round(ended_min * MINUTE)
    return Deviation("high", onset, onset, onset, onset, ended, Peak(onset, 2.0, expected, expected, expected), 12.0, None, True)


def test_what_was_noticed_with_the_others_dates_them_no_earlier() -> None:
    """A noisy series, which seems to have begun twelve minutes before the others."""
    noisy = replace(deviation(0, None), opened=BEGAN + 25 * MINUTE, bits=50.0)
    clear = [replace(deviation(at, None), bits=400.0) for at in (12, 13)]
    members = [Of("p95", name, {}, "s", one) for name, one in zip(("far", "near", "next"), (noisy, *clear), strict=True)]
    assert clear_onset(members) == BEGAN + 12 * MINUTE
    [one] = group([replace(member, service="shop") for member in members])
    assert (len(one.members), one.start, one.clear) == (3, BEGAN + 12 * MINUTE, BEGAN + 12 * MINUTE)
    assert clear_onset([Of("p95", "far", {}, "s", replace(noisy, opened=BEGAN + MINUTE)), *members[1:]]) == BEGAN


@pytest.mark.parametrize(
    ("actual", "told"),
    [
        (0.5, "50 % for long; single values may lie from 0 % to 57.4 %"),
        (0.6, "60 %, expected 0 % to 57.4 %"),
        (None, "nothing, expected 0 % to 57.4 %"),
    ],
)
def test_what_surprises_only_by_going_on_is_told_so(actual: float | None, told: str) -> None:
    one = replace(deviation(0, None), peak=Peak(BEGAN, actual, 0.02, 0.0, 0.574))
    assert deviates(Of("db.client.connection.count", "shop", {}, "1", one)) == told


def test_deviations_near_in_time_are_one_disturbance_led_by_the_earliest() -> None:
    given_ = [Of(name, None, {}, "s", deviation(*at)) for name, at in {"d": (200, None), "b": (5, 60), "a": (0, 10), "c": (69, 80), "e": (999, 1001)}.items()]
    groups = group(given_)
    # What goes on takes in what follows; another measure long after the first began is another disturbance, the same one again is not.
    assert [[one.metric for one in found.members] for found in groups] == [["a", "b"], ["c"], ["d", "e"]]
    assert (groups[0].start, groups[0].end) == (BEGAN, BEGAN + 60 * MINUTE)
    assert groups[2].end is None
    again = [Of("b", None, {}, "s", deviation(*at)) for at in ((5, 60), (69, 80), (95, 99))]
    assert [len(found.members) for found in group(again)] == [2, 1]
    told = contract(given_)
    assert told["disturbances"][0]["first"] == told["deviations"][0]["id"] == given_[2].id


@pytest.mark.parametrize("first", ["requests", "disk"])
def test_what_hurts_nobody_for_hours_does_not_take_in_what_goes_wrong_meanwhile(first: str) -> None:
    shop = EntityId("service", "shop")
    found = [Of(first, "shop", {}, "1", deviation(0, 250), shop), Of("p95", "shop", {}, "s", deviation(200, None), shop)]
    assert [one.members[0].metric for one in group(found)] == [first, "p95"]
    # A rush that is followed by trouble soon is one with it.
    assert len(group([found[0], replace(found[1], deviation=deviation(9, None))])) == 1
    # What hurts people takes in what follows, however long after: what is done about it surprises the most.
    [one] = group([replace(found[1], deviation=deviation(0, None)), Of("disk", "shop", {}, "1", replace(deviation(200, 250), bits=9000), shop)])
    assert (one.members[0].metric, one.clear) == ("p95", BEGAN)


def test_what_spreads_long_after_is_another_disturbance_than_what_goes_on_still() -> None:
    shop, other = EntityId("service", "shop"), EntityId("service", "other")
    slow, throttled = Of("p95", "shop", {}, "s", deviation(0, None), shop), Of("throttled", "shop", {}, "1", deviation(90, None), shop)
    spread = [Of("p95", "other", {}, "s", deviation(90, None), other), Of("p95", "third", {}, "s", deviation(91, None), EntityId("service", "third"))]
    assert [len(one.members) for one in group([slow, throttled])] == [2]
    groups = group([slow, throttled, *spread])
    assert [[one.service for one in found.members] for found in groups] == [["shop"], ["other", "shop", "third"]]


def test_only_what_is_linked_is_one_disturbance() -> None:
    at = {"gate": (3, 60), "planner": (0, 60), "elsewhere": (1, 50), "later": (45, 60)}
    found = [Of("p95", name, {}, "s", deviation(*when), EntityId("service", name)) for name, when in at.items()]
    near = {("planner", "gate"), ("planner", "later")}
    groups = group(found, lambda a, b: (a.name, b.name) in near or (b.name, a.name) in near)
    assert [one.services for one in groups] == [["gate", "planner"], ["elsewhere"], ["later"]]
    elsewhere = [Of("p95", "planner", {}, "s", deviation(0, 60), EntityId("service", "planner"), environment) for environment in ("test", "production")]
    assert len(group(elsewhere)) == 2


def test_what_could_be_told_first_leads_where_onsets_are_not_known_apart() -> None:
    early, late = deviation(0, 60), deviation(1, 60)
    [one] = group([Of("load", "a", {}, "s", replace(early, opened=BEGAN + 9 * MINUTE)), Of("p95", "a", {}, "s", replace(late, opened=BEGAN + 2 * MINUTE))])
    assert [member.metric for member in one.members] == ["p95", "load"]
    assert one.start == BEGAN
    # What hurts people leads before what does not.
    [one] = group([Of("load", "a", {}, "s", early), Of("failed share", "a", {}, "s", replace(late, opened=BEGAN + 2 * MINUTE))])
    assert [member.metric for member in one.members] == ["failed share", "load"]
    [one] = group([Of("load", "a", {}, "s", early), Of("p95", "a", {}, "s", deviation(5, 60))])
    assert [member.metric for member in one.members] == ["load", "p95"]


def test_a_service_leads_before_many_that_are_watched_together() -> None:
    """Of a scope no cause can be asked for; it is slow because the service is."""
    mill, stone = EntityId("scope", "The mill"), EntityId("service", "millstone")
    found = [Of("p95", None, {}, "s", replace(deviation(0, 60), bits=99.0), mill), Of("p95", "millstone", {}, "s", deviation(1, 60), stone)]
    [one] = group(found)
    assert [member.entity.kind for member in one.members] == ["service", "scope"]
    # Where the scope was slow long before, it leads: another of its services may have been.
    [one] = group([found[0], replace(found[1], deviation=deviation(5, 60))])
    assert one.members[0].entity == mill


def test_what_surprises_little_does_not_date_a_disturbance() -> None:
    shop = EntityId("service", "shop")
    found = [Of("p95", name, {}, "s", replace(deviation(at, None), bits=bits), shop) for name, at, bits in (("a", 0, 50), ("b", 9, 400), ("c", 10, 300))]
    [one] = group(found)
    assert one.start == BEGAN
    assert one.clear == BEGAN + 9 * MINUTE
    assert windows(one, BEGAN + 60 * MINUTE) == ((BEGAN + 9 * MINUTE, BEGAN + 60 * MINUTE), (BEGAN - 53 * MINUTE, BEGAN - 2 * MINUTE))
    # What lies beneath and hurts nobody is not what people felt; silence has no bits, and counts.
    [one] = group([Of("disk", None, {}, "1", replace(deviation(0, None), bits=900), shop), found[1], found[2]])
    assert one.clear == BEGAN + 9 * MINUTE
    silent = replace(deviation(2, None), direction="absent", bits=0.0)
    assert group([Of("requests", "shop", {}, "1", silent, shop), *found[1:]])[0].clear == BEGAN + 2 * MINUTE


def test_windows_that_show_a_disturbance_do_not_touch() -> None:
    [one] = group([Of("p95", "a", {}, "s", deviation(100, None))])
    focus, reference = windows(one, BEGAN + 140 * MINUTE)
    assert focus == (BEGAN + 100 * MINUTE, BEGAN + 140 * MINUTE)
    assert reference == (BEGAN + 58 * MINUTE, BEGAN + 98 * MINUTE)
    # Not from before there was anything; a little there always is.
    assert windows(one, BEGAN + 140 * MINUTE, BEGAN + 70 * MINUTE)[1] == (BEGAN + 70 * MINUTE, BEGAN + 98 * MINUTE)
    assert windows(one, BEGAN + 140 * MINUTE, BEGAN + 99 * MINUTE)[1] == (BEGAN + 96 * MINUTE, BEGAN + 98 * MINUTE)


def test_what_is_not_known_is_null_in_json() -> None:
    told = json.loads(json.dumps(contract([Of("m", None, {}, "", deviation(0, 1, expected=float("nan")))]), allow_nan=False))
    assert told["deviations"][0]["peak"]["expected"] is None


def test_what_only_became_better_disturbs_nobody() -> None:
    faster = replace(deviation(0, 30), direction="low")
    cases = {
        True: [("p95", faster)],
        False: [("p95", deviation(0, 30)), ("requests", faster), ("jvm.memory.used", faster), ("failed share", deviation(0, 30))],
    }
    for is_better, members in cases.items():
        for metric, one in members:
            [found] = group([Of(metric, "shop", {}, "", one)])
            assert found.is_better is is_better, metric
    # Faster because nobody asks any more is no improvement.
    silent = replace(deviation(0, 30), direction="absent")
    [both] = group([Of("requests", "shop", {}, "", silent), Of("p95", "shop", {}, "", replace(deviation(1, 30), direction="low"))])
    assert not both.is_better
    told = contract([Of("p95", "shop", {}, "", faster)])
    assert (len(told["deviations"]), told["disturbances"]) == (1, [])
