"""From the Overview to a disturbance, its order of onsets, its cause; marks; and what another budget would have found."""

from __future__ import annotations

import re
from typing import Any
from urllib.parse import parse_qs, urlparse

import pytest
from playwright.sync_api import Page, expect

from tests.api_client import Api
from tests.browser.conftest import sign_in
from tests.browser.test_axe import broken_rules
from tests.conftest import Instance
from tests.server.test_api import ask, whole
from tests.server.test_disturbances import going_on  # noqa: F401  a fixture
from tests.server.test_roles import PASSWORD, person


@pytest.fixture(scope="module")
def api(instance: Instance) -> Api:
    return Api(instance)


def open_list(page: Page, instance: Instance) -> None:
    page.get_by_role("link", name="Disturbances").click()
    expect(page.locator("tr[data-disturbance]").first).to_be_visible()


def test_the_list_is_what_the_api_tells_and_leads_on(page: Page, instance: Instance, api: Api) -> None:
    open_list(page, instance)
    listed = ask(api, "/api/disturbances", environment="production", **whole(instance))
    rows = page.locator("tr[data-disturbance]")
    expect(rows).to_have_count(len(listed["rows"]))
    for row, told in zip(rows.all(), listed["rows"], strict=True):
        expect(row).to_contain_text(told["sentence"])
    bars = page.locator("svg[data-spans] rect[stroke-width='1.2']")
    expect(bars).to_have_count(sum(len(row["deviations"]) for row in listed["rows"]))
    assert not broken_rules(page)


def test_from_the_overview_to_its_cause(page: Page, going_on: dict[str, Any]) -> None:  # noqa: F811
    page.get_by_role("main").get_by_role("link", name=going_on["sentence"]).click()
    expect(page.get_by_role("heading", level=1)).to_have_text(going_on["sentence"])
    rows = page.locator("tr[data-deviation]")
    expect(rows).to_have_count(len(going_on["deviations"]))
    assert [row.get_attribute("data-deviation") for row in rows.all()] == [one["id"] for one in going_on["deviations"]]
    for row, told in zip(rows.all(), going_on["deviations"], strict=True):
        expect(row).to_contain_text(told["deviates"])
    # Opening it has set both windows.
    expect(page.get_by_role("region", name="Time ribbon")).to_contain_text(
        re.compile(rf"focus (\d+ \w+ )?{going_on['focus']['start'][11:16]}")
    )  # with the day about midnight
    expect(page.get_by_role("main")).to_contain_text("deploy berth-planner")
    assert not broken_rules(page)
    page.get_by_role("button", name="Find cause").click()
    expect(page).to_have_url(re.compile("/inquiries/"), timeout=60_000)
    expect(page.get_by_role("main")).to_contain_text("berth-planner")


def test_a_click_in_a_chart_shows_every_measure_of_that_minute(page: Page, api: Api, going_on: dict[str, Any]) -> None:  # noqa: F811
    page.locator("tr[data-service='berth-planner']").get_by_role("link", name="berth-planner", exact=True).click()
    chart = page.get_by_role("img", name=re.compile("^Latency"))
    box = chart.bounding_box()
    assert box
    page.mouse.click(box["x"] + box["width"] * 0.9, box["y"] + box["height"] / 2)
    panel = page.get_by_role("region", name=re.compile("^Every measure at"))
    rows = panel.locator("tr[data-measure]")
    expect(rows.first).to_be_visible()
    [at] = parse_qs(urlparse(page.url).query)["at"]
    told = ask(api, "/api/moment", service="berth-planner", at=at, environment="production")
    expect(panel.get_by_role("status")).to_contain_text(f"{told['deviating']} of {told['found']} deviate")
    for row, one in zip(rows.all(), told["rows"], strict=False):
        expect(row).to_contain_text(one["told"])
        expect(row).to_contain_text(one["entity"]["name"])
    assert not broken_rules(page)
    # By keyboard, a minute on; then away.
    panel.get_by_role("button", name="A minute after").press("Enter")
    expect(page).not_to_have_url(re.compile(re.escape(at.replace(":", "%3A")) + "|" + re.escape(at)))
    panel.get_by_role("button", name="Close").press("Enter")
    expect(panel).to_be_hidden()
    expect(page.get_by_role("button", name="Every measure at one minute")).to_be_visible()


def test_a_deviation_is_marked_by_keyboard_and_the_mark_taken_back(page: Page, instance: Instance, going_on: dict[str, Any]) -> None:  # noqa: F811
    page.goto(f"{instance.url}/disturbances/{going_on['id']}?environment=production")
    last = page.locator("tr[data-deviation]").last
    last.get_by_role("button").focus()
    page.keyboard.press("Enter")
    page.keyboard.press("Enter")  # the first of the menu: as expected
    expect(last).to_contain_text("marked as expected by skipper")
    page.get_by_role("button", name="Undo").click()
    expect(last).not_to_contain_text("marked as")


def test_what_another_budget_would_have_found_is_seen_before_it_is_set(page: Page, instance: Instance, api: Api) -> None:
    page.get_by_role("link", name="Watched").click()
    page.get_by_role("textbox", name="containing").fill("berth-planner")
    page.locator("tr[data-series]").filter(has_text="berth-planner").get_by_role("button", name="p95", exact=True).click()
    panel = page.get_by_role("region", name="p95 of berth-planner")
    series = page.locator("tr[data-series][aria-current='true']").get_attribute("data-series")
    for budget, name in (("7", "7 a week"), ("0.25", "one in 4 weeks")):
        panel.get_by_role("radio", name=name).check()
        told = ask(api, f"/api/watched/{series}/replay", budget=budget)
        count = len(told["found"])
        expect(panel.get_by_role("status").first).to_contain_text("One deviation would" if count == 1 else f"{count} deviations would")
        expect(panel.get_by_role("listitem")).to_have_count(count)
    expect(panel.get_by_role("button", name="Watch it so")).to_be_visible()
    assert not broken_rules(page)
    page.go_back()


def test_a_series_is_chosen_paused_and_deleted(page: Page, instance: Instance, api: Api) -> None:
    page.get_by_role("link", name="Watched").click()
    page.get_by_role("button", name="Watch another series").click()
    dialog = page.get_by_role("dialog", name="Watch another series")
    dialog.get_by_label("Service").fill("quay-web")
    dialog.get_by_label("Measure").fill("p75")
    dialog.get_by_role("button", name="Watch it").click()
    expect(dialog.get_by_role("alert")).to_contain_text("p50, p95, p99")
    dialog.get_by_label("Measure").fill("p99")
    dialog.get_by_role("button", name="Watch it").click()
    expect(page.get_by_text("p99 of quay-web is watched from now on").first).to_be_visible()
    page.get_by_role("combobox", name="only").select_option("chosen")
    page.get_by_role("button", name="pause p99 of quay-web").click()
    expect(page.locator("tr[data-series]").filter(has_text="quay-web")).to_contain_text("paused")
    page.get_by_role("button", name="p99", exact=True).click()
    page.get_by_role("button", name="delete").click()
    page.get_by_role("alertdialog").get_by_role("button", name="Stop watching").click()
    expect(page.get_by_text("p99 of quay-web is no longer watched").first).to_be_visible()
    assert not ask(api, "/api/watched", containing="quay-web p99", environment="production")["found"]


def test_the_requests_of_all_services_together_are_chosen(page: Page, instance: Instance, api: Api) -> None:
    page.get_by_role("link", name="Watched").click()
    page.get_by_role("button", name="Watch another series").click()
    dialog = page.get_by_role("dialog", name="Watch another series")
    dialog.get_by_label("Of").select_option("all services together")
    expect(dialog.get_by_label("Service")).to_have_count(0)
    dialog.get_by_label("Measure").fill("p95")
    dialog.get_by_role("button", name="Watch it").click()
    expect(page.get_by_text("p95 of all services is watched from now on").first).to_be_visible()
    [row] = [row for row in ask(api, "/api/watched", only="chosen", environment="production")["rows"] if row["entity"]["kind"] == "environment"]
    page.get_by_role("combobox", name="only").select_option("chosen")
    mine = page.locator("tr[data-series]").filter(has_text="production")
    expect(mine).to_contain_text("p95")
    page.get_by_role("button", name="p95", exact=True).click()
    expect(page.locator("[data-replay] svg, svg").first).to_be_visible()
    assert api.post(f"/api/watched/{row['id']}", None, method="DELETE")[0] == 204


def test_an_administrator_says_whose_days_they_are(page: Page, api: Api) -> None:
    page.get_by_role("link", name="Watched").click()
    main = page.get_by_role("main")
    expect(main).to_contain_text("Days and weeks are those of UTC; no public holidays are known.")
    page.get_by_role("button", name="Change whose days they are").click()
    dialog = page.get_by_role("dialog", name="Whose days and weeks")
    dialog.get_by_label("Time zone").fill("Europe/Berlin")
    dialog.get_by_label("Holidays of").fill("DE-ZZ")
    dialog.get_by_role("button", name="Learn by these days").click()
    expect(dialog.get_by_role("alert")).to_contain_text("DE has no part ZZ")
    dialog.get_by_label("Holidays of").fill("DE-BY")
    try:
        dialog.get_by_role("button", name="Learn by these days").click()
        expect(main).to_contain_text("Days and weeks are those of Europe/Berlin; public holidays of Germany (BY) are days off.")
        assert ask(api, "/api/watched/calendar") == {"zone": "Europe/Berlin", "holidays": "DE-BY"}
        assert not broken_rules(page)
    finally:
        api.put("/api/watched/calendar", {"zone": "UTC", "holidays": ""})


def test_readers_look_only(page: Page, instance: Instance, going_on: dict[str, Any]) -> None:  # noqa: F811
    person(instance, "reader", "reader")
    page.get_by_role("button", name="skipper").click()
    page.get_by_role("menuitem", name="Sign out").click()
    sign_in(page, "reader", PASSWORD)
    expect(page.get_by_role("navigation")).to_be_visible()
    page.goto(f"{instance.url}/disturbances/{going_on['id']}?environment=production")
    expect(page.locator("tr[data-deviation]").first).to_be_visible()
    expect(page.get_by_role("button", name=re.compile("^mark "))).to_have_count(0)
    page.goto(f"{instance.url}/watched?environment=production")
    expect(page.locator("tr[data-series]").first).to_be_visible()
    expect(page.get_by_role("button", name=re.compile("^pause "))).to_have_count(0)
