"""What is near its limit, waits or fails, and moved when the symptom did: metrics of hosts, instances, pools, databases."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from wirbel.core.cells_of_metrics import COUNTED
from wirbel.core.diagnosis.case import Case, Entity
from wirbel.core.diagnosis.evidence.observation import Feature, Observation, Source
from wirbel.core.diagnosis.measures import CLEAR, FAILING, Measures
from wirbel.core.series.samples import WAITING

FEATURES = {
    "near its limit": Feature("share of the limit beyond a half, if it rose", +1, 0.3),
    "share rose": Feature("share of the limit", +1, 0.2),
    "waits more": Feature("log2 of what waits", +1, 2.0),
    "is waited for": Feature("log2 of what waits for it at who calls it", +1, 2.0),
    "fails more": Feature("log2 of what fails, is dropped or repeated", +1, 2.0),
    "metrics moved": Feature("standard deviations beyond those of others", +1, 20.0),
    "several metrics moved": Feature("metrics", +1, 3.0),
    "host fuller than its peers": Feature("share of a machine, that it rose beyond what the same share of other hosts did", +1, 0.3),
    "its host is fuller": Feature("share of the machine it runs on, that it rose beyond what the same share of other hosts did", -1, 0.3),
}
MOVED = 0.5  # of the focus outside of all of the reference
MOST = 60.0
RISE = 0.05  # of a limit


def _observe(case: Case) -> Iterator[Observation]:
    m = case.measures
    if not len(m):
        return
    # How long requests take is the symptom, not what explains it.
    telling = np.array([metric not in COUNTED for metric in m.metric], np.bool_)
    moved = telling & (np.abs(m.outside) >= MOVED) & (np.abs(m.z) >= CLEAR)
    serving = {name for kind, name in case.services.entities if kind == "service"}
    shared, more_asked = _shared_rise(m), _more_asked(case)
    waiting, failing = m.has_word(WAITING), m.has_word(FAILING)
    best: dict[tuple[Entity, str], tuple[float, int]] = {}
    count: dict[Entity, set[str]] = {}

    def keep(entity: Entity, feature: str, value: float, row: int) -> None:
        if value > best.get((entity, feature), (0.0, 0))[0]:
            best[entity, feature] = (value, row)

    for row in np.flatnonzero(moved).tolist():
        rises = m.outside[row] > 0
        level, before = m.level[row], m.level_before[row]
        apart = m.beside[row] * np.sign(m.z[row])
        own, named = entities_of(m, row, serving, case.services.by_label)
        for entity in sorted(own | named):
            # A pool is its owner's: who is called is waited for, but it is not the one that is full.
            is_own = entity in own
            if rises and is_own and np.isfinite(level):
                rose = float(level - before) - shared.get(m.metric[row], 0.0)
                keep(entity, "near its limit", max(float(level) - 0.5, 0.0) if rose > RISE else 0.0, row)
                keep(entity, "share rose", max(rose, 0.0), row)
            for feature, speaks in (("waits more" if is_own else "is waited for", waiting), ("fails more", failing)):
                if rises and speaks[row]:
                    keep(entity, feature, float(np.log2((m.after[row] + 0.5) / (max(m.before[row], 0) + 0.5))), row)
            if entity[0] == "host" and rises and np.isfinite(level) and m.metric[row].startswith("system."):
                rose = float(level - before) - max(shared.get(m.metric[row], 0.0), before * more_asked.get(entity[1], 0.0))
                keep(entity, "host fuller than its peers", max(rose, 0.0), row)
            if apart > CLEAR:
                keep(entity, "metrics moved", min(float(apart), MOST), row)
                count.setdefault(entity, set()).add(m.metric[row])
    for (entity, feature), (value, row) in best.items():
        facts = {
            "metric": m.metric[row],
            "unit": m.unit[row],
            "before": float(m.before[row]),
            "after": float(m.after[row]),
            "level": float(m.level[row]),
            "series": m.sampled(row),
        }
        about = {"service": m.service[row] or "", "metric": m.metric[row]}
        yield Observation(entity, feature, value, m.mechanism(row), "metric", facts, about, service=_service_of(entity, m, row))
    yield from _on_full_hosts(case, {entity[1]: value for (entity, feature), (value, _) in best.items() if feature == "host fuller than its peers"})
    for entity, metrics in count.items():
        yield Observation(entity, "several metrics moved", float(len(metrics)))


def _more_asked(case: Case) -> dict[str, float]:
    """By how much more the busiest of what runs on each host is asked, as a share of what it was: so much fuller a host is by that alone."""
    s, traces = case.services, case.traces
    hosts, services = traces.codes("host")[1], traces.codes("service")[1]
    busier = {name: max(2.0 ** float(s.busier[n]) - 1, 0.0) for n, (kind, name) in enumerate(s.entities) if kind == "service"}
    found: dict[str, float] = {}
    for host, service in traces.together("host", "service"):
        found[hosts[host]] = max(found.get(hosts[host], 0.0), busier.get(services[service], 0.0))
    return found


def _on_full_hosts(case: Case, fuller: dict[str, float]) -> Iterator[Observation]:
    """What is slow on a host that alone is fuller than before is so because of the host, as a rule."""
    hosts, instances, services = (case.traces.codes(column)[1] for column in ("host", "instance", "service"))
    for host, instance, service in case.traces.together("host", "instance", "service"):
        value = fuller.get(hosts[host], 0.0)
        if value > RISE:
            yield Observation(("instance", instances[instance]), "its host is fuller", value, attributes={"host.name": hosts[host]}, service=services[service])


def _shared_rise(m: Measures) -> dict[str, float]:
    """By how much each share rose in the middle of all that send it: what all have is load, not harm."""
    rises: dict[str, list[float]] = {}
    for metric, rose in zip(m.metric, (m.level - m.level_before).tolist(), strict=True):
        if np.isfinite(rose):
            rises.setdefault(metric, []).append(rose)
    return {metric: max(float(np.median(values)), 0.0) for metric, values in rises.items() if len(values) > 2}


def _service_of(entity: Entity, m: Measures, row: int) -> str | None:
    return m.service[row] if entity[0] == "instance" else entity[1] if entity[0] == "service" else None


def entities_of(m: Measures, row: int, serving: set[str], addresses: dict[str, Entity]) -> tuple[set[Entity], set[Entity]]:
    """Whose a measure is, and whom its labels name besides: it is of the instance and service that send it, if they serve; else of whom its labels name, or the host that an agent runs on."""
    service, instance, host = m.service[row], m.instance[row], m.host[row]
    # What is measured of requests that are served names the server's own address.
    labels = {} if m.metric[row].startswith("http.server.") else m.labels[row]
    texts = [*labels.values(), *([instance] if instance else [])]
    if service not in serving and not m.metric[row].startswith("system.") and host is not None:
        texts.append(host)  # the agent of a server runs where it does
    named = {addresses[text] for text in texts if text in addresses}
    if service in serving:
        of_host = m.metric[row].startswith("system.") and host is not None
        own: set[Entity] = {("host", host)} if of_host and host else {("service", service)} | ({("instance", instance)} if instance else set())
        return own, named - own
    named |= {("service", text) for text in texts if text in serving}
    return named or ({("host", host)} if host else set()), set()


SOURCE = Source("saturation", FEATURES, _observe)
