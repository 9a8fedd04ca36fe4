"""A metric that a service sends, over time."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow
from wirbel.core.errors import NotFound
from wirbel.core.series.grid import Grid
from wirbel.core.series.points import Measured, measure
from wirbel.core.series.series import Series
from wirbel.core.signals import points
from wirbel.core.signals.attributes import plain_dict
from wirbel.core.text import rfc3339
from wirbel.core.topology.graph import EntityId
from wirbel.explore import read_series
from wirbel.explore.earlier import earlier, shifted
from wirbel.explore.figures import listed, maybe
from wirbel.explore.schemas import Before, Earlier, MetricExample, MetricLine, MetricView
from wirbel.store import reading
from wirbel.store.models import Stream

MOST_EXAMPLES = 5
LEAD_STEPS = 2  # read before the window: what a count adds is seen against the sample before it


@dataclass(frozen=True)
class Wanted:
    """A metric of a service, in one line or in one for each value of the label ``by``."""

    service: str
    name: str
    environment: str | None
    by: str | None = None

    def read(self, start: int, end: int) -> tuple[pa.Table, Grid]:
        """Its samples, and the points to draw them at; of several kinds under the name, the commonest."""
        grid = read_series.grid_of(Stream.POINTS, start, end, self.environment)
        table = reading.points(grid.first - LEAD_STEPS * grid.step_ns, end, self.environment, [self.service], self.name, grid.cell_step)
        kinds = arrow.numbers(table["kind"])
        return (table.filter(pa.array(kinds == np.bincount(kinds).argmax())) if table.num_rows else table), grid

    def measured(self, table: pa.Table, grid: Grid) -> Measured:
        return measure(table, grid, EntityId("service", self.service), self.by)


def metric_view(wanted: Wanted, start: int, end: int, windows: list[tuple[int, int]], beside: Sequence[Before]) -> MetricView:
    """Raises NotFound if the service has sent nothing of the metric in [start, end)."""
    service, name = wanted.service, wanted.name
    table, grid = wanted.read(start, end)
    if not table.num_rows:
        raise NotFound(f"no {name} of {service} came between {rfc3339(start)} and {rfc3339(end)}")
    found = wanted.measured(table, grid)
    return MetricView(
        metric=name,
        unit=table["unit"][0].as_py(),
        kind=points.KIND_NAMES[table["kind"][0].as_py()],
        meaning=found.meaning,
        note=found.note,
        start=rfc3339(grid.first),
        step_s=grid.step,
        series=int(points.series_of(table)[0].max()) + 1,
        labels=_labels(table),
        examples=_examples(table, windows[0]),
        lines=_lines(found, windows),
        earlier=[one for before in beside for one in _before(wanted, start, end, before)],
    )


def _before(wanted: Wanted, start: int, end: int, before: Before) -> list[Earlier]:
    """All of it together: a line for each value would be too many."""
    whole = replace(wanted, by=None)
    table, grid = whole.read(*shifted(start, end, before))
    return [earlier(series.row(0), before, series.name) for series in whole.measured(table, grid).series] if table.num_rows else []


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
