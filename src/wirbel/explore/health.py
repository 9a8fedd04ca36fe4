"""The health of all services: worst first, focus beside reference."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow, text
from wirbel.core.expected.band import Band, expected_band
from wirbel.core.expected.health import Verdict, judge
from wirbel.core.series import cells as cell_series
from wirbel.core.series.grid import fewer
from wirbel.core.text import rfc3339
from wirbel.core.topology.graph import EntityId
from wirbel.explore import read_series
from wirbel.explore.figures import figures, spark
from wirbel.explore.schemas import Overview, ServiceHealth

Window = tuple[int, int]
Floats = npt.NDArray[np.float64]

SPARK_POINTS = 130  # of a small chart


def overview(start: int, end: int, focus: Window, reference: Window, environment: str | None, among: Sequence[str] | None = None) -> Overview:
    """All services, or those ``among`` some, that serve requests in [start, end)."""
    focus, reference = (read_series.aligned(window, environment) for window in (focus, reference))
    drawn = read_series.read(min(start, reference[0], focus[0]), end, (focus, reference), environment, cell_series.CELL_COLUMNS, among)
    grid, minutes, served = drawn.grid, cell_series.entries(drawn.minutes), cell_series.entries(drawn.points)
    _, names = arrow.codes(served["service"])
    stride = max(1, -(-grid.count // SPARK_POINTS))
    if not names:
        return Overview(services=[], sentence="Nothing has been sent in this time.", detail="", minutes_a_point=stride * grid.step // 60, newest=None)
    found, past = drawn.over_time(cell_series.entries, [EntityId("service", name) for name in names], "service")
    latency, traffic = expected_band(found.latency(), past.latency()), expected_band(found.rate(), past.rate())
    both = [_window_totals(minutes, names, w) for w in (focus, reference)]
    busiest = max(float(both[0].count.max()), 1e-9)
    rows = []
    for i, name in enumerate(names):
        verdict = judge(i, (focus, reference), both[0], both[1], latency, traffic)
        share = float(both[0].count[i]) / busiest if verdict.word != "silent" else float(both[1].count[i]) / max(float(both[1].count.max()), 1e-9)
        rows.append(_row(name, i, verdict, share, focus, reference, both, latency, traffic, stride))
    rows.sort(key=lambda r: (-r.priority, -r.focus.requests, r.service))
    sentence, detail = _say(rows)
    newest = rfc3339(int(arrow.numbers(served["minute"]).max()) + grid.step_ns)
    return Overview(services=rows, sentence=sentence, detail=detail, minutes_a_point=stride * grid.step // 60, newest=newest)


def _window_totals(table: pa.Table, names: list[str], window: Window) -> cell_series.Totals:
    inside = cell_series.in_window(table, window)
    group = pc.index_in(inside["service"], value_set=pa.array(names, pa.string())).fill_null(-1).to_numpy().astype(np.int64)
    known = np.flatnonzero(group >= 0)
    return cell_series.totals(inside.take(pa.array(known)), group[known], len(names), bounded=True)


def _row(
    name: str,
    i: int,
    verdict: Verdict,
    share: float,
    focus: Window,
    reference: Window,
    both: list[cell_series.Totals],
    latency: Band,
    traffic: Band,
    stride: int,
) -> ServiceHealth:
    now, before = figures(both[0], i, cell_series.window_seconds(focus)), figures(both[1], i, cell_series.window_seconds(reference))
    comparable = now.p95 is not None and before.p95 is not None

    return ServiceHealth(
        service=name,
        health=verdict.word,
        signal=verdict.signal,
        since=rfc3339(verdict.since) if verdict.since else None,
        priority=round(verdict.priority(share), 1),
        bits=round(verdict.bits, 1),
        traffic_share=share,
        focus=now,
        reference=before,
        p95_difference=now.p95 - before.p95 if comparable else None,  # type: ignore[operator]
        p95_ratio=now.p95 / before.p95 if comparable and before.p95 else None,  # type: ignore[operator]
        failed_difference=now.failed_share - before.failed_share if now.failed_share is not None and before.failed_share is not None else None,
        rate_spark=spark(*(fewer(values[i], stride) for values in (traffic.series.values, traffic.low, traffic.high))),
        latency_spark=spark(*(fewer(values[i], stride) for values in (latency.series.values, latency.low, latency.high))),
    )


_NUMBERS = ("No", "One", "Two", "Three", "Four", "Five", "Six", "Seven", "Eight", "Nine", "Ten")


def _say(rows: list[ServiceHealth]) -> tuple[str, str]:
    """The state in one sentence, and the worst service in another."""
    off = {word: [r for r in rows if r.health == word] for word in ("slow", "failing", "silent")}
    told: list[str] = []
    for word, found in off.items():
        if found:
            count = _NUMBERS[len(found)] if len(found) <= 10 else str(len(found))
            who = f"{found[0].service} is" if len(found) == 1 else f"{count if not told else count.lower()} services are"
            told.append(f"{who} {word}")
    if not told:
        learning = [r for r in rows if r.health == "learning"]
        still = f"{len(learning)} services are" if len(learning) > 1 else "One service is"
        if len(learning) == len(rows):
            return "It is too early to say what is normal.", f"{still} still learning; compare the focus with the reference."
        return "Nothing stands out in the focus.", f"{still} still learning what is normal." if learning else ""
    worst = rows[0]
    detail = f"Most affected: {worst.service}"
    if worst.focus.p95 is not None and worst.reference.p95 is not None:
        detail += f", p95 {text.seconds(worst.focus.p95)} instead of {text.seconds(worst.reference.p95)}"
    return ", ".join(told) + ".", detail + "."
