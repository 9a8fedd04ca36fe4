"""Evidence opens what it was read from, beside its sentence."""

from __future__ import annotations

import re
from typing import Any

import pytest
from playwright.sync_api import Locator, Page, Route, expect

from tests.api_client import Api
from tests.conftest import Instance
from tests.server.test_api import ask, whole


@pytest.fixture(scope="module")
def api(instance: Instance) -> Api:
    return Api(instance)


@pytest.fixture
def inquiry(instance: Instance, api: Api, page: Page) -> dict[str, Any]:
    """An inquiry of the demo's fault, open on the page."""
    ribbon = ask(api, "/api/ribbon", environment="production", **whole(instance))
    answer = api.post("/api/inquiries", {"service": "quay-web", "environment": "production", "focus": ribbon["focus"], "reference": ribbon["reference"]})[1]
    page.goto(f"{instance.url}/inquiries/{answer['id']}?environment=production")
    page.get_by_role("article", name="Candidate 1").wait_for()
    return answer


def line(page: Page, answer: dict[str, Any], what: str) -> tuple[dict[str, Any], Locator]:
    """The first evidence of the first candidate that has something to show, and its line on the page."""
    number, evidence = next((n, one) for n, one in enumerate(answer["candidates"][0]["evidence"]) if one[what])
    return evidence, page.get_by_role("article", name="Candidate 1").get_by_role("listitem").nth(number)


def test_a_metric_is_drawn_with_the_symptom_under_it(page: Page, inquiry: dict[str, Any]) -> None:
    evidence, shown = line(page, inquiry, "series")
    show = shown.get_by_role("button", name="show")
    expect(show).to_have_attribute("aria-expanded", "false")
    show.focus()
    page.keyboard.press("Enter")
    charts = shown.get_by_role("img", name=re.compile("over time$"))
    expect(charts).to_have_count(2)
    expect(charts.nth(0)).to_have_accessible_name(f"{evidence['metric']} over time")
    expect(charts.nth(1)).to_have_accessible_name("the symptom: mean duration of quay-web over time")
    for chart, series in zip(charts.all(), (evidence["series"], inquiry["series"]), strict=True):
        drawn = chart.locator("path[stroke-width='1.2']").get_attribute("d") or ""
        # Every stretch begins with M; all its other points follow with L.
        assert len(re.findall("[ML]", drawn)) == sum(value is not None for value in series["values"])
    shown.get_by_role("button", name="close").click()
    expect(charts).to_have_count(0)


def with_evidence(page: Page, inquiry: dict[str, Any], number: int, **more: object) -> Locator:
    """The line of an evidence of the first candidate, to which something was added on the answer's way to the page."""

    def changed(route: Route) -> None:
        answer = route.fetch().json()
        answer["candidates"][0]["evidence"][number] |= more
        answer["focus"] = inquiry["focus"]
        route.fulfill(json=answer)

    page.route(f"**/api/inquiries/{inquiry['id']}", changed)
    page.reload()
    return page.get_by_role("article", name="Candidate 1").get_by_role("listitem").nth(number)


def test_a_log_pattern_shows_its_records_and_leads_to_their_traces(page: Page, inquiry: dict[str, Any], api: Api, instance: Instance) -> None:
    """Which patterns are told depends on the day; here it is one of failed requests, of which there are some in hours."""
    focus = inquiry["focus"]
    focus["from"] = whole(instance)["start"]
    window = {"start": focus["from"], "end": focus["to"], "environment": "production"}
    templates = ["POST /places/reserve failed: the request could not be completed"]
    found = ask(api, "/api/services/berth-planner/log-records", template=templates[0], **window)
    assert found["count"] >= len(found["records"]) > 0
    shown = with_evidence(page, inquiry, 0, pattern={"service": "berth-planner", "templates": templates})
    shown.get_by_role("button", name="show").click()
    rows = shown.get_by_role("table", name="Log records").get_by_role("row")
    expect(rows).to_have_count(len(found["records"]))
    expect(rows.first).to_contain_text(found["records"][0]["body"])
    traced = next(record for record in found["records"] if record["trace"])
    shown.get_by_role("link", name="trace", exact=True).first.click()
    expect(page).to_have_url(re.compile(f"/traces/{traced['trace']}"))
    expect(page.get_by_role("tree", name="Spans")).to_be_visible()


def test_a_change_shows_its_lines_of_configuration(page: Page, inquiry: dict[str, Any]) -> None:
    """The demo's own fault is a new version, which has none."""
    number = next(n for n, one in enumerate(inquiry["candidates"][0]["evidence"]) if one["kind"] == "change")
    touched = [{"key": "pool.size", "before": "12", "after": "4"}, {"key": "pool.wait", "before": None, "after": "5 s"}]
    shown = with_evidence(page, inquiry, number, lines=touched)
    shown.get_by_role("button", name="show").click()
    table = shown.get_by_role("table", name="Lines of configuration")
    expect(table.get_by_role("row", name="pool.size 12 4")).to_be_visible()
    expect(table.get_by_role("row", name="pool.wait – 5 s")).to_be_visible()
