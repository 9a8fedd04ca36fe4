"""Which telemetry is missing that would tell more: what is not sent of a symptom and of what it meets."""

from __future__ import annotations

from collections.abc import Iterator

from wirbel.core.diagnosis.case import Case, Entity
from wirbel.core.diagnosis.evidence.saturation import entities_of
from wirbel.core.text import listed

OF_HOSTS = "system."  # how names of metrics of hosts begin (semantic conventions)


def would_tell(case: Case) -> list[str]:
    """What to send to know more, the most telling first; empty where nothing is missing."""
    return list(_missing(case))


def _missing(case: Case) -> Iterator[str]:
    service, m = case.question.service, case.measures
    if case.records.by_metrics:
        yield f"Traces of {service} and of what it calls: without them it is not known who calls whom, or which requests are slow."
    elif not case.traces.codes("host")[1] and not case.traces.codes("instance")[1]:
        yield "Instance and host names on spans (service.instance.id, host.name): without them one instance cannot be told from the others."
    if not case.traces.codes("version")[1] and not case.records.by_metrics:
        yield "Versions on spans (service.version): without them a release is judged by its time only."
    if not any(metric.startswith(OF_HOSTS) for metric in m.metric):
        yield "Metrics of the hosts (processors, memory, disks, network)."
    silent = [name for kind, name in _without_metrics(case) if kind == "service"]
    if silent:
        yield f"Metrics of {listed(silent)} (connections, workers, memory)."
    servers = [name for kind, name in _without_metrics(case) if kind == "database"]
    if servers:
        yield f"Metrics of the server of {listed(servers)} (locks, connections, what waits)."
    if not case.records.patterns.num_rows:
        yield f"Log records of {service} and of what it calls."
    if not case.records.changes:
        yield "Announcements of changes (deploys, settings, jobs): none is known of these hours."


def _without_metrics(case: Case) -> list[Entity]:
    """Services and databases that may have a part in it and of which no metric is known."""
    m, serving = case.measures, {name for kind, name in case.services.entities if kind == "service"}
    known: set[Entity] = set()
    for row in range(len(m)):
        own, named = entities_of(m, row, serving, case.services.by_label)
        known |= own | named
    return sorted(case.involved - known)
