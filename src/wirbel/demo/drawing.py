"""The demo world's topology as a picture: ``python -m wirbel.demo.drawing FILE`` writes docs/demo-world.svg anew."""

from __future__ import annotations

import sys
from html import escape
from pathlib import Path

from wirbel.demo.world.skerry import SKERRY

WIDTH, ROW, BOX = 150, 46, 30
GAP = 62  # between columns
CORNERS = {"service": 3, "database": 12, "cache": 12, "broker": 0, "external": 15}
STYLE = "text{font:12px sans-serif;fill:#1d2a33}.n{font-size:10px;fill:#5d6d75}rect{fill:#fbf9f3;stroke:#1d2a33}.b{fill:#e7efe9}.x{stroke-dasharray:4 3}path{fill:none;stroke:#5d6d75}.m{stroke-dasharray:2 3}"


def edges() -> list[tuple[str, str, bool]]:
    """Who asks whom, and whether by a message."""
    found = {}
    for operation in SKERRY.operations.values():
        for call in operation.calls:
            other = call.to if call.to in SKERRY.backends else SKERRY.operations[call.to].service
            if other != operation.service:
                found[operation.service, other] = call.publishes
    for entry in SKERRY.entries:
        if SKERRY.operations[entry].method == "CONSUME":
            found["events", SKERRY.operations[entry].service] = True
    return [(a, b, message) for (a, b), message in found.items()]


def columns() -> list[list[str]]:
    """Everything by the longest way from outside, backends last; message consumers stand with those that nobody asks."""
    asked = [(a, b) for a, b, message in edges() if not message]
    depth = dict.fromkeys(SKERRY.services, 0)
    for _ in SKERRY.services:
        for a, b in asked:
            if b in depth:
                depth[b] = max(depth[b], depth[a] + 1)
    rows = [[name for name in SKERRY.services if depth[name] == column] for column in range(max(depth.values()) + 1)]
    return [*rows, list(SKERRY.backends)]


def draw() -> str:
    place = {name: (20 + c * (WIDTH + GAP), 20 + r * ROW) for c, names in enumerate(columns()) for r, name in enumerate(names)}
    width, height = max(x for x, _ in place.values()) + WIDTH + 20, max(y for _, y in place.values()) + ROW + 10
    drawn = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {width} {height}" role="img" aria-label="Who asks whom in the demo world"><style>{STYLE}</style>'
    ]
    for a, b, message in edges():
        (x1, y1), (x2, y2) = place[a], place[b]
        from_x, to_x = (x1 + WIDTH, x2) if x2 > x1 else (x1, x2 + WIDTH)
        bend = (from_x + to_x) / 2
        kind = ' class="m"' if message else ""
        drawn.append(f'<path{kind} d="M{from_x} {y1 + BOX / 2}C{bend} {y1 + BOX / 2} {bend} {y2 + BOX / 2} {to_x} {y2 + BOX / 2}"/>')
    for name, (x, y) in place.items():
        backend = SKERRY.backends.get(name)
        corner = CORNERS[backend.kind if backend else "service"]
        kind = "" if backend is None else ' class="b x"' if backend.kind == "external" else ' class="b"'
        note = (
            f"{len(SKERRY.instances[name])} × {SKERRY.services[name].workers} workers"
            if backend is None
            else f"{backend.servers} at a time, {backend.median_ms:g} ms"
        )
        drawn.append(f'<rect{kind} x="{x}" y="{y}" width="{WIDTH}" height="{BOX}" rx="{corner}"/>')
        drawn.append(f'<text x="{x + 8}" y="{y + 13}">{escape(name)}</text><text class="n" x="{x + 8}" y="{y + 25}">{escape(note)}</text>')
    return "\n".join([*drawn, "</svg>"]) + "\n"


if __name__ == "__main__":
    Path(sys.argv[1]).write_text(draw())
