from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from wirbel.core.expected.band import Band, Memory, expected_band
from wirbel.core.expected.windows import departures, propose, quiet_before
from wirbel.core.series.grid import Grid
from wirbel.core.series.series import Series
from wirbel.core.topology.graph import EntityId

NEEDED = Memory.of(60).needed


def latency(values: np.ndarray, samples: np.ndarray, step_s: int = 60) -> Series:
    grid = Grid(0, values.shape[1] * step_s * 10**9, step_s)
    return Series([EntityId("service", "shop")], "p95", "s", "quantile", grid, values, samples)


def band_of(values: np.ndarray, samples: np.ndarray, step_s: int = 60) -> Band:
    return expected_band(latency(values, samples, step_s))


def noise(minutes: int, seed: int, requests: int = 200) -> tuple[np.ndarray, np.ndarray]:
    """p95 of each minute's sample of log-normal durations."""
    rng = np.random.default_rng(seed)
    return np.quantile(rng.lognormal(-2, 0.4, (minutes, requests)), 0.95, axis=1)[None], np.full((1, minutes), requests, float)


def test_normal_minutes_lie_inside_the_band() -> None:
    """A 99 % band holds at least 97 % of held-out normal minutes, and is not so wide that all of a shift of 50 % fits."""
    inside, shifted = [], []
    for seed in range(20):
        values, samples = noise(400, seed)
        band = band_of(values, samples)
        judged = ~band.learning[0]
        inside.append(((values >= band.low) & (values <= band.high))[0, judged].mean())
        shifted.append((values * 1.5 <= band.high)[0, judged].mean())
    assert np.mean(inside) >= 0.97
    assert np.mean(shifted) <= 0.05


def test_few_requests_widen_the_band() -> None:
    values, samples = noise(300, 1)
    samples[0, 250] = 4
    band = band_of(values, samples)
    assert band.high[0, 250] - band.low[0, 250] > 2 * (band.high[0, 249] - band.low[0, 249])


def test_nothing_is_claimed_while_learning_or_missing() -> None:
    values, samples = noise(100, 2)
    samples[0, 60:] = 0
    band = band_of(values, samples)
    assert band.learning[0, :NEEDED].all()
    assert np.isnan(band.low[0, :NEEDED]).all()
    assert (band.surprise[0, 60:] == 0).all()
    empty = band_of(np.full((1, 50), np.nan), np.zeros((1, 50)))
    assert empty.learning.all()


def test_points_that_are_asked_for_are_judged_as_all_are() -> None:
    """Also where a longer time teaches."""
    values, samples = noise(400, 5)
    past = latency(values, samples)
    grid = Grid(240 * 60 * 10**9, 400 * 60 * 10**9)
    series = Series(past.entities, "p95", "s", "quantile", grid, values[:, 240:], samples[:, 240:])
    whole = expected_band(series, past)
    assert np.array_equal(whole.low, band_of(values, samples).low[:, 240:])
    for some in (np.arange(160) >= 157, np.arange(160) % 50 == 7):
        found = expected_band(series, past, asked=some)
        assert all(np.array_equal(getattr(found, side)[:, some], getattr(whole, side)[:, some]) for side in ("expected", "low", "high", "surprise"))
    assert expected_band(series, past, asked=np.zeros(160, np.bool_)).low.shape == whole.low.shape


def test_the_band_does_not_learn_from_what_departs_at_once() -> None:
    values, samples = noise(300, 3)
    values[0, 270:] *= 4
    band = band_of(values, samples)
    assert band.expected[0, 299] < 1.2 * np.median(values[0, :270])


def test_focus_is_where_it_departs_and_reference_a_quiet_stretch_before() -> None:
    values, samples = noise(360, 4)
    values[0, 335:] *= 3
    values[0, 120:130] *= 3
    band = band_of(values, samples)
    found = propose(band)
    assert found.departed
    assert (abs(found.focus[0] - 335) <= 1, found.focus[1]) == (True, 360)
    assert found.reference[1] <= found.focus[0]
    assert found.reference[1] - found.reference[0] == 90
    assert [abs(a - b) <= 1 for (a, _), b in zip(departures(band), (120, 335), strict=True)] == [True, True]


def test_nothing_departs_in_noise_and_the_windows_do_not_overlap() -> None:
    for seed in range(20):
        values, samples = noise(360, 100 + seed)
        found = propose(band_of(values, samples))
        assert not found.departed
        assert 0 <= found.reference[0] < found.reference[1] <= found.focus[0] < found.focus[1] <= 360


def test_a_lull_between_two_departures_is_no_reference() -> None:
    """Slow for half an hour, as ever for five minutes, then far worse: what is normal is to be seen before both."""
    band = band_of(*noise(360, 4))
    found = propose(band, stretches=[(290, 320), (325, 360)])
    assert found.focus == (325, 360)
    assert found.reference == (290 - 2 - 90, 290 - 2)
    assert propose(band, stretches=[(290, 310), (325, 360)]).reference == (310, 325 - 2)  # a quarter of an hour is one


@given(st.integers(2, 60), st.lists(st.tuples(st.integers(0, 59), st.integers(1, 20)), min_size=1, max_size=4))
def test_both_windows_always_have_points_and_the_reference_comes_first(count: int, lasting: list[tuple[int, int]]) -> None:
    stretches = sorted({(at % count, min(at % count + long, count)) for at, long in lasting}, key=lambda one: (one[1], one[0]))
    found = propose(band_of(*noise(count, 5)), stretches=stretches)
    assert 0 <= found.reference[0] < found.reference[1]
    assert found.focus[0] < found.focus[1] <= count
    assert found.reference[1] <= max(found.focus[0], 1)


def test_windows_of_a_series_that_has_just_begun() -> None:
    for minutes in (2, 3, 10, 31):
        values, samples = noise(minutes, 5)
        found = propose(band_of(values, samples))
        assert 0 <= found.reference[0] < found.reference[1] <= found.focus[0] < found.focus[1] <= minutes


def test_the_reference_begins_no_earlier_than_what_is_known() -> None:
    """A program that began to send within the range was not quiet before: it was unknown."""
    for departs in (True, False):
        values, samples = noise(360, 6)
        values[0, :290], samples[0, :290] = np.nan, 0
        values[0, 340:] *= 3 if departs else 1
        found = propose(band_of(values, samples))
        assert found.departed == departs
        assert found.reference[0] == 290
        assert found.reference[1] <= found.focus[0]


def test_windows_when_only_the_last_points_are_known() -> None:
    for known in (1, 2, 3, 20):
        values, samples = noise(360, 6)
        values[0, :-known], samples[0, :-known] = np.nan, 0
        found = propose(band_of(values, samples))
        assert 0 <= found.reference[0] < found.reference[1] <= found.focus[0] < found.focus[1] <= 360
        assert found.reference[0] >= 360 - max(known, 2)


def test_the_quiet_stretch_before_leaves_out_first_signs_and_what_is_unknown() -> None:
    values, samples = noise(180, 9)
    values[0, :60], samples[0, :60] = np.nan, 0
    values[0, 174:] *= 3  # it begins before somebody asks
    values[0, 120] *= 3  # one loud minute is none
    found = quiet_before(band_of(values, samples))
    assert found is not None
    assert found == (174 - 90, 174)
    early = quiet_before(band_of(values[:, :100], samples[:, :100]))
    assert early == (60, 100)
    assert quiet_before(band_of(np.full((1, 30), np.nan), np.zeros((1, 30)))) is None


def test_bands_and_windows_go_by_time_not_by_the_number_of_points() -> None:
    """The same departure of six hours, told in steps of ten minutes and of an hour, over days."""
    for step_s, points in ((600, 6 * 24 * 3), (3600, 24 * 14)):
        values, samples = noise(points, 7, 600)
        start, end = points - 10 * 3600 // step_s, points - 4 * 3600 // step_s
        values[0, start:end] *= 3
        band = band_of(values, samples, step_s)
        assert not band.learning[Memory.of(step_s).needed :].any()
        assert Memory.of(step_s).window * step_s <= 24 * 3600 + step_s
        found = propose(band)
        assert found.departed
        assert abs(found.focus[0] - start) * step_s <= step_s
        assert departures(band)[-1] == (start, found.focus[1])
        assert (found.reference[1] - found.reference[0]) * step_s <= max(90 * 60, 12 * step_s)
        assert found.focus[0] - found.reference[1] <= max(1, 120 // step_s)
    # A spike of one point of an hour is a departure; three minutes of one are needed where points are minutes.
    hours, _ = noise(100, 8, 600)
    hours[0, 90] *= 5
    assert departures(band_of(hours, np.full((1, 100), 600.0), 3600)) == [(90, 91)]
    assert departures(band_of(hours, np.full((1, 100), 600.0))) == []


def test_a_reference_lies_where_something_was_heard() -> None:
    """Two stretches with an hour and a half of nothing between them: the reference is of the first, not of the nothing."""
    values, samples = noise(300, 8)
    values[0, 100:190], samples[0, 100:190] = np.nan, 0
    departing = values.copy()
    departing[0, 190:] *= 6
    found = propose(band_of(departing, samples))
    assert found.departed
    assert found.focus[0] == 190
    assert found.reference == (10, 100)
    calm = propose(band_of(values, samples))
    assert calm.reference == (190, calm.focus[0])


def test_a_reference_does_not_reach_over_a_pause_of_what_is_heard_all_the_time() -> None:
    """Twelve minutes of nothing in a series of every minute are a pause; in one of every eighth they are none."""
    values, samples = noise(300, 8)
    values[0, 200:212], samples[0, 200:212] = np.nan, 0
    values[0, 260:] *= 6
    assert propose(band_of(values, samples)).reference[0] == 212
    assert quiet_before(band_of(values[:, :260], samples[:, :260])) == (212, 260)
    values, samples = noise(300, 8)
    seldom = np.arange(300) % 8 != 0
    values[0, seldom], samples[0, seldom] = np.nan, 0
    found = quiet_before(band_of(values, samples))
    assert found is not None
    assert found[1] - found[0] == 90
