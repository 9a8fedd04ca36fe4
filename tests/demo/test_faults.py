"""Every fault is there to be felt, its evidence is in the telemetry, and what is innocent does no harm."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pytest

from wirbel.core.signals import spans
from wirbel.core.signals.changes import from_plain
from wirbel.demo import faults
from wirbel.demo.drill import scene
from wirbel.demo.world.skerry import SKERRY

MINUTE_NS = 60 * 10**9
KINDS = list(faults.FAULTS)


def felt(kind: str, seed: int) -> tuple[float, float]:
    """How much slower the worst operation of the fronts is at p95, and by how much more of it fails, ten minutes on."""
    made = scene.make(SKERRY, kind, seed, history_ns=30 * MINUTE_NS, kept=1 / 30)
    onset = made.fault.truth.onset
    before = _fronts(made.world.traffic.spans(onset - 12 * MINUTE_NS, onset))
    after = _fronts(made.world.traffic.spans(onset + 10 * MINUTE_NS, onset + 25 * MINUTE_NS))
    slower, failing = 0.0, 0.0
    for name, (was, failed) in before.items():
        now, fails = after.get(name, (np.zeros(0), np.zeros(0)))
        if len(was) >= 100 and len(now) >= 20:
            slower = max(slower, float(np.quantile(now, 0.95) / np.quantile(was, 0.95)))
            failing = max(failing, float(fails.mean() - failed.mean()))
    return slower, failing


def _fronts(table: pa.Table) -> dict[str, tuple[np.ndarray, np.ndarray]]:
    own = table.filter(pc.and_(pc.equal(table["kind"], spans.SERVER), pc.is_in(table["service"], value_set=pa.array(SKERRY.fronts))))
    found = {}
    for pair in own.group_by(["service", "operation"]).aggregate([]).to_pylist():
        part = own.filter(pc.and_(pc.equal(own["service"], pair["service"]), pc.equal(own["operation"], pair["operation"])))
        found["{service} {operation}".format(**pair)] = (part["duration"].to_numpy(), part["outcome"].to_numpy() == spans.ERROR)
    return found


@pytest.mark.parametrize("kind", [kind for kind in KINDS if kind not in ("nothing-wrong", "consumer-behind", "silent-service")])
def test_users_feel_it(kind: str) -> None:
    slower, failing = felt(kind, 1)
    assert slower >= 1.5 or failing >= 0.02


def test_users_feel_nothing_when_nothing_is_wrong() -> None:
    for seed in (1, 2):
        slower, failing = felt("nothing-wrong", seed)
        assert slower < 1.25
        assert failing < 0.01


@pytest.mark.parametrize("kind", KINDS)
def test_a_fault_is_told_consistently(kind: str) -> None:
    one, same, other = (faults.make(SKERRY, kind, seed, faults.Span(scene.MONDAY, scene.MONDAY + 3600 * 10**9)) for seed in (5, 5, 6))
    assert one.truth == same.truth
    assert [effect.name for effect in one.happenings.effects] == [effect.name for effect in same.happenings.effects]
    ids = {change["id"] for change in one.happenings.changes}
    assert len(ids) == len(one.happenings.changes)
    assert one.truth.change is None or one.truth.change in ids
    for change in one.happenings.changes:
        from_plain(change)  # the door for changes takes it
    if kind != "nothing-wrong":
        assert one.truth.entities
        assert one.truth.mechanisms
        assert [vars(e) for e in one.happenings.effects] != [vars(e) for e in other.happenings.effects] or one.truth != other.truth or kind == "silent-service"


def test_a_consumer_falls_behind_or_silent_where_it_should() -> None:
    for kind, check in (("consumer-behind", lambda n, m: m >= 0.6 * n), ("silent-service", lambda n, m: m == 0)):
        made = scene.make(SKERRY, kind, 2, history_ns=30 * MINUTE_NS, kept=1 / 10)
        onset, service = made.fault.truth.onset, made.fault.truth.services[0]
        before, after = (
            made.world.traffic.spans(a, a + 10 * MINUTE_NS).filter(pc.equal(pc.field("service"), service)).filter(pc.equal(pc.field("kind"), spans.CONSUMER))
            for a in (onset - 12 * MINUTE_NS, onset + 10 * MINUTE_NS)
        )
        assert check(before.num_rows, after.num_rows)
