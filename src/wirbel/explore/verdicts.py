"""Whether services are slow, failing or silent: as the watch has found, or, of what it does not know yet, beside the hours before."""

from __future__ import annotations

from wirbel.core.deviation.symptoms import harm
from wirbel.core.expected.health import MOST_BITS, Verdict
from wirbel.watch.found import Symptoms


def by_watch(service: str, watched: Symptoms) -> Verdict | None:
    """The most surprising of what was found; None where the watch does not know enough yet."""
    if service not in watched.judged:
        return None
    told = [(word, of.deviation) for of in watched.found.get(service, []) if (word := harm(of.metric, of.deviation))]
    if not told:
        return Verdict("steady", 0.0, None)
    word, worst = max(told, key=lambda one: one[1].bits)
    return Verdict(word, min(worst.bits, MOST_BITS), worst.onset)
