"""The health of all services: worst first, focus beside reference."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from wirbel.core import text
from wirbel.core.deviation import sentences
from wirbel.core.deviation.disturbance import Disturbance
from wirbel.core.expected.band import Band
from wirbel.core.expected.health import SIGNALS
from wirbel.core.series import cells as cell_series
from wirbel.core.series.grid import fewer
from wirbel.core.series.percentiles import HEADLINE
from wirbel.core.text import rfc3339
from wirbel.explore import read_series
from wirbel.explore.figures import figures, sparks
from wirbel.explore.fleet import Fleet, fleet
from wirbel.explore.schemas import Overview, ServiceHealth, Since, Spark
from wirbel.store.scan import snapshot
from wirbel.watch import bands
from wirbel.watch import found as found_by_watch

Window = tuple[int, int]

MOST_DISTURBANCES = 3  # that are told of
SPARK_POINTS = 130  # of a small chart
PAGE = 50  # services, with all that is shown of them


@snapshot()
def overview(
    start: int, end: int, focus: Window, reference: Window, environment: str | None, among: Sequence[str] | None = None, first: int = 0, most: int = PAGE
) -> Overview:
    """Of all services, or ``among`` some, that serve requests in [start, end), ``most`` from the ``first`` worst on."""
    focus, reference = (read_series.aligned(window, environment) for window in (focus, reference))
    whole = fleet(start, end, focus, reference, environment, among)
    shown = whole.order[first : first + most]
    goes_on = [one for one in found_by_watch.disturbances(*focus, environment, among) if one.end is None and not one.is_better]
    drawn = _Drawn(min(start, reference[0], focus[0]), end, (focus, reference), environment, whole, list(dict.fromkeys([*whole.order[:1], *shown])))
    rows = drawn.rows()
    sentence, detail = _say(whole, rows[0] if rows else None)
    return Overview(
        services=rows[len(rows) - len(shown) :],
        found=len(whole.names),
        sentence=sentence,
        detail=detail,
        minutes_a_point=drawn.minutes_a_point,
        disturbances=_told(goes_on),
    )


class _Drawn:
    """What is shown of each of some services."""

    def __init__(self, start: int, end: int, windows: tuple[Window, Window], environment: str | None, whole: Fleet, places: Sequence[int]) -> None:
        self._windows, self._whole, self._places = windows, whole, places
        names = [whole.names[i] for i in places]
        drawn = read_series.read_headlines(start, end, environment, names)
        self._stride = max(1, -(-drawn.grid.count // SPARK_POINTS))
        self.minutes_a_point = self._stride * drawn.grid.step // 60
        if not names:
            return
        (latency, rate), (past_latency, past_rate) = drawn.headline(names)
        self._latency = self._small(bands.drawn(latency, past_latency, HEADLINE, environment))
        self._traffic = self._small(bands.drawn(rate, past_rate, "requests", environment))
        self._both = [read_series.totals(window, names, environment, names, bounded=True) for window in windows]

    def rows(self) -> list[ServiceHealth]:
        return [self._row(place) for place in range(len(self._places))]

    def _row(self, place: int) -> ServiceHealth:
        whole, i = self._whole, self._places[place]
        verdict = whole.verdicts[i]
        now, before = (figures(totals, place, cell_series.window_seconds(window)) for totals, window in zip(self._both, self._windows, strict=True))
        comparable = now.p95 is not None and before.p95 is not None
        return ServiceHealth(
            service=whole.names[i],
            health=verdict.word,
            signal=verdict.signal,
            since=rfc3339(verdict.since) if verdict.since else None,
            priority=float(whole.priority[i]),
            bits=round(verdict.bits, 1),
            traffic_share=float(whole.traffic_share[i]),
            focus=now,
            reference=before,
            p95_difference=now.p95 - before.p95 if comparable else None,  # type: ignore[operator]
            p95_ratio=now.p95 / before.p95 if comparable and before.p95 else None,  # type: ignore[operator]
            failed_difference=now.failed_share - before.failed_share if now.failed_share is not None and before.failed_share is not None else None,
            rate_spark=self._traffic[place],
            latency_spark=self._latency[place],
        )

    def _small(self, band: Band) -> list[Spark]:
        """A small chart of each row of a band."""
        return sparks(fewer(np.stack([band.series.values, band.low, band.high]), self._stride))


def _told(goes_on: Sequence[Disturbance]) -> list[Since]:
    """First what hurts people."""
    first = sorted(goes_on, key=lambda one: not one.hurts)[:MOST_DISTURBANCES]
    return [Since(id=one.id, since=rfc3339(one.start), sentence=sentences.disturbed(one)) for one in first]


_NUMBERS = ("No", "One", "Two", "Three", "Four", "Five", "Six", "Seven", "Eight", "Nine", "Ten")


def _say(whole: Fleet, worst: ServiceHealth | None) -> tuple[str, str]:
    """The state in one sentence, and the worst service in another."""
    told: list[str] = []
    if worst is None:
        return "Nothing has been sent in this time.", ""
    for word in SIGNALS:
        found = whole.called(word)
        if found:
            count = _NUMBERS[len(found)] if len(found) <= 10 else str(len(found))
            who = f"{found[0]} is" if len(found) == 1 else f"{count if not told else count.lower()} services are"
            told.append(f"{who} {word}")
    if not told:
        learning = len(whole.called("learning"))
        still = f"{learning} services are" if learning > 1 else "One service is"
        if learning == len(whole.names):
            return "It is too early to say what is normal.", f"{still} still learning; compare the focus with the reference."
        return "Nothing stands out in the focus.", f"{still} still learning what is normal." if learning else ""
    detail = f"Most affected: {worst.service}"
    if worst.focus.p95 is not None and worst.reference.p95 is not None:
        detail += f", p95 {text.seconds(worst.focus.p95)} instead of {text.seconds(worst.reference.p95)}"
    return ", ".join(told) + ".", detail + "."
