"""Sources of evidence: each looks at a case in one way. A new one is a new file here, and a line below."""

from __future__ import annotations

from wirbel.core.diagnosis.evidence import (
    callers,
    changes,
    contrast,
    failing_places,
    filling,
    holding,
    instances,
    involvement,
    load,
    log_patterns,
    order,
    passing_on,
    queues,
    saturation,
    silence,
    starving,
    tenants,
    time_split,
    waiting,
)
from wirbel.core.diagnosis.evidence.observation import Feature, Source

SOURCES: tuple[Source, ...] = (
    time_split.SOURCE,
    callers.SOURCE,
    contrast.SOURCE,
    instances.SOURCE,
    tenants.SOURCE,
    filling.SOURCE,
    waiting.SOURCE,
    holding.SOURCE,
    starving.SOURCE,
    saturation.SOURCE,
    log_patterns.SOURCE,
    changes.SOURCE,
    load.SOURCE,
    silence.SOURCE,
    order.SOURCE,
    passing_on.SOURCE,
    involvement.SOURCE,
    failing_places.SOURCE,
    queues.SOURCE,
)
FEATURES: dict[str, Feature] = {name: feature for source in SOURCES for name, feature in source.features.items()}
