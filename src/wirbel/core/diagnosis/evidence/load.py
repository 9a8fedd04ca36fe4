"""More is asked: of the service that suffers, of what it shares with others, or by somebody who did not ask before."""

from __future__ import annotations

import math
from collections.abc import Iterator

from wirbel.core.diagnosis.case import Case
from wirbel.core.diagnosis.evidence.observation import Feature, Observation, Source

FEATURES = {
    "traffic rose": Feature("log2 of the rate of what is asked about", +1, 0.7),
    "traffic explains": Feature("share of the change, at the slope of the reference", +1, 0.4),
    "traffic rose there": Feature("log2 of the rate of an entry, beyond the symptom's", +1, 1.0),
    "is asked more": Feature("log2 of its rate", -1, 1.0),
}
TOLD = 1.15  # times the traffic, from which it is told
LEAST = 0.3  # log2 of a rate
LEAST_REQUESTS = 50  # in the focus


def _observe(case: Case) -> Iterator[Observation]:
    own = 0.0
    if case.question.signal != "throughput":
        own = max(math.log2(max(case.load.ratio, 1e-3)), 0.0)
        yield from _of_symptom(case)
    s = case.services
    for n, (kind, name) in enumerate(s.entities):
        busier = float(s.busier[n])
        if busier < LEAST or s.rate[n, s.focus].sum() < LEAST_REQUESTS:
            continue
        # Who is asked more may be slower because of that: somebody else's doing.
        yield Observation((kind, name), "is asked more", busier, service=name if kind == "service" else None)
        if kind == "service" and busier - own > LEAST and name != case.question.service and not s.calls[:, n].any() and not s.is_consumer[n]:
            facts = {"ratio": 2.0**busier, "explains": None, "service": name}
            yield Observation(("load", name), "traffic rose there", busier - own, "traffic", "load-elsewhere", facts, service=name)


def _of_symptom(case: Case) -> Iterator[Observation]:
    load, service = case.load, case.question.service
    if load.ratio <= TOLD:
        return
    facts = {"ratio": load.ratio, "explains": load.explains}
    yield Observation(("load", service), "traffic rose", math.log2(load.ratio), "traffic", "load", facts, service=service)
    if load.explains:
        yield Observation(("load", service), "traffic explains", load.explains, "traffic", service=service)


SOURCE = Source("load", FEATURES, _observe)
