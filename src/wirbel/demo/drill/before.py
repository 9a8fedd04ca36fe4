"""Whether telemetry showed a fault before users were hurt: found by comparing the world with what it would be without it."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from wirbel.core import arrow
from wirbel.core.signals import points
from wirbel.demo.drill.scene import MINUTE_NS, Scene
from wirbel.demo.making import World
from wirbel.demo.telemetry import metrics

Bools = npt.NDArray[np.bool_]
HURT_TIMES = 1.25  # a front's mean response beside what it would have been
HURT_FAILING = 0.01  # or so many more of its requests fail
STANDS_OUT = 2.0  # times the whole range that a gauge has without the fault
SMALLEST = 0.05  # a range is at least this share of the value
LASTING = 3  # minutes
LEAD_NS = 5 * MINUTE_NS  # before that, nobody could have done anything


def seen_before(made: Scene) -> bool:
    """True if some gauge stood out for three minutes, and five minutes later users were not hurt yet."""
    without = made.without()
    shown, hurt = _shown_at(made, without), _hurt_at(made.world, without)
    return shown is not None and (hurt is None or shown + LEAD_NS <= hurt)


def _hurt_at(world: World, without: World) -> int | None:
    """The first moment (ns) at which users of a front wait much longer, or fail more, than they would have."""
    times = world.state.conditions.times
    hurt: Bools = np.zeros(len(times), np.bool_)
    topology = world.state.topology
    for key, operation in topology.operations.items():
        if operation.service in topology.clients:
            hurt |= world.state.response[key] > HURT_TIMES * without.state.response[key]
            hurt |= world.state.failing[key] > without.state.failing[key] + HURT_FAILING
    return int(times[np.argmax(hurt)]) if hurt.any() else None


def _shown_at(made: Scene, without: World) -> int | None:
    """The end (ns) of the first three minutes in a row in which a gauge stands out, or is not sent any more."""
    ours, theirs = (_gauges(world, made) for world in (made.world, without))
    both = pa.concat_tables([ours, theirs])
    key = pc.binary_join_element_wise(*(both[name].cast(pa.string()).fill_null("") for name in ("metric", "instance", "labels")), "|")
    row, names = arrow.codes(key)
    times, column = np.unique(arrow.numbers(both["time"]), return_inverse=True)
    values = np.full((2, len(names), len(times)), np.nan)
    values[np.repeat([0, 1], [len(ours), len(theirs)]), row, column] = arrow.numbers(both["value"])
    x, y = values[:, np.isfinite(values[1]).all(axis=1)]
    usual = np.maximum(np.ptp(y, axis=1), np.maximum(SMALLEST * np.abs(y).max(axis=1), 1e-9))
    off = ~(np.abs(x - y) <= STANDS_OUT * usual[:, None])
    lasting = np.lib.stride_tricks.sliding_window_view(off, LASTING, axis=1).all(axis=2).any(axis=0)
    return int(times[np.argmax(lasting) + LASTING - 1]) if lasting.any() else None


def _gauges(world: World, made: Scene) -> pa.Table:
    """With the same noise in both worlds."""
    table = metrics.gauges(world.state, world.happenings, made.seed, made.start, made.asked)
    return table.filter(pc.equal(table["kind"], points.GAUGE))
