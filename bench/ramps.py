"""How soon what fills up slowly is noticed: disks, heaps and pools of connections of the demo world, after a day of history.

    ./wirbel bench ramps

Beside it, on the same series: a fixed limit of 95 % (common practice), the threshold that a team would draw from the day before
(core.deviation.plain), and the moment at which users are hurt. All series of what runs short are followed, with the budget that they
share in the product; so the deviations of the day before are told too, and how many of them came with an everyday change or job.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from wirbel.core.deviation.disturbance import Of
from wirbel.core.series.grid import Grid
from wirbel.core.series.resources import Resource, resources
from wirbel.core.series.samples import by_step
from wirbel.core.signals.changes import parse_time
from wirbel.demo.drill import scene
from wirbel.demo.drill.noticed import of_resources, threshold_at, told_at
from wirbel.demo.telemetry import metrics
from wirbel.demo.world.skerry import SKERRY

RAMPS = ("disk-full", "memory-leak", "leaked-connections")
SEEDS = (1, 2, 3, 4)
DAY_NS, MINUTE_NS = scene.DAY_NS, scene.MINUTE_NS
LIMIT = 0.95
SOON_NS = 30 * MINUTE_NS  # after a change or job: what deviates then may be its doing


@dataclass(frozen=True)
class Ramp:
    """Times in ns; None: not at all."""

    name: str
    begins: int
    hurts: int
    noticed: Of | None
    at_limit: int | None
    series: int
    before: list[Of]
    with_changes: int

    @classmethod
    def of(cls, kind: str, seed: int) -> Ramp:
        made = scene.make(SKERRY, kind, seed, history_ns=DAY_NS)
        truth = made.fault.truth
        places = {name for _, name in truth.entities} | set(truth.services)
        told = metrics.gauges(made.world.state, made.world.happenings, made.seed, made.start, made.asked)
        grid, serving = Grid(made.start, made.asked), {operation.service for operation in SKERRY.operations.values()}
        off = sorted(of_resources(told, serving, grid), key=told_at)
        mine = [one for one in off if told_at(one) >= made.fault.begins and {one.entity.name, one.service} & places]
        before = [one for one in off if told_at(one) < made.fault.begins]
        changed = np.array([parse_time(str(change["at"]), "at") for change in made.world.happenings.changes])
        found = resources(by_step(told, grid.first, grid.step, grid.count), serving)
        return cls(
            f"{kind} {seed}",
            made.fault.begins,
            truth.onset,
            mine[0] if mine else None,
            min(_at_limit([one for one in found if {one.entity.name, one.service} & places], grid, made.fault.begins), default=None),
            len(found),
            before,
            sum(bool(((changed <= told_at(one)) & (told_at(one) < changed + SOON_NS)).any()) for one in before),
        )

    def lead(self, other: int | None) -> float | None:
        """Minutes before another moment."""
        return None if self.noticed is None or other is None else (other - told_at(self.noticed)) / MINUTE_NS


def _at_limit(found: list[Resource], grid: Grid, since: int) -> Iterator[int]:
    """When each share of what can fill up is known to have reached LIMIT."""
    for one in found:
        full = np.flatnonzero((one.values >= LIMIT) & (grid.times >= since)) if one.unit == "1" else np.zeros(0, np.int64)
        if len(full):
            yield int(grid.times[full[0]]) + grid.step_ns


def _minutes(value: float | None) -> str:
    return "–" if value is None else f"{value:.1f}"


def main() -> None:
    print("minutes that it is noticed before …      users are hurt   95 % full   a team's threshold   after it began   first seen in")
    ramps = [Ramp.of(kind, seed) for kind in RAMPS for seed in SEEDS]
    for one in ramps:
        threshold = threshold_at(one.noticed) if one.noticed else None
        leads = [one.lead(one.hurts), one.lead(one.at_limit), one.lead(threshold)]
        since = None if one.noticed is None else (told_at(one.noticed) - one.begins) / MINUTE_NS
        print(f"{one.name:<38}" + "".join(f"{_minutes(value):>15}" for value in [*leads, since]) + f"   {one.noticed.metric if one.noticed else 'nothing'}")
    for kind in RAMPS:
        known = [lead for one in ramps if one.name.startswith(kind) and (lead := one.lead(one.hurts)) is not None]
        print(f"{kind}: {np.median(known):.1f} min before users are hurt in the median (goal 10), {len(known)} of {len(SEEDS)} noticed")
    before = [len(one.before) for one in ramps]
    print(
        f"deviations in the day before, of {ramps[0].series} series: {sum(before) / len(ramps):.1f}, {sum(one.with_changes for one in ramps) / len(ramps):.1f} of them within half an hour of a change or job"
    )


if __name__ == "__main__":
    main()
