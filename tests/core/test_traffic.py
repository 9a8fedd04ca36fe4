"""The interval of a change of traffic holds although traffic rises and falls by itself."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pytest

from wirbel.core.diagnosis import traffic
from wirbel.core.diagnosis.model import Question, Window

SECOND = 10**9
NOW = 1_772_006_400 * SECOND
REFERENCE, FOCUS = Window(NOW, NOW + 3600 * SECOND), Window(NOW + 3720 * SECOND, NOW + 4920 * SECOND)


@dataclass(frozen=True)
class Came:
    """Requests, as far as their rate is looked at."""

    start: np.ndarray
    adjusted_count: np.ndarray
    in_focus: np.ndarray

    def __len__(self) -> int:
        return len(self.start)


def came(rng: np.random.Generator, wanders: float, times: float = 1.0, weight: float = 1.0) -> Came:
    """About 60 recorded requests a minute; their rate wanders by so much of itself, is alike for ten minutes, and in the focus is ``times`` as high."""
    minutes = np.arange(0, 82)
    level = np.zeros(len(minutes))
    level[0] = rng.normal()
    keep = np.exp(-1 / 10)
    for n in range(1, len(minutes)):
        level[n] = keep * level[n - 1] + np.sqrt(1 - keep**2) * rng.normal()
    rate = 60 * np.maximum(1 + wanders * level, 0.05) * np.where(minutes >= 62, times, 1.0)
    count = rng.poisson(rate)
    start = NOW + np.sort(((np.repeat(minutes, count) + rng.random(count.sum())) * 60 * SECOND).astype(np.int64))
    focus = start >= FOCUS.start
    kept = focus | (start < REFERENCE.end)
    return Came(start[kept], np.full(int(kept.sum()), weight), focus[kept])


def effect(given: Came) -> traffic.Effect:
    return traffic.effect(Question("front", None, "throughput", FOCUS, REFERENCE), given)  # type: ignore[arg-type]


@pytest.mark.parametrize(("wanders", "weight"), [(0.0, 1.0), (0.0, 40.0), (0.15, 1.0), (0.4, 1.0)])
def test_it_holds_nineteen_times_of_twenty(wanders: float, weight: float) -> None:
    """120 stretches in which nothing happens. By chance alone, of a traffic that wanders by 0.4, it would hold in one of six."""
    rng = np.random.default_rng(5)
    clear = np.mean([effect(came(rng, wanders, weight=weight)).is_clear for _ in range(120)])
    assert clear <= 0.11


@pytest.mark.parametrize("times", [0.5, 2.0])
def test_what_halves_or_doubles_is_clear(times: float) -> None:
    rng = np.random.default_rng(6)
    found = [effect(came(rng, 0.1, times)) for _ in range(30)]
    assert np.mean([one.is_clear for one in found]) >= 0.9
    assert np.median([one.focus / one.reference for one in found]) == pytest.approx(times, rel=0.1)


def test_what_stops_is_clear_though_little_is_known_of_before() -> None:
    """A minute of reference with 74 recorded requests, each for 64, and two minutes without any."""
    rng = np.random.default_rng(8)
    start = NOW + np.sort(rng.integers(0, 60 * SECOND, 74))
    asking = Question("front", None, "throughput", Window(NOW + 180 * SECOND, NOW + 300 * SECOND), Window(NOW, NOW + 60 * SECOND))
    found = traffic.effect(asking, Came(start, np.full(74, 64.0), np.zeros(74, np.bool_)))  # type: ignore[arg-type]
    assert (found.focus, found.reference) == (0.0, pytest.approx(74 * 64 / 60))
    assert found.high < -0.5 * found.reference
    assert found.p < 1e-6


def test_a_pause_and_the_time_before_the_first_request_are_no_wandering() -> None:
    """A program begins twenty minutes into the reference and is away for ten minutes of it."""
    rng = np.random.default_rng(7)
    found = []
    for _ in range(30):
        given = came(rng, 0.0, 0.6)
        minute = (given.start - NOW) // (60 * SECOND)
        kept = (minute >= 20) & ((minute < 40) | (minute >= 50))
        found.append(effect(Came(given.start[kept], given.adjusted_count[kept], given.in_focus[kept])))
    assert all(one.is_clear for one in found)
    assert np.median([one.focus / one.reference for one in found]) == pytest.approx(0.6, rel=0.05)
