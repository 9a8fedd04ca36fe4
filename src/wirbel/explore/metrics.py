"""A metric that a service sends, over time."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow
from wirbel.core.errors import NotFound
from wirbel.core.series.points import Measured, measure
from wirbel.core.series.series import Series
from wirbel.core.signals import points
from wirbel.core.signals.attributes import plain_dict
from wirbel.core.text import rfc3339
from wirbel.core.topology.graph import EntityId
from wirbel.explore import read_series
from wirbel.explore.figures import listed, maybe
from wirbel.explore.schemas import MetricExample, MetricLine, MetricView
from wirbel.store import reading
from wirbel.store.models import Stream

MOST_EXAMPLES = 5
LEAD_STEPS = 2  # read before the window: what a count adds is seen against the sample before it


def metric_view(service: str, name: str, start: int, end: int, windows: list[tuple[int, int]], environment: str | None, by: str | None) -> MetricView:
    """Raises NotFound if the service has sent nothing of the metric in [start, end)."""
    grid = read_series.grid_of(Stream.POINTS, start, end, environment)
    table = reading.points(grid.first - LEAD_STEPS * grid.step_ns, end, environment, [service], name, grid.cell_step)
    if not table.num_rows:
        raise NotFound(f"{service} has sent no {name} between {rfc3339(start)} and {rfc3339(end)}.")
    kind = int(np.bincount(arrow.numbers(table["kind"])).argmax())
    table = table.filter(pa.array(arrow.numbers(table["kind"]) == kind))
    found = measure(table, grid, EntityId("service", service), by)
    return MetricView(
        metric=name,
        unit=table["unit"][0].as_py(),
        kind=points.KIND_NAMES[kind],
        meaning=found.meaning,
        note=found.note,
        start=rfc3339(grid.first),
        step_s=grid.step,
        series=int(points.series_of(table)[0].max()) + 1,
        labels=_labels(table),
        examples=_examples(table, windows[0]),
        lines=_lines(found, windows),
    )


def _lines(found: Measured, windows: list[tuple[int, int]]) -> list[MetricLine]:
    """All measures of the first part, then those of the next; where there is one of each, its name says nothing."""
    parts = found.series[0].parts
    return [
        _line(series.row(i), f"{part} {series.name if len(found.series) > 1 else ''}".strip(), windows)
        for i, part in enumerate(parts)
        for series in found.series
    ]


def _line(series: Series, label: str, windows: list[tuple[int, int]]) -> MetricLine:
    focus, reference = (maybe(float(series.mean(window)[0])) for window in windows)
    return MetricLine(
        label=label,
        values=listed(series.values[0]),
        low=None if series.low is None else listed(series.low[0]),
        high=None if series.high is None else listed(series.high[0]),
        focus=focus,
        reference=reference,
    )


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
