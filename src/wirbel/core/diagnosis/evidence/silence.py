"""What stopped: services that serve no more, consumers that take less than is sent, series that are sent no more."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import numpy.typing as npt

from wirbel.core.diagnosis.case import Case
from wirbel.core.diagnosis.evidence.observation import Feature, Observation, Source

FEATURES = {
    "serves less": Feature("share of its rate that is gone, beyond what it is asked less", +1, 0.5),
    "silent": Feature("1 if nothing is served any more", +1, 0.5),
    "takes less than is sent": Feature("share of the messages that a consumer takes no more though all who send go on", +1, 0.5),
    "sent as before": Feature("share of the messages that a consumer takes no more though all who send go on", -1, 0.5),
    "is asked less": Feature("share of the calls of it that are gone, of what is known by them only, beyond what its callers serve less", -1, 0.5),
    "sends nothing": Feature("share of its metrics that stopped", +1, 0.5),
}
LEAST_REQUESTS = 20  # in the reference
CLEAR = 4.0  # standard deviations of what is counted in as much time, as it scatters from step to step of the reference
MUCH, ALL = 0.4, 0.99  # of a rate
ENOUGH = 0.5  # of what a consumer takes, that others are known to send
LATE = 1 / 3  # of the focus, its end: it may have begun early, with something lesser


def _observe(case: Case) -> Iterator[Observation]:
    yield from _of_requests(case)
    yield from _of_metrics(case)


def _of_requests(case: Case) -> Iterator[Observation]:
    s = case.services
    late = np.flatnonzero(s.focus)[-max(int(s.focus.sum() * LATE), 1) :] if s.focus.any() else np.zeros(0, np.int64)
    known = bool(s.reference.any() and len(late))
    for n, (kind, name) in enumerate(s.entities if known else []):
        left = _still_sent(case, n, late) if s.is_consumer[n] else None
        gone, before, after = _gone(case, n, late, left)
        if gone <= MUCH:
            continue
        if kind != "service":
            yield Observation((kind, name), "is asked less", gone)
            continue
        facts = {"name": name, "before": before / s.step_s, "after": after / s.step_s}
        yield Observation((kind, name), "serves less", gone, "absence", "serves-less", facts, {"service": name}, service=name)
        if gone > ALL:
            yield Observation((kind, name), "silent", 1.0, "absence", service=name)
        if left is not None:
            facts = {"name": name, "gone": gone, "left": min(left, 1.0)}
            yield Observation((kind, name), "takes less than is sent", gone, "absence", "takes-less", facts, {"service": name}, service=name)
            yield Observation(("load", name), "sent as before", gone, None, "takes-less", facts, {"service": name}, service=name)


def _of_metrics(case: Case) -> Iterator[Observation]:
    m = case.measures
    gone_by_metric: dict[tuple[str, str], list[bool]] = {}
    for row, lost in enumerate(m.lost):
        gone_by_metric.setdefault((m.service[row] or "", m.metric[row]), []).append(bool(lost))
    by_service: dict[str, list[bool]] = {}
    for (service, _), lost in gone_by_metric.items():
        by_service.setdefault(service, []).append(all(lost))  # what others still send has not stopped
    for name, stopped in by_service.items():
        share = float(np.mean(stopped))
        if name and share > 0.3:
            yield Observation(
                ("service", name), "sends nothing", share, "absence", "sends-nothing", {"name": name, "share": share}, {"service": name}, service=name
            )


def _gone(case: Case, n: int, late: npt.NDArray[np.int64], sent: float | None) -> tuple[float, float, float]:
    """The share of the requests of an entity that is clearly gone, of those that it would have by what it is asked and by the share of messages that is still ``sent``; and its rate before and after, requests a step."""
    s = case.services
    rate = s.rate[n]
    before, after = float(rate[s.reference].mean()), float(rate[late].mean())
    if rate[s.reference].sum() < LEAST_REQUESTS:
        return 0.0, before, after
    left = min(_still_asked(case, n, late), 1.0 if sent is None else sent)
    expected = before * left
    scatter = max(float(rate[s.reference].var()) * left, expected) * len(late)
    if (expected - after) * len(late) <= CLEAR * np.sqrt(scatter):
        return 0.0, before, after
    return 1 - after / expected, before, after


def _still_asked(case: Case, n: int, late: npt.NDArray[np.int64]) -> float:
    """The share that is left of the requests that its callers serve and, of a service, of the calls of it, or of the messages, that others tell of.

    1 where nobody is known to call or to send, or these do more.
    """
    s = case.services
    callers = s.rate[s.calls[:, n] & (np.arange(len(s.entities)) != n)]
    told = [callers.sum(axis=0), *([s.asked[n]] if s.entities[n][0] == "service" else [])]
    shares = [_left(case, asked, late) for asked in told if asked[s.reference].sum() >= LEAST_REQUESTS]
    return min([*shares, 1.0])


def _still_sent(case: Case, n: int, late: npt.NDArray[np.int64]) -> float | None:
    """The share that is left of the messages of whoever sends least of what it sent; None where those who are known to send send too few for what it takes.

    Who sends to whom is not always told: where nobody sends less, nobody sends it less.
    """
    s = case.services
    known = [sent for sent in s.sending.values() if sent[s.reference].sum() >= LEAST_REQUESTS]
    if sum(float(sent[s.reference].sum()) for sent in known) < ENOUGH * float(s.rate[n, s.reference].sum()):
        return None
    return min((_left(case, sent, late) for sent in known), default=None)


def _left(case: Case, counts: npt.NDArray[np.float64], late: npt.NDArray[np.int64]) -> float:
    return float(counts[late].mean() / counts[case.services.reference].mean())


SOURCE = Source("silence", FEATURES, _observe)
