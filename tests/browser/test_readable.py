"""Every view by day and by night: contrast, names for the screen reader, and nothing cut off sideways."""

from __future__ import annotations

import pytest
from playwright.sync_api import Page, expect

from tests.api_client import Api
from tests.conftest import Instance
from tests.server.test_api import ask, whole

LEAST_CONTRAST = 4.5  # WCAG 2.2, success criterion 1.4.3 (level AA, text of ordinary size)

# Contrast as WCAG 2.2 defines it, from relative luminance; each text against the nearest opaque ground behind it.
CONTRASTS = """() => {
  const rgb = text => (text.match(/[\\d.]+/g) ?? []).map(Number);
  const channel = value => { const c = value / 255; return c <= 0.04045 ? c / 12.92 : ((c + 0.055) / 1.055) ** 2.4; };
  const luminance = ([r, g, b]) => 0.2126 * channel(r) + 0.7152 * channel(g) + 0.0722 * channel(b);
  const ground = element => {
    for (let at = element; at; at = at.parentElement) {
      const colour = rgb(getComputedStyle(at).backgroundColor);
      if (colour.length === 3 || colour[3] > 0.99) return colour;
    }
    return [255, 255, 255];
  };
  const texts = [...document.querySelectorAll('body *')].filter(element =>
    [...element.childNodes].some(node => node.nodeType === 3 && node.textContent.trim()) &&
    element.getClientRects().length && !element.closest('.sr-only, title, style, script'));
  return texts.map(element => {
    const style = getComputedStyle(element);
    const colour = rgb(element.namespaceURI.endsWith('svg') ? style.fill : style.color);
    const [a, b] = [luminance(colour), luminance(ground(element))];
    return { text: element.textContent.trim().slice(0, 40), contrast: (Math.max(a, b) + 0.05) / (Math.min(a, b) + 0.05) };
  });
}"""
NAMELESS = """() => [...document.querySelectorAll('button, a[href], input, select, [role=slider], [role=img], [role=tree]')]
  .filter(element => element.getClientRects().length)
  .filter(element => !(element.getAttribute('aria-label') || element.getAttribute('aria-labelledby') || element.textContent.trim()
    || element.title || element.labels?.length))
  .map(element => element.outerHTML.slice(0, 120))"""


@pytest.fixture(scope="module")
def views(instance: Instance) -> dict[str, str]:
    """The address of each view, with a text that is there once it is drawn."""
    api = Api(instance)
    ribbon = ask(api, "/api/ribbon", environment="production", **whole(instance))
    answer = api.post("/api/inquiries", {"service": "quay-web", "signal": "latency", "focus": ribbon["focus"], "reference": ribbon["reference"]})[1]
    disturbance = ask(api, "/api/disturbances", environment="production", **whole(instance))["rows"][0]["id"]
    slow, normal = answer["examples"]["slow"], answer["examples"]["normal"]
    return {
        "/": "sorted by priority",
        "/disturbances": "are watched",
        f"/disturbances/{disturbance}": "Changed before",
        "/watched": "its part of what all share",
        "/services": "timetable-import",
        "/services/quay-web": "POST /reservations",
        "/traces?service=quay-web": "POST /reservations",
        f"/traces/{slow['trace']}?span={slow['span']}&against={normal['trace']}:{normal['span']}": "A normal one",
        "/changes": "fare-engine",
        "/inquiries": "berth-planner",
        "/intake": "What arrives",
        f"/inquiries/{answer['id']}": "Candidates",
    }


@pytest.mark.parametrize("night", [False, True], ids=["day", "night"])
def test_every_view_can_be_read(page: Page, instance: Instance, views: dict[str, str], night: bool) -> None:
    if night:
        page.get_by_role("button", name="skipper").click()
        page.get_by_role("menuitem", name="Night colours").click()
    range_ = whole(instance)
    for path, text in views.items():
        page.goto(f"{instance.url}{path}{'&' if '?' in path else '?'}environment=production&range={range_['start']}..{range_['end']}")
        expect(page.get_by_role("main").get_by_text(text).first).to_be_visible()
        page.wait_for_load_state("networkidle")
        expect(page.get_by_role("heading", level=1), path).to_have_count(1)
        measured = page.evaluate(CONTRASTS)
        assert len(measured) > 15, path
        assert [one for one in measured if one["contrast"] < LEAST_CONTRAST] == [], path
        assert page.evaluate(NAMELESS) == [], path
        assert page.evaluate("document.documentElement.scrollWidth <= window.innerWidth"), path


@pytest.mark.parametrize("width", [1024, 2560])
def test_the_overview_fits_narrow_and_wide_screens(page: Page, width: int) -> None:
    page.set_viewport_size({"width": width, "height": 800})
    expect(page.locator("tr[data-service]")).to_have_count(12)
    assert page.evaluate("document.documentElement.scrollWidth <= window.innerWidth")
    assert page.get_by_role("slider", name="focus start").is_visible()
