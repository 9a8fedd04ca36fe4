"""Every view by the rules of axe-core (WCAG 2.2 A and AA, and its best practices): by day and night, narrow and wide."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Page, expect

from tests.browser.test_readable import views  # noqa: F401  a fixture
from tests.conftest import ROOT, Instance
from tests.server.test_api import whole

AXE = (ROOT / "web" / "node_modules" / "axe-core" / "axe.min.js").read_text() if (ROOT / "web" / "node_modules" / "axe-core").exists() else ""
RUN = """async () => (await axe.run(document, {runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa', 'best-practice']})).violations
  .map(one => ({rule: one.id, help: one.help, at: one.nodes.slice(0, 4).map(node => node.html.slice(0, 160))}))"""

# A page ends where what it shows does, or with the window.
ENDS = """() => document.documentElement.scrollHeight <= Math.max(innerHeight,
  ...[...document.querySelectorAll('main, nav')].map(one => one.getBoundingClientRect().bottom + scrollY)) + 40"""


def broken_rules(page: Page) -> list[dict[str, Any]]:
    page.evaluate(AXE)
    found: list[dict[str, Any]] = page.evaluate(RUN)
    return found


@pytest.mark.parametrize(("width", "night"), [(1024, False), (1280, True), (2560, False)])
def test_no_view_breaks_a_rule(page: Page, instance: Instance, views: dict[str, str], width: int, night: bool) -> None:  # noqa: F811
    assert AXE
    page.set_viewport_size({"width": width, "height": 800})
    if night:
        page.get_by_role("button", name="skipper").click()
        page.get_by_role("menuitem", name="Night colours").click()
    range_ = whole(instance)
    broken: dict[str, list[dict[str, Any]]] = {}
    for path, text in views.items():
        page.goto(f"{instance.url}{path}{'&' if '?' in path else '?'}environment=production&range={range_['start']}..{range_['end']}")
        expect(page.get_by_role("main").get_by_text(text).first).to_be_visible()
        page.wait_for_load_state("networkidle")
        if found := broken_rules(page):
            broken[Path(path.split("?")[0]).as_posix()] = found
        if not page.evaluate("document.documentElement.scrollWidth <= window.innerWidth"):
            broken.setdefault(path, []).append({"rule": "wider than the screen"})
        if not page.evaluate(ENDS):
            broken.setdefault(path, []).append({"rule": "goes on beneath what it shows"})
    assert not broken, json.dumps(broken, indent=1)


def test_open_menus_and_popovers_break_none(page: Page) -> None:
    page.keyboard.press("t")
    expect(page.get_by_role("textbox", name="Go to")).to_be_visible()
    assert not broken_rules(page)
    page.keyboard.press("Escape")
    # Closed it has given the focus back: what opens before that would lose it again, and close.
    expect(page.get_by_role("textbox", name="Go to")).to_be_hidden()
    expect(page.locator("[aria-haspopup=dialog]:focus")).to_be_visible()
    page.keyboard.press("?")
    expect(page.get_by_role("switch")).to_be_visible()
    assert not broken_rules(page)
