"""Makes a scene's telemetry and loads it: ``python -m wirbel.demo.drill.fill KIND SEED TRUTH_FILE``."""

from __future__ import annotations

import json
import sys
from pathlib import Path

from wirbel.demo.drill import scene
from wirbel.demo.drill.before import seen_before
from wirbel.demo.world.skerry import SKERRY
from wirbel.runtime import environment


def fill(made: scene.Scene) -> int:
    """Stores everything up to the moment somebody asks; returns the number of spans."""
    from wirbel.core.signals.changes import from_plain
    from wirbel.core.text import rfc3339
    from wirbel.demo.fill import store
    from wirbel.store import reading

    total = 0
    for first in range(made.start, made.asked, scene.CHUNK_NS):
        told = made.world.telemetry(first, min(first + scene.CHUNK_NS, made.asked))
        store(told)
        total += told.spans.num_rows
    # What is announced later than the question is not known yet.
    reading.store_changes([from_plain(change) for change in made.world.happenings.changes if str(change["at"]) <= rfc3339(made.asked)])
    return total


def main() -> None:
    kind, seed, truth_file = sys.argv[1], int(sys.argv[2]), Path(sys.argv[3])
    made = scene.make(SKERRY, kind, seed)
    with environment.database():
        count = fill(made)
    known = {"begins": made.fault.begins, "seen_before": seen_before(made), "asked": made.asked, "start": made.start, "spans": count}
    truth_file.write_text(json.dumps(made.fault.truth.as_dict() | known))


if __name__ == "__main__":
    main()
