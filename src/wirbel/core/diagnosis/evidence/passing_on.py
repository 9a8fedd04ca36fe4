"""How far along the calls a symptom can be explained by what is beneath: services that suffer while nothing that they call does."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from wirbel.core.diagnosis.case import Case
from wirbel.core.diagnosis.evidence.observation import Feature, Observation, Source
from wirbel.core.diagnosis.services import Services

FEATURES = {
    "walked to": Feature("visits of a random walk along the calls, of the most visited", +1, 0.5),
    "off by itself": Feature("standard deviations beyond the worst of what it calls", +1, 5.0),
    "fails by itself": Feature("share of its requests that fails, beyond the worst of what it calls and of its calls", +1, 0.2),
    "held longer": Feature("time of its calls that they take longer, of all of its requests' time before", -1, 0.5),
    "passes on": Feature("standard deviations of the worst of what it calls", -1, 5.0),
}
MOST = 30.0
LEAST_FAILING = 0.01
LEAST_HELD = 0.1


def _observe(case: Case) -> Iterator[Observation]:
    s = case.services
    its_own = np.array([case.its_own(entity) for entity in s.entities])
    excuses = np.array([1.0 if _caller_is_starved(case, entity) else own for entity, own in zip(s.entities, its_own, strict=True)])
    excusing = s.anomaly * excuses
    for n, (kind, name) in enumerate(s.entities):
        service = name if kind == "service" else None
        about = {"service": name} if service else {}
        called = np.flatnonzero(s.calls[n])
        beneath = float(excusing[called].max(initial=0.0))
        own = float(s.anomaly[n])
        if s.walk[n] * its_own[n] > 0.1:
            facts = {"name": name, "alike": float(s.similar[n])}
            yield Observation((kind, name), "walked to", float(s.walk[n] * its_own[n]), None, "walked-to", facts, about, service=service)
        if (own - beneath) * its_own[n] > 1:
            facts = _how_off(s, n) | {"calls": len(called) > 0, "seems": bool((s.anomaly[called] >= own).any())}
            yield Observation((kind, name), "off by itself", float(min(own - beneath, MOST) * its_own[n]), None, "off-by-itself", facts, about, service=service)
        fails = float(s.fails_by_itself[n])
        if fails > LEAST_FAILING:
            facts = {"name": name, "before": float(s.failed_before[n]), "after": float(s.failed_before[n] + s.fails_more[n])}
            yield Observation((kind, name), "fails by itself", fails, "errors", "fails-by-itself", facts, about, service=service)
        if s.held_longer[n] > LEAST_HELD:
            # Who waits for a call holds a worker: that others wait for one is not its own doing.
            facts = {"name": name, "longer": float(s.held_longer[n])}
            yield Observation((kind, name), "held longer", float(s.held_longer[n]), None, "held-longer", facts, about, service=service)
        if min(own, beneath) > 1:
            facts = {"name": name, "beneath": _how_off(s, int(called[np.argmax(excusing[called])]))}
            yield Observation((kind, name), "passes on", min(own, beneath, MOST), None, "passes-on", facts, about, service=service)


def _how_off(s: Services, n: int) -> dict[str, Any]:
    """How far an entity left its range, and in what: its time or its failures, before and after; where it served nothing any more, when it last did."""
    slower, serves = s.slower[n] >= s.failing[n], bool(s.rate[n, s.focus].any())
    before, after = s.took if slower else (s.failed_before, s.failed_before + s.fails_more)
    last = (s.seconds if slower else s.failed)[n, s.focus][-1]
    return {
        "name": s.entities[n][1],
        "unit": "s" if slower else "share",
        "before": float(before[n]),
        "after": float(after[n] if serves else last),
        "serves": serves,
        "off": float(s.anomaly[n]),
    }


def _caller_is_starved(case: Case, entity: tuple[str, str]) -> bool:
    """Whether the only one who calls it takes no more of the processors than before.

    Through the eyes of one who is slow at everything all that it calls seems slow. That is no excuse for it, but where others take its processors.
    """
    through = case.pace.seen_through(entity) if case.question.signal == "latency" else None
    return through is not None and case.measures.takes_more_processors(through[0]) is False


SOURCE = Source("passing on", FEATURES, _observe)
