"""Whether a service is slow, failing or silent in a window, beside its expected bands and a reference."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy import special

from wirbel.core.expected.band import SURPRISED, Band
from wirbel.core.series import cells as cell_series
from wirbel.core.stats.counts import beta_binomial_at_least

Window = tuple[int, int]
Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]

FALLEN = 0.5  # of the reference's rate: less than that may be silence
MOST_BITS = 30.0  # more surprise than this adds nothing to a priority
MIN_REQUESTS = 20  # in a window, before a verdict
SIGNALS = {"slow": "latency", "failing": "errors", "silent": "throughput"}
LEAST_FAILED = 3  # requests, before anything is said of failures
ALIKE_MINUTES = 10.0  # in a row, of which one tells nothing new about the others


@dataclass(frozen=True)
class Verdict:
    word: str  # slow, failing, silent, steady, learning
    bits: float
    since: int | None

    @property
    def signal(self) -> str | None:
        """The signal that is off; None where nothing stands out."""
        return SIGNALS.get(self.word)

    def priority(self, share: float) -> float:
        """How urgent it is: the surprise times the root of the service's share of the traffic of the busiest."""
        return self.bits * float(np.sqrt(share))


@dataclass(frozen=True)
class Departed:
    """How far services are from what is expected of them in a window, shape (services,) each: bits and since when (ns), and whether that is still being learned."""

    slow: Floats
    silent: Floats
    slow_since: Ints
    silent_since: Ints
    learning: npt.NDArray[np.bool_]


def departed(window: Window, latency: Band, traffic: Band) -> Departed:
    """What the bands of the headline percentile and of the rate, shape (services, points), say of a window. Where it has no point all are learning."""
    grid, inside = latency.series.grid, latency.series.grid.inside(window)
    if not len(inside):
        nothing = np.zeros(len(latency.series.entities))
        return Departed(nothing, nothing, nothing.astype(np.int64), nothing.astype(np.int64), nothing == 0)
    slow, silent = _surprise(latency, inside, 1), _surprise(traffic, inside, -1)
    return Departed(
        slow=lasting_bits(slow, grid.step / 60),
        silent=lasting_bits(silent, grid.step / 60),
        slow_since=grid.times[inside[_first_loud(slow)]],
        silent_since=grid.times[inside[_first_loud(silent)]],
        learning=np.all(latency.learning[:, inside], axis=1),
    )


def judge(windows: tuple[Window, Window], now: cell_series.Totals, before: cell_series.Totals, found: Departed) -> list[Verdict]:
    """What is off about each service in the focus (the first window), and by how many bits.

    ``now`` and ``before`` are totals of the windows, shape (services,); ``found`` is of the focus.
    """
    rates = [totals.count / cell_series.window_seconds(window) for totals, window in zip((now, before), windows, strict=True)]
    bits = {"slow": found.slow, "failing": _failing_bits(now, before), "silent": np.where(rates[0] < FALLEN * rates[1], found.silent, 0.0)}
    since = {"slow": found.slow_since, "silent": found.silent_since, "failing": np.full(len(now.count), windows[0][0])}
    few = np.maximum(now.sample_size, before.sample_size) < MIN_REQUESTS
    words = [*bits]
    worst = np.argmax([bits[word] for word in words], axis=0)
    verdicts = []
    for i, word in enumerate(words[place] for place in worst):
        if few[i]:
            verdicts.append(Verdict("learning", 0.0, None))
        elif bits[word][i] < SURPRISED:
            verdicts.append(Verdict("learning" if found.learning[i] else "steady", float(bits[word][i]), None))
        else:
            verdicts.append(Verdict(word, min(float(bits[word][i]), MOST_BITS), int(since[word][i])))
    return verdicts


def _surprise(band: Band, inside: npt.NDArray[np.int64], side: int) -> Floats:
    """Of the points inside, shape (services, points inside), where values are above (1) or below (−1) what was expected; elsewhere 0."""
    with np.errstate(invalid="ignore"):
        off = side * (band.series.values[:, inside] - band.expected[:, inside]) > 0
    return np.where(off, band.surprise[:, inside], 0.0)


def _first_loud(surprise: Floats) -> npt.NDArray[np.int64]:
    """The first point of each service that is as surprising as half of them are, at most SURPRISED, shape (services,)."""
    loud = np.minimum(SURPRISED, np.median(surprise, axis=1))
    return np.argmax(surprise >= loud[:, None], axis=1)


def lasting_bits(surprise: Floats, minutes: float) -> Floats:
    """Surprise, in bits, of ``surprise``, shape (…, points): that half of the points, so many minutes apart, were this surprising. Shape (…,).

    The median of n independent p-values is Beta((n+1)/2, (n+1)/2) distributed if nothing is off (order statistics
    of the uniform distribution). Neighbouring minutes are alike, so n counts stretches of ``ALIKE_MINUTES`` minutes.
    """
    n = max(1.0, surprise.shape[-1] * minutes / ALIKE_MINUTES)
    p = special.betainc((n + 1) / 2, (n + 1) / 2, 2.0 ** -np.median(surprise, axis=-1))
    return np.abs(np.log2(np.maximum(p, 1e-300)))


def _failing_bits(now: cell_series.Totals, before: cell_series.Totals) -> Floats:
    """Surprise of so many failures given the reference's share (beta-binomial with its uncertainty), shape (services,).

    Failures are counted among the requests that were seen: surprise goes by those, not by what they stand for.
    """
    (failed, rows), (failed_before, rows_before) = ((np.nan_to_num(totals.failed_share) * totals.sample_size, totals.sample_size) for totals in (now, before))
    bits = np.zeros(len(rows))
    # Where no larger share fails than before there is nothing to be surprised about.
    asked = np.flatnonzero((failed >= LEAST_FAILED) & (rows >= MIN_REQUESTS) & (failed * np.maximum(rows_before, 1.0) > failed_before * rows))
    if len(asked):
        well = np.maximum(rows_before - failed_before, 0)[asked]
        p = beta_binomial_at_least(np.round(failed[asked]), np.round(rows[asked]), 0.5 + failed_before[asked], 0.5 + well)
        bits[asked] = -np.log2(np.maximum(p, 1e-300))
    return bits
