"""What runs short: shares of processors, memory, disks, pools, what waits, what fails beneath the requests; of hosts, services and servers.

Of a service that runs as several instances, the highest of them counts: instances come and go, their service stays.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from wirbel.core.series.samples import FAILURES, UNUSED, WAITING, Samples
from wirbel.core.series.series import Kind
from wirbel.core.topology.graph import EntityId

Floats = npt.NDArray[np.float64]
OF_MACHINES = "system."  # how names of what a host has begin (semantic conventions)


@dataclass(frozen=True)
class Resource:
    """One measure of one entity; ``values`` of shape (steps,), NaN where nothing was sent."""

    entity: EntityId
    service: str | None
    metric: str
    labels: tuple[tuple[str, str], ...]
    unit: str
    kind: Kind
    values: Floats


def resources(samples: Samples, serving: Collection[str]) -> list[Resource]:
    """Of all series of ``samples``, those that tell what runs short; ``serving`` are services that serve requests: what others send tells of their host or server."""
    told = _told(samples)
    groups: dict[tuple[EntityId, str | None, str, tuple[tuple[str, str], ...], str, Kind], list[Floats]] = defaultdict(list)
    for row, (unit, kind, values) in told.items():
        entity, service = _entity(samples, row, serving)
        if entity is not None:
            groups[entity, service, samples.metric[row], tuple(sorted(samples.labels[row].items())), unit, kind].append(values)
    return [Resource(*key, np.fmax.reduce(found)) for key, found in groups.items()]


def _told(samples: Samples) -> dict[int, tuple[str, Kind, Floats]]:
    """Unit, kind and values of each row that tells of a resource."""
    shares, waiting, failing = samples.is_share, samples.has_word(WAITING), samples.has_word(FAILURES)
    found: dict[int, tuple[str, Kind, Floats]] = {}
    for row in range(len(samples)):
        values = samples.values[row]
        if any(value in UNUSED for value in samples.labels[row].values()):
            continue
        if row in samples.limits:
            with np.errstate(divide="ignore", invalid="ignore"):
                share = values / samples.values[samples.limits[row]]
            found[row] = ("1", "utilization", np.where(np.isfinite(share), share, np.nan))
        elif shares[row]:
            found[row] = ("1", "utilization", values)
        elif waiting[row] or failing[row]:
            found[row] = (samples.unit[row], "count", values)
    return found


def _entity(samples: Samples, row: int, serving: Collection[str]) -> tuple[EntityId | None, str | None]:
    service, instance, host = samples.service[row], samples.instance[row], samples.host[row]
    if samples.metric[row].startswith(OF_MACHINES) and host is not None:
        return EntityId("host", host), None
    if service in serving and service is not None:
        return EntityId("service", service), service
    name = instance or host
    return (EntityId("instance", name) if name else None), service
