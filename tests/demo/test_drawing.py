"""The drawing of the demo world in the documentation is that of the world."""

from __future__ import annotations

from tests.conftest import ROOT
from wirbel.demo import drawing
from wirbel.demo.world.skerry import SKERRY


def test_the_drawing_is_current_and_has_everybody_once() -> None:
    assert (ROOT / "docs/demo-world.svg").read_text() == drawing.draw(), "run: python -m wirbel.demo.drawing docs/demo-world.svg"
    placed = [name for column in drawing.columns() for name in column]
    assert sorted(placed) == sorted([*SKERRY.services, *SKERRY.backends])
    order = {name: number for number, column in enumerate(drawing.columns()) for name in column}
    assert all(order[a] < order[b] for a, b, message in drawing.edges() if not message)
