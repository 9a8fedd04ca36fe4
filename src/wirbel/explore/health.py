"""The health of all services: worst first, focus beside reference."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc
from scipy import stats

from wirbel.core import arrow, text
from wirbel.core.expected.band import SURPRISED, Band, expected_band
from wirbel.core.text import rfc3339
from wirbel.explore import series
from wirbel.explore.figures import figures, spark
from wirbel.explore.schemas import Overview, ServiceHealth
from wirbel.store.models import Stream

Window = tuple[int, int]
Floats = npt.NDArray[np.float64]

SPARK_POINTS = 130  # of a small chart
FALLEN = 0.5  # of the reference's rate: less than that may be silence
MOST_BITS = 30.0  # more surprise than this adds nothing to a weight
NEEDED = 20  # requests in a window before a verdict
ALIKE = 10.0  # minutes in a row of which one tells nothing new about the others


@dataclass(frozen=True)
class Verdict:
    word: str  # slow, failing, silent, steady, learning
    bits: float
    since: int | None


def overview(start: int, end: int, focus: Window, reference: Window, environment: str | None) -> Overview:
    """All services that serve requests in [start, end)."""
    focus, reference = (series.aligned(window, environment) for window in (focus, reference))
    grid = series.grid_of(Stream.CELLS, min(start, reference[0], focus[0]), end, environment)
    drawn, minutes = (series.entries(table) for table in series.read(grid, (focus, reference), environment, series.CELL_COLUMNS))
    group, names = arrow.codes(drawn["service"])
    stride = max(1, -(-grid.count // SPARK_POINTS))
    if not names:
        return Overview(services=[], sentence="Nothing has been sent in this time.", detail="", minutes_a_point=stride * grid.step // 60, newest=None)
    found = series.by_point(drawn, grid, group, len(names))
    latency = expected_band(found.quantiles[:, :, 1], found.rows, grid.step)
    rate = found.count / grid.covered_s
    # A minute without requests is a rate of zero once the service is known, and missing before.
    known = np.maximum.accumulate(found.rows > 0, axis=1)
    traffic = expected_band(np.where(known, rate, np.nan), np.where(known, np.maximum(found.rows, 1), 0), grid.step)
    both = [_window_totals(minutes, names, w) for w in (focus, reference)]
    busiest = max(float(both[0].count.max()), 1e-9)
    rows = []
    for i, name in enumerate(names):
        verdict = judge(i, grid, (focus, reference), both[0], both[1], found, latency, traffic)
        share = float(both[0].count[i]) / busiest if verdict.word != "silent" else float(both[1].count[i]) / max(float(both[1].count.max()), 1e-9)
        rows.append(_row(name, i, verdict, share, focus, reference, both, found, latency, rate, traffic, stride))
    rows.sort(key=lambda r: (-r.priority, -r.focus.requests, r.service))
    sentence, detail = _say(rows)
    newest = rfc3339(int(arrow.numbers(drawn["minute"]).max()) + grid.step_ns)
    return Overview(services=rows, sentence=sentence, detail=detail, minutes_a_point=stride * grid.step // 60, newest=newest)


def _window_totals(table: pa.Table, names: list[str], window: Window) -> series.Totals:
    inside = series.in_window(table, window)
    group = pc.index_in(inside["service"], value_set=pa.array(names, pa.string())).fill_null(-1).to_numpy().astype(np.int64)
    known = np.flatnonzero(group >= 0)
    return series.totals(inside.take(pa.array(known)), group[known], len(names), bounded=True)


def judge(
    i: int, grid: series.Grid, windows: tuple[Window, Window], now: series.Totals, before: series.Totals, found: series.Totals, latency: Band, traffic: Band
) -> Verdict:
    """What is off about one service in the focus (the first window), and by how many bits."""
    focus, reference = windows
    inside = grid.inside(focus)
    if not len(inside) or (before.rows[i] < NEEDED and now.rows[i] < NEEDED):
        return Verdict("learning", 0.0, None)
    high = found.quantiles[i, :, 1] > latency.expected[i]
    slow = np.where(high, latency.surprise[i], 0.0)
    low = found.count[i] / grid.covered_s < traffic.expected[i]
    silent = np.where(low, traffic.surprise[i], 0.0)
    rates = [float(totals.count[i]) / series.window_seconds(window) for totals, window in ((now, focus), (before, reference))]
    failing = _failing_bits(_seen_to_fail(now, i), now.rows[i], _seen_to_fail(before, i), before.rows[i])
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
    """Surprise that half of the points, so many minutes apart, were this surprising, in bits.

    The median of n independent p-values is Beta((n+1)/2, (n+1)/2) distributed if nothing is off (order statistics
    of the uniform distribution). Neighbouring minutes are alike, so n counts stretches of ``ALIKE`` minutes.
    """
    n = max(1.0, len(surprise) * minutes / ALIKE)
    p = stats.beta.cdf(2.0 ** -float(np.median(surprise)), (n + 1) / 2, (n + 1) / 2)
    return abs(float(np.log2(max(p, 1e-300))))


def _seen_to_fail(totals: series.Totals, i: int) -> float:
    """Failures among the requests that were seen: surprise goes by those, not by what they stand for."""
    return float(totals.failed[i] / max(totals.count[i], 1e-9) * totals.rows[i])


def _failing_bits(failed: float, rows: float, failed_before: float, rows_before: float) -> float:
    """Surprise of so many failures given the reference's share (beta-binomial with its uncertainty)."""
    if failed < 3 or rows < NEEDED:
        return 0.0
    p = stats.betabinom.sf(round(failed) - 1, round(rows), 0.5 + failed_before, 0.5 + max(rows_before - failed_before, 0))
    return float(-np.log2(max(p, 1e-300)))


def _row(
    name: str,
    i: int,
    verdict: Verdict,
    share: float,
    focus: Window,
    reference: Window,
    both: list[series.Totals],
    found: series.Totals,
    latency: Band,
    rate: Floats,
    traffic: Band,
    stride: int,
) -> ServiceHealth:
    now, before = figures(both[0], i, series.window_seconds(focus)), figures(both[1], i, series.window_seconds(reference))
    comparable = now.p95 is not None and before.p95 is not None

    def thin(values: Floats) -> Floats:
        """The median of each few points: small charts have no room for more."""
        whole = len(values) // stride * stride
        parts = values[len(values) - whole :].reshape(-1, stride)
        ordered = np.sort(parts, axis=1)
        return np.where(np.isnan(parts).all(axis=1), np.nan, ordered[:, (stride - 1) // 2])

    return ServiceHealth(
        service=name,
        health=verdict.word,
        since=rfc3339(verdict.since) if verdict.since else None,
        priority=round(verdict.bits * float(np.sqrt(share)), 1),
        bits=round(verdict.bits, 1),
        traffic_share=share,
        focus=now,
        reference=before,
        p95_difference=now.p95 - before.p95 if comparable else None,  # type: ignore[operator]
        p95_ratio=now.p95 / before.p95 if comparable and before.p95 else None,  # type: ignore[operator]
        failed_difference=now.failed_share - before.failed_share if now.failed_share is not None and before.failed_share is not None else None,
        rate_spark=spark(thin(rate[i]), thin(traffic.low[i]), thin(traffic.high[i])),
        latency_spark=spark(thin(found.quantiles[i, :, 1]), thin(latency.low[i]), thin(latency.high[i])),
    )


_NUMBERS = ("No", "One", "Two", "Three", "Four", "Five", "Six", "Seven", "Eight", "Nine", "Ten")


def _say(rows: list[ServiceHealth]) -> tuple[str, str]:
    """The state in one sentence, and the worst service in another."""
    off = {word: [r for r in rows if r.health == word] for word in ("slow", "failing", "silent")}
    told = []
    for word, found in off.items():
        if found:
            count = _NUMBERS[len(found)] if len(found) <= 10 else str(len(found))
            who = f"{found[0].service} is" if len(found) == 1 else f"{count if not told else count.lower()} services are"
            told.append(f"{who} {word}")
    if not told:
        learning = sum(r.health == "learning" for r in rows)
        return "Nothing stands out in the focus.", (
            f"{learning} services are" if learning > 1 else "One service is"
        ) + " still learning what is normal." if learning else ""
    worst = rows[0]
    detail = f"Most affected: {worst.service}"
    if worst.focus.p95 is not None and worst.reference.p95 is not None:
        detail += f", p95 {text.seconds(worst.focus.p95)} instead of {text.seconds(worst.reference.p95)}"
    return ", ".join(told) + ".", detail + "."
