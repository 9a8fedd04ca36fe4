"""Who is slow at everything, as a process is that is short of a processor (pace.py)."""

from __future__ import annotations

from collections.abc import Iterator

from wirbel.core.diagnosis.case import Case
from wirbel.core.diagnosis.evidence.observation import Feature, Observation, Source

FEATURES = {"slow at everything": Feature("log2 of time, of the least slowed of its own work, its calls and the way to it", +1, 1.0)}
SOME = 0.1  # log2: less is noise


def _observe(case: Case) -> Iterator[Observation]:
    pace = case.pace
    for service, own in pace.own.items():
        least = pace.at_everything(service)
        if least > SOME:
            facts = {"service": service, "own": 2.0 ** (own or 0.0), "calls": 2.0 ** min(pace.each[service])}
            yield Observation(
                ("service", service), "slow at everything", least, "saturation", "slow-at-everything", facts, {"service": service}, service=service
            )


SOURCE = Source("slow at everything", FEATURES, _observe, ("latency",))
