"""The demo's days before: summaries that agree with the state, and are read where minutes are not kept."""

from __future__ import annotations

import numpy as np
import pyarrow.compute as pc
import pytest

from wirbel.core import arrow
from wirbel.core.series import cells as cell_series
from wirbel.core.signals import spans
from wirbel.demo import fill, history
from wirbel.demo.making import World
from wirbel.demo.telemetry import summaries
from wirbel.demo.world.happenings import Happenings
from wirbel.demo.world.skerry import SKERRY
from wirbel.explore import windows
from wirbel.explore.health import overview
from wirbel.store import packer, reading
from wirbel.store.models import Block, Stream

NOW = 20_508 * 24 * 3600 * 10**9 + 12 * 3600 * 10**9
HOUR_NS = 3600 * 10**9


def test_cells_from_the_state_are_what_cells_of_spans_are() -> None:
    """A stretch told both ways: requests, mean and p95 of each service agree within what chance allows."""
    calm, told = (NOW - 3 * HOUR_NS, NOW - 2 * HOUR_NS), (NOW - 2 * HOUR_NS, NOW)
    quiet = Happenings()
    usual = World.make(SKERRY, 1, quiet, *calm, 1 / 20)
    other = World.make(SKERRY, 1, quiet, *told, 1 / 40)
    made = summaries.over(other.state, quiet, summaries.shapes(usual.traffic.spans(*calm)), calm, usual.state, *told, 600)
    recorded = other.traffic.spans(*told)
    for service in ("quay-web", "berth-planner", "identity"):
        own = made.filter(pc.and_(pc.equal(made["service"], service), made["entry"]))
        mine = recorded.filter(pc.and_(pc.equal(recorded["service"], service), pc.equal(recorded["kind"], spans.SERVER)))
        count = pc.sum(own["rows"]).as_py() * 20  # the shapes come from a twentieth of the requests
        assert count == pytest.approx(pc.sum(mine["weight"]).as_py(), rel=0.05)
        seconds = arrow.numbers(mine["duration"]) / 1e9
        assert pc.sum(own["total"]).as_py() / pc.sum(own["count"]).as_py() == pytest.approx(seconds.mean(), rel=0.05)
        totals = cell_series.totals(own, np.zeros(own.num_rows, np.int64), 1)
        assert totals.percentile("p95")[0] == pytest.approx(np.quantile(seconds, 0.95), rel=0.06)
    assert set(made["instance"].to_pylist()) <= {i.name for found in SKERRY.instances.values() for i in found}


@pytest.mark.django_db
def test_days_before_are_answered_from_summaries(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(fill, "SAMPLED", 1 / 100_000)
    fill.days_before(1, NOW, "bad-deploy", 2.0)
    recent = World.make(SKERRY, 1, Happenings(), NOW - HOUR_NS, NOW, 1 / 200)
    packer.write(Stream.SPANS, spans.combine([recent.traffic.spans(NOW - HOUR_NS, NOW)]), level=1)
    assert set(Block.objects.filter(stream=Stream.CELLS).values_list("step", flat=True)) == {0, 600, 3600}
    old = (NOW - 40 * HOUR_NS, NOW - 36 * HOUR_NS)
    assert reading.finest_step(Stream.CELLS, NOW - HOUR_NS) == 0
    assert reading.finest_step(Stream.CELLS, old[0]) == 600
    found = windows.signal(*old)
    assert found.series.grid.step == 600
    assert found.series.known.all()
    focus, reference = (old[0] + 2 * HOUR_NS + 7 * 10**9, old[0] + 3 * HOUR_NS), (old[0], old[0] + 2 * HOUR_NS)
    told = {row.service: row for row in overview(*old, focus, reference, "production").services}
    assert told["quay-web"].focus.rate == pytest.approx(told["quay-web"].reference.rate, rel=0.5)
    assert told["quay-web"].focus.rate > 30
    past = history.past(1, NOW, 2.0)
    assert [one.truth.kind for one in past] == [kind for kind, _, _ in history.PAST]
    changes = history.make_history(1, NOW, "bad-deploy", 2.0).changes
    assert past[0].truth.change in {change["id"] for change in changes}


@pytest.mark.parametrize("moment", [NOW - 12 * HOUR_NS, NOW + 9 * HOUR_NS, NOW + 4 * 24 * HOUR_NS + HOUR_NS // 3])
def test_the_fault_that_goes_on_is_felt_whenever_the_demo_is_begun(moment: int) -> None:
    """At night, in the evening and on a Sunday: reservations take half as long again, and as many are served."""
    onset = moment - history.FAULT_MINUTES_AGO * history.MINUTE_NS
    world = World.make(SKERRY, 1, history.make_history(1, moment, days=0.25), onset - HOUR_NS, moment, history.KEPT, ahead=history.ahead(moment))
    since = world.state.conditions.times >= onset + 2 * history.MINUTE_NS
    before = world.state.conditions.times < onset
    response, served = world.state.response["quay-web POST /reservations"], world.state.rate["quay-web POST /reservations"]
    assert response[since].mean() > 1.4 * response[before].mean()
    assert served[since].mean() == pytest.approx(served[before].mean(), rel=0.2)
