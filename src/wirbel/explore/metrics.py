"""A metric that a service sends, over time: gauges as means, counts as rates, histograms as percentiles with their bounds."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow
from wirbel.core.errors import NotFound
from wirbel.core.series.grid import Grid
from wirbel.core.signals import histograms, points
from wirbel.core.signals.attributes import plain_dict
from wirbel.core.text import rfc3339
from wirbel.explore import read_series
from wirbel.explore.figures import listed, maybe
from wirbel.explore.schemas import MetricExample, MetricLine, MetricView
from wirbel.store import reading
from wirbel.store.models import Stream

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
MOST_LINES = 8
MOST_EXAMPLES = 5
SHARES = (0.5, 0.95)
LEAD_STEPS = 2  # read before the window: what a count adds is seen against the sample before it
VAGUE = 1.0  # width of a percentile's bounds, over its value, from which it tells nothing


def metric_view(service: str, name: str, start: int, end: int, windows: list[tuple[int, int]], environment: str | None, by: str | None) -> MetricView:
    """Raises NotFound if the service has sent nothing of the metric in [start, end)."""
    grid = read_series.grid_of(Stream.POINTS, start, end, environment)
    table = reading.points(grid.first - LEAD_STEPS * grid.step_ns, end, environment, [service], name, grid.cell_step)
    if not table.num_rows:
        raise NotFound(f"{service} has sent no {name} between {rfc3339(start)} and {rfc3339(end)}.")
    kind = int(np.bincount(arrow.numbers(table["kind"])).argmax())
    table = table.filter(pa.array(arrow.numbers(table["kind"]) == kind))
    drawn = _Drawn(table, grid, *_lines_of(table, by))
    lines, meaning, note = _DRAW[kind](drawn)
    return MetricView(
        metric=name,
        unit=table["unit"][0].as_py(),
        kind=points.KIND_NAMES[kind],
        meaning=meaning,
        note=note,
        start=rfc3339(grid.first),
        step_s=grid.step,
        series=int(points.series_of(table)[0].max()) + 1,
        labels=_labels(table),
        examples=_examples(table, windows[0]),
        lines=[_line(label, values, low, high, grid, windows) for label, values, low, high in lines],
    )


class _Drawn:
    """Samples with the line (by label) and the point of the chart that each belongs to (−1: before it)."""

    def __init__(self, table: pa.Table, grid: Grid, line: Ints, names: list[str]) -> None:
        self.table, self.grid, self.names = table, grid, names
        point = (arrow.numbers(table["time"]) - grid.first) // grid.step_ns
        self.cell = np.where((line >= 0) & (point >= 0), line * grid.count + point, -1)
        self.cells = len(names) * grid.count

    def add(self, values: Floats) -> Floats:
        """Sums by line and point; shape (lines, points)."""
        kept = self.cell >= 0
        return np.bincount(self.cell[kept], values[kept], self.cells).astype(float).reshape(len(self.names), -1)

    def seen(self) -> npt.NDArray[np.bool_]:
        return self.add(np.ones(self.table.num_rows)) > 0

    def mean(self, total: Floats, count: Floats) -> Floats:
        with np.errstate(invalid="ignore", divide="ignore"):
            return self.add(total) / self.add(count)


_Line = tuple[str, Floats, Floats | None, Floats | None]


def _gauge(drawn: _Drawn) -> tuple[list[_Line], str, str | None]:
    value = drawn.table["value"].fill_null(np.nan).to_numpy()
    known = np.isfinite(value)
    count = np.where(known, drawn.table["count"].fill_null(1).to_numpy(), 0).astype(float)  # of a summary: how many it is the mean of
    means = drawn.mean(np.where(known, value, 0.0) * count, count)
    return [(name, means[i], None, None) for i, name in enumerate(drawn.names)], "mean", None


def _sum(drawn: _Drawn) -> tuple[list[_Line], str, str | None]:
    table = drawn.table
    if not table["monotonic"][0].as_py() and arrow.numbers(table["temporality"])[0] == points.CUMULATIVE:
        return _level(drawn)
    rates = np.where(drawn.seen(), drawn.add(points.increases(table)) / drawn.grid.covered_s, np.nan)
    return [(name, rates[i], None, None) for i, name in enumerate(drawn.names)], "per second", None


def _level(drawn: _Drawn) -> tuple[list[_Line], str, str | None]:
    """What goes up and down: the mean of each series, added up over the series of a line."""
    number, _ = points.series_of(drawn.table)
    kept = drawn.cell >= 0
    key, own = np.unique(number[kept] * drawn.cells + drawn.cell[kept], return_inverse=True)
    value = drawn.table["value"].fill_null(0.0).to_numpy()[kept]
    means = np.bincount(own, value) / np.bincount(own)
    levels = np.where(drawn.seen(), np.bincount(key % drawn.cells, means, drawn.cells).reshape(len(drawn.names), -1), np.nan)
    return [(name, levels[i], None, None) for i, name in enumerate(drawn.names)], "level, all series together", None


def _mean_only(drawn: _Drawn) -> tuple[list[_Line], str, str | None]:
    table = drawn.table
    means = drawn.mean(points.increases(table, "total"), points.increases(table, "count"))
    note = "Quantiles of a summary cannot be put together from several senders or times; the mean can."
    return [(name, means[i], None, None) for i, name in enumerate(drawn.names)], "mean", note


def _histogram(drawn: _Drawn) -> tuple[list[_Line], str, str | None]:
    table = drawn.table
    placed = histograms.increases(table)
    middle, low, high = (
        sketches.of_groups(drawn.cell).quantiles(drawn.cells, SHARES).reshape(len(drawn.names), -1, len(SHARES))
        for sketches in (placed.spread, placed.low, placed.high)
    )
    means = drawn.mean(points.increases(table, "total"), points.increases(table, "count"))
    with np.errstate(invalid="ignore", divide="ignore"):
        vague = np.nanmedian((high - low) / middle) > VAGUE if np.isfinite(middle).any() else False
    lines: list[_Line] = []
    for i, name in enumerate(drawn.names):
        lines.append((f"{name} mean".strip(), means[i], None, None))
        if not vague:
            lines += [(f"{name} p{share * 100:.0f}".strip(), middle[i, :, k], low[i, :, k], high[i, :, k]) for k, share in enumerate(SHARES)]
    if vague:
        return lines, "mean", "The sender's buckets are too wide to tell percentiles; the mean is exact."
    return lines, "mean and percentiles", "Percentiles lie between the bounds of the sender's buckets, which are shown."


_DRAW = {points.GAUGE: _gauge, points.SUM: _sum, points.HISTOGRAM: _histogram, points.EXPONENTIAL: _histogram, points.SUMMARY: _mean_only}


def _lines_of(table: pa.Table, by: str | None) -> tuple[Ints, list[str]]:
    """The line of each row: one for all, or one for each value of a label, the busiest first (−1: beyond the bound)."""
    if by is None:
        return np.zeros(table.num_rows, np.int64), [""]
    code, texts = arrow.codes(table["labels"])
    values = [str(plain_dict(text).get(by, f"no {by}")) for text in texts]
    names = sorted(set(values))
    place = np.array([names.index(value) for value in values])[code]
    busiest = np.argsort(-np.bincount(place, minlength=len(names)), kind="stable")[:MOST_LINES]
    line = np.full(len(names), -1)
    line[busiest] = np.arange(len(busiest))
    return line[place], [names[i] for i in busiest]


def _labels(table: pa.Table) -> list[str]:
    return sorted({key for text in table["labels"].unique().to_pylist() for key in plain_dict(text)})


def _examples(table: pa.Table, focus: tuple[int, int]) -> list[MetricExample]:
    """The largest values of the focus that the sender gave a trace for."""
    found: dict[tuple[bytes, bytes], MetricExample] = {}
    for one in pc.list_flatten(table["exemplars"]).to_pylist():
        if one["trace_id"] and one["span_id"] and one["value"] is not None and focus[0] <= one["at"] < focus[1]:
            found[one["trace_id"], one["span_id"]] = MetricExample(
                value=one["value"], at=rfc3339(one["at"]), trace=one["trace_id"].hex(), span=one["span_id"].hex()
            )
    return sorted(found.values(), key=lambda example: -example.value)[:MOST_EXAMPLES]


def _line(name: str, values: Floats, low: Floats | None, high: Floats | None, grid: Grid, windows: list[tuple[int, int]]) -> MetricLine:
    def middle(window: tuple[int, int]) -> float | None:
        inside = values[grid.inside(window)]
        return maybe(float(np.nanmean(inside))) if np.isfinite(inside).any() else None

    focus, reference = (middle(window) for window in windows)
    return MetricLine(
        label=name,
        values=listed(values),
        low=listed(low) if low is not None else None,
        high=listed(high) if high is not None else None,
        focus=focus,
        reference=reference,
    )
