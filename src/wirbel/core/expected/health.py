"""Whether a service is slow, failing or silent in a window, beside its expected bands and a reference."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy import stats

from wirbel.core.expected.band import SURPRISED, Band
from wirbel.core.series import cells as cell_series

Window = tuple[int, int]
Floats = npt.NDArray[np.float64]

FALLEN = 0.5  # of the reference's rate: less than that may be silence
MOST_BITS = 30.0  # more surprise than this adds nothing to a priority
MIN_REQUESTS = 20  # in a window, before a verdict
SIGNALS = {"slow": "latency", "failing": "errors", "silent": "throughput"}
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


def judge(i: int, windows: tuple[Window, Window], now: cell_series.Totals, before: cell_series.Totals, latency: Band, traffic: Band) -> Verdict:
    """What is off about the i-th service in the focus (the first window), and by how many bits.

    ``now`` and ``before`` are totals of the windows, shape (services,); the bands are those of the headline percentile and of the rate.
    """
    focus, reference = windows
    grid = latency.series.grid
    inside = grid.inside(focus)
    if not len(inside) or (before.sample_size[i] < MIN_REQUESTS and now.sample_size[i] < MIN_REQUESTS):
        return Verdict("learning", 0.0, None)
    slow = np.where(latency.series.values[i] > latency.expected[i], latency.surprise[i], 0.0)
    silent = np.where(traffic.series.values[i] < traffic.expected[i], traffic.surprise[i], 0.0)
    rates = [float(totals.count[i]) / cell_series.window_seconds(window) for totals, window in ((now, focus), (before, reference))]
    failing = _failing_bits(_seen_to_fail(now, i), now.sample_size[i], _seen_to_fail(before, i), before.sample_size[i])
    bits = {
        "slow": lasting_bits(slow[inside], grid.step / 60),
        "failing": failing,
        "silent": lasting_bits(silent[inside], grid.step / 60) if rates[0] < FALLEN * rates[1] else 0.0,
    }
    word = max(bits, key=lambda name: bits[name])
    if bits[word] < SURPRISED:
        return Verdict("learning" if latency.learning[i, inside].all() else "steady", bits[word], None)
    lasting = slow if word == "slow" else silent
    loud = min(SURPRISED, float(np.median(lasting[inside])))
    since = grid.times[inside[int(np.argmax(lasting[inside] >= loud))]] if word != "failing" else focus[0]
    return Verdict(word, min(bits[word], MOST_BITS), int(since))


def lasting_bits(surprise: Floats, minutes: float) -> float:
    """Surprise of ``surprise``, shape (points,): that half of the points, so many minutes apart, were this surprising, in bits.

    The median of n independent p-values is Beta((n+1)/2, (n+1)/2) distributed if nothing is off (order statistics
    of the uniform distribution). Neighbouring minutes are alike, so n counts stretches of ``ALIKE_MINUTES`` minutes.
    """
    n = max(1.0, len(surprise) * minutes / ALIKE_MINUTES)
    p = stats.beta.cdf(2.0 ** -float(np.median(surprise)), (n + 1) / 2, (n + 1) / 2)
    return abs(float(np.log2(max(p, 1e-300))))


def _seen_to_fail(totals: cell_series.Totals, i: int) -> float:
    """Failures among the requests that were seen: surprise goes by those, not by what they stand for."""
    return float(totals.failed[i] / max(totals.count[i], 1e-9) * totals.sample_size[i])


def _failing_bits(failed: float, rows: float, failed_before: float, rows_before: float) -> float:
    """Surprise of so many failures given the reference's share (beta-binomial with its uncertainty)."""
    if failed < 3 or rows < MIN_REQUESTS:
        return 0.0
    p = stats.betabinom.sf(round(failed) - 1, round(rows), 0.5 + failed_before, 0.5 + max(rows_before - failed_before, 0))
    return float(-np.log2(max(p, 1e-300)))
