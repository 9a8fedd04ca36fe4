"""What is drawn can be read, what is cut can be reached, and what is typed wrongly is told."""

from __future__ import annotations

import json
import re
from datetime import UTC, datetime, timedelta
from urllib.parse import urlencode, urlparse

import pytest
from playwright.sync_api import Page, Route, expect

from tests.api_client import Api
from tests.browser.test_axe import broken_rules
from tests.browser.test_questions import address, open_service
from tests.conftest import Instance
from tests.server.test_api import ask, whole

MANY = 5_000


def windows_asked(instance: Instance, service: str | None = None) -> dict[str, str]:
    """The range and the windows that are proposed on a page of a service, or of all."""
    of = {"environment": "production", **whole(instance)}
    ribbon = ask(Api(instance), "/api/ribbon", **of, **({"service": service} if service else {}))
    return of | {f"{name}_{end}": ribbon[name][key] for name in ("focus", "reference") for end, key in (("from", "start"), ("to", "end"))}


def test_a_chart_can_be_read_as_a_table(page: Page, instance: Instance) -> None:
    open_service(page, "quay-web")
    page.get_by_role("button", name=re.compile("^Latency percentiles .* as a table")).click()
    table = page.get_by_role("dialog").get_by_role("table")
    expect(table.get_by_role("columnheader", name="p95", exact=True)).to_be_visible()
    charts = ask(Api(instance), "/api/services/quay-web", **windows_asked(instance, "quay-web"))["charts"]
    rows = table.locator("tbody tr")
    expect(rows).to_have_count(len(charts["samples"]))
    at = next(n for n, count in enumerate(charts["samples"]) if count)
    expect(rows.nth(at).locator("td").last).to_have_text(str(charts["samples"][at]))
    assert not broken_rules(page)
    page.keyboard.press("Escape")
    expect(page.get_by_role("dialog")).to_have_count(0)


def test_how_well_a_figure_is_known_is_told_to_the_keyboard_too(page: Page) -> None:
    cell = page.locator("tr[data-service=quay-web] [data-p95]")
    cell.focus()
    tip = page.get_by_role("tooltip")
    expect(tip).to_contain_text("requests in the focus window")
    expect(tip).to_contain_text("failing: 95 % interval")
    expect(tip).to_contain_text("p99:")
    page.keyboard.press("Escape")
    expect(tip).to_have_count(0)


def test_what_is_told_of_a_cell_is_told_to_who_points_at_it(page: Page) -> None:
    page.locator("tr[data-service=quay-web] td.num").nth(1).hover()
    tip = page.get_by_role("tooltip")
    expect(tip).to_contain_text("95 % interval")
    page.get_by_role("heading", level=1).hover()
    expect(tip).to_have_count(0)
    # Nothing is told of a cell that comes to lie beneath a pointer that rests.
    page.locator("tr[data-service=quay-web] td.num").nth(1).hover()
    expect(tip).to_have_count(1)
    page.reload()
    expect(page.locator("tr[data-service=quay-web]")).to_be_visible()
    page.wait_for_timeout(1_000)  # longer than a tip waits
    expect(tip).to_have_count(0)


def test_a_page_asks_each_question_once(page: Page) -> None:
    """It asks before anything is drawn, and what is drawn finds the answers."""
    for path in ("/api/overview", "/api/services/quay-web"):
        asked: list[str] = []
        page.on("request", lambda request, asked=asked: asked.append(urlparse(request.url).path))
        page.reload()
        expect(page.locator("main svg").first).to_be_visible()
        page.wait_for_load_state("networkidle")
        assert {name: asked.count(name) for name in ("/api/session", "/api/ribbon", path)} == {"/api/session": 1, "/api/ribbon": 1, path: 1}
        if path == "/api/overview":
            open_service(page, "quay-web")


def test_a_link_to_exactly_this_does_not_wait_for_the_ribbon(page: Page, instance: Instance) -> None:
    of = windows_asked(instance)
    exactly = {"range": f"{of['start']}..{of['end']}"} | {name: f"{of[f'{name}_from']}..{of[f'{name}_to']}" for name in ("focus", "reference")}
    page.route("**/api/ribbon?*", lambda _route: None)
    for path, drawn in (("/", page.locator("tr[data-service=quay-web]")), ("/services/quay-web", page.get_by_role("region", name="Requests/s by outcome"))):
        page.goto(f"{instance.url}{path}?{urlencode({'environment': 'production', **exactly})}")
        expect(drawn).to_be_visible()
        expect(page.get_by_role("region", name="Time ribbon")).to_contain_text("Reading the ribbon")


def test_a_day_before_stands_beside_now(page: Page, instance: Instance) -> None:
    open_service(page, "quay-web")
    page.get_by_role("checkbox", name="a day before").check()
    expect(page.locator("[data-earlier='p95 a day before']")).to_be_attached()
    assert address(page)["beside"] == ["day"]
    asked = windows_asked(instance, "quay-web")
    [before] = ask(Api(instance), "/api/services/quay-web", beside="day", **asked)["charts"]["earlier"]
    start, end = (datetime.fromisoformat(asked[name]) - timedelta(days=1) for name in ("start", "end"))
    then = ask(Api(instance), "/api/services/quay-web", **{**asked, "start": start.isoformat(), "end": end.isoformat()})["charts"]
    assert datetime.fromisoformat(before["latency"]["start"]) - datetime.fromisoformat(then["start"]) == timedelta(days=1)
    [p95] = [line["values"] for line in then["latency"] if line["is_headline"]]
    assert before["latency"]["values"] == p95
    assert before["failed_share"]["values"] == then["failed_share"]
    if not any(value is not None for value in p95):
        expect(page.get_by_text("p95 a day before is not kept")).to_be_visible()
    ribbon = ask(Api(instance), "/api/ribbon", beside="day", service="quay-web", **{name: asked[name] for name in ("environment", "start", "end")})
    assert ribbon["earlier"][0]["values"] == p95
    expect(page.get_by_role("region", name="Time ribbon").locator("[data-earlier]")).to_be_attached()
    page.get_by_role("checkbox", name="a day before").uncheck()
    expect(page.locator("[data-earlier]")).to_have_count(0)


def test_a_status_that_is_none_is_told_and_the_one_that_held_stays(page: Page) -> None:
    page.goto(page.url.replace("/?", "/traces?service=quay-web&status=404&"))
    status = page.get_by_role("textbox", name="status")
    status.fill("4o4")
    status.press("Enter")
    expect(page.get_by_role("alert")).to_have_text("Write a status, as 503.")
    expect(status).to_have_value("4o4")
    assert address(page)["status"] == ["404"]
    slower = page.get_by_role("textbox", name="slower than, ms")
    slower.fill("-5")
    slower.press("Enter")
    expect(page.get_by_text("Write milliseconds, as 250.")).to_be_visible()
    assert "slower" not in address(page)
    status.fill("")
    status.press("Enter")
    page.wait_for_url(lambda url: "status" not in url)


def test_changes_beyond_the_first_are_offered(page: Page, instance: Instance) -> None:
    """An environment of its own, with more changes than are shown at once."""
    now = datetime.now(UTC).replace(microsecond=0)
    given = [
        {"kind": "flag", "at": (now - timedelta(minutes=n)).isoformat(), "environment": "busy-hands", "summary": f"flag {n} turned", "id": f"busy-{n}"}
        for n in range(130)
    ]
    status, answer, _ = instance.post("/v1/changes", json.dumps(given).encode(), Content_Type="application/json")
    assert status == 201, answer
    start, end = (at.isoformat().replace("+00:00", "Z") for at in (now - timedelta(hours=3), now + timedelta(minutes=1)))
    page.goto(f"{instance.url}/changes?environment=busy-hands&range={start}..{end}")
    expect(page.get_by_text("100 of 130 changes, the newest, shown.")).to_be_visible()
    expect(page.get_by_role("main").locator("tbody tr").first).to_contain_text("flag 0 turned")
    page.get_by_role("button", name="30 more").click()
    expect(page.get_by_role("main").locator("tbody tr")).to_have_count(130)
    expect(page.get_by_text("the newest, shown")).to_have_count(0)


@pytest.fixture
def five_thousand(page: Page, instance: Instance) -> None:
    """The table of services as a fleet of five thousand would have it; what the browser does with it is meant here."""
    one = next(row for row in ask(Api(instance), "/api/services-table", **windows_asked(instance)) if row["focus"])
    fleet = [{**one, "service": f"{'berth' if n % 50 == 0 else 'unit'}-{n:04d}"} for n in range(MANY)]

    def answer(route: Route) -> None:
        route.fulfill(json=fleet)

    page.route("**/api/services-table?*", answer)


def test_five_thousand_services_are_scrolled_and_filtered(page: Page, five_thousand: None) -> None:
    page.get_by_role("navigation").get_by_role("link", name="Services").click()
    expect(page.get_by_role("main")).to_contain_text(str(MANY))
    assert page.locator("tr[data-service]").count() < 100
    took = page.evaluate(
        """async () => {
          const field = document.querySelector('input[type=search]');
          const shown = () => document.querySelector('tr[data-service]')?.dataset.service;
          const type = Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set;
          const began = performance.now();
          type.call(field, 'berth-49');
          field.dispatchEvent(new Event('input', { bubbles: true }));
          while (!shown()?.startsWith('berth-49')) await new Promise(requestAnimationFrame);
          return performance.now() - began;
        }"""
    )
    expect(page.locator("tr[data-service]")).to_have_count(2)
    page.get_by_role("searchbox").fill("")
    table = page.get_by_role("region", name="All services")
    table.hover()
    for _ in range(20):
        page.mouse.wheel(0, 4000)
    expect(page.locator("tr[data-service]").first).not_to_have_attribute("data-service", "unit-0001")
    assert page.locator("tr[data-service]").count() < 100
    print(f"filtered after {took:.0f} ms")
