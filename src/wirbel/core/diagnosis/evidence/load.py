"""More is asked: of the service that suffers, of what it shares with others, or by somebody who did not ask before."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import asdict, dataclass

import numpy as np
import pyarrow as pa

from wirbel.core import arrow
from wirbel.core.diagnosis.case import Case
from wirbel.core.diagnosis.evidence.observation import Feature, Observation, Source
from wirbel.core.diagnosis.heard import Heard
from wirbel.core.diagnosis.marks import ASKED, COMPARED_TYPES, IDENTITIES, MOST_VALUES, OUTCOMES, compared

FEATURES = {
    "traffic rose": Feature("log2 of the rate of what is asked about", +1, 1.5),
    "nobody else explains": Feature("share of the change that no entity explains most of, where traffic rose", +1, 0.5),
    "brings the traffic": Feature("share of the added requests", +1, 0.5),
    "traffic explains": Feature("share of the change, at the slope of the reference", +1, 0.4),
    "traffic rose there": Feature("log2 of the rate of an entry, beyond the symptom's", +1, 1.0),
    "is asked more": Feature("log2 of its rate", -1, 1.0),
}
TOLD = 1.15  # times the traffic, from which it is told
LEAST = 0.3  # log2 of a rate
LEAST_REQUESTS = 50  # in the focus
MUCH = 1.3  # times the traffic, from which it is asked who brings it
HALF = 0.4  # of the added requests, beyond its usual share
ALIKE = 0.1  # between the shares of values that the same added requests have


def _observe(case: Case) -> Iterator[Observation]:
    own = 0.0
    if case.question.signal != "throughput":
        own = max(math.log2(max(case.load.ratio, 1e-3)), 0.0)
        yield from _of_symptom(case)
        yield from _of_hosts(case)
    s = case.services
    for n, (kind, name) in enumerate(s.entities):
        busier = float(s.busier[n])
        if busier < LEAST or s.rate[n, s.focus].sum() < LEAST_REQUESTS:
            continue
        # Who is asked more may be slower because of that: somebody else's doing.
        told, about = {"name": name, "ratio": 2.0**busier}, {"service": name} if kind == "service" else {}
        yield Observation((kind, name), "is asked more", busier, None, "asked-more", told, about, service=name if kind == "service" else None)
        if kind == "service" and busier - own > LEAST and name != case.question.service and not s.calls[:, n].any() and not s.is_consumer[n]:
            facts = {"ratio": 2.0**busier, "explains": None, "service": name}
            yield Observation(("load", name), "traffic rose there", busier - own, "traffic", "load-elsewhere", facts, service=name)


def _of_hosts(case: Case) -> Iterator[Observation]:
    """Hosts of which all that runs there is asked more: they may be slower because of that."""
    s, traces = case.services, case.traces
    hosts, services = traces.codes("host")[1], traces.codes("service")[1]
    busier = {name: float(s.busier[n]) for n, (kind, name) in enumerate(s.entities) if kind == "service"}
    rose: dict[str, list[float]] = {}
    for at, of in traces.together("host", "service"):
        rose.setdefault(hosts[at], []).append(busier.get(services[of], 0.0))
    for name, values in rose.items():
        if min(values) > LEAST:
            yield Observation(("host", name), "is asked more", float(np.mean(values)))


def _of_symptom(case: Case) -> Iterator[Observation]:
    load, service = case.load, case.question.service
    if load.ratio <= TOLD:
        return
    facts = {"ratio": load.ratio, "explains": load.explains}
    yield Observation(("load", service), "traffic rose", math.log2(load.ratio), "traffic", "load", facts, service=service)
    if load.explains:
        yield Observation(("load", service), "traffic explains", load.explains, "traffic", service=service)
    most = max(case.sizes.values(), default=0.0) / case.effect.delta if case.effect.delta > 0 else 1.0
    yield Observation(("load", service), "nobody else explains", max(1 - most, 0.0) * min(math.log2(load.ratio), 1.0), "traffic", service=service)
    if load.ratio >= MUCH:
        yield from _bringers(case)


def _bringers(case: Case) -> Iterator[Observation]:
    """Who brings most of the requests that were added, else what is asked for most of them: the value that was the rarest before, and whatever else those requests have."""
    visitors = sorted(_visitors(case), key=lambda one: (one.key.startswith(ASKED), one.usual))
    if not visitors:
        return
    first, service = visitors[0], case.question.service
    alike = [one for one in visitors if one.key.startswith(ASKED) == first.key.startswith(ASKED) and abs(one.share - first.share) < ALIKE]
    yield Observation(
        ("attribute", first.key),
        "brings the traffic",
        min(first.share, 1.0),
        "traffic",
        "brings-traffic",
        asdict(first),
        {"service": service, "key": first.key, "value": first.value},
        {one.key: one.value for one in alike},
        service,
    )


@dataclass(frozen=True)
class _Visitor:
    """A value that was rare and that most of the added requests have; shares of these, and of the requests before."""

    key: str
    value: str
    share: float
    usual: float


def _visitors(case: Case) -> Iterator[_Visitor]:
    here, question = case.here, case.question
    table = case.traces.table.take(pa.array(here.roots))
    rate = np.where(here.in_focus, here.adjusted_count / question.focus.seconds, -here.adjusted_count / Heard.of(question, here).seconds)
    added = float(rate.sum())
    for column in table.column_names:
        if not arrow.is_attribute_column(column):
            continue
        _, letter, key = arrow.split_attribute_column(column)
        if letter not in COMPARED_TYPES or key in IDENTITIES or key.startswith(OUTCOMES):
            continue
        code, values = arrow.codes(compared(table[column], column))
        if not 1 < len(values) <= MOST_VALUES:
            continue
        known = code >= 0
        grown = np.bincount(code[known], rate[known], len(values))
        before = np.bincount(code[known], np.where(here.in_focus, 0.0, -rate)[known], len(values))
        most = int(np.argmax(grown))
        # What all values share in is more of everything; one that was rare and is most of what came is a visitor.
        share, usual = float(grown[most] / added), float(before[most] / max(before.sum(), 1e-12))
        if share - usual > HALF:
            yield _Visitor(key, str(values[most]), share, usual)


SOURCE = Source("load", FEATURES, _observe)
