"""Detects and diagnoses what is stored, without the truth: ``python -m wirbel.demo.drill.answer START END TRUTH_FOLDER``.

Prints one JSON object. The folder is only named so that this process shuts itself out of it.
"""

from __future__ import annotations

import json
import sys
import time
from pathlib import Path
from typing import Any

from wirbel.demo.drill import sealed
from wirbel.runtime import environment

MINUTE_NS = 60 * 10**9
FOCUS_NS = 20 * MINUTE_NS
ANYWAY = ("quay-web", "latency")  # what is asked about when nothing was noticed


def answer(start: int, end: int) -> dict[str, Any]:
    """What was noticed, the diagnosis of it, and what the plain methods say."""
    from wirbel.core.errors import WirbelError
    from wirbel.demo.drill import plain
    from wirbel.demo.drill.watch import ENVIRONMENT, watch
    from wirbel.inquiry.ask import Asked, ask

    began = time.perf_counter()
    watched = watch(start, end)
    seen = watched.seen
    service, signal = (seen.service, seen.signal) if seen else ANYWAY
    onset = seen.onset if seen else end - FOCUS_NS
    focus = (onset, min(onset + FOCUS_NS, end))
    try:
        found = ask(Asked(service, None, signal, focus, None, ENVIRONMENT)).contract()  # type: ignore[arg-type]
    except WirbelError as error:
        found = {"error": str(error), "candidates": [], "onset": None}
    took = time.perf_counter() - began
    given = plain.given(start, end, focus, service, ENVIRONMENT)
    return {
        "seen": None if seen is None else vars(seen),
        "threshold": watched.threshold,
        "asked": {"service": service, "signal": signal, "focus": list(focus)},
        "diagnosis": found,
        "plain": {name: method(given)[:5] for name, method in plain.METHODS.items()},
        "took_s": round(took, 2),
    }


def main() -> None:
    start, end, folder = int(sys.argv[1]), int(sys.argv[2]), Path(sys.argv[3])
    sealed.seal(folder)
    with environment.database():
        print(json.dumps(answer(start, end)))


if __name__ == "__main__":
    main()
