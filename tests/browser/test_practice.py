"""The demo's practice on the screen; its feed is played by the test."""

from __future__ import annotations

import json

from playwright.sync_api import Page, expect

from tests.conftest import Instance
from tests.server.test_practice import practice  # noqa: F401  a fixture
from wirbel.demo.practice import ORDERS, Practice


def test_a_fault_is_started_and_remedied_on_the_screen(instance: Instance, practice: Practice, page: Page) -> None:  # noqa: F811
    page.goto(f"{instance.url}/?environment=production")
    page.get_by_role("link", name="Practice").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("bad-deploy goes on.")
    for button in ("roll back: bad-deploy", "start: zone-loss"):
        with page.expect_response(lambda answer: answer.url.endswith("/api/demo") and answer.request.method == "POST"):
            page.get_by_role("button", name=button).click()
    expect(page.get_by_role("main").get_by_role("status")).to_contain_text("takes effect within seconds")
    practice.obey(instance.made + 10**9)
    expect(page.get_by_role("heading", level=1)).to_have_text("zone-loss goes on.")
    expect(page.locator("tr[data-act=bad-deploy]")).to_contain_text("remedied")
    assert [json.loads(line)["do"] for line in (instance.home / ORDERS).read_text().splitlines()] == ["remedy", "start"]


def test_where_no_demo_runs_a_page_asks_for_nothing_that_fails(instance: Instance, page: Page) -> None:
    failed: list[str] = []
    page.on("response", lambda answer: None if answer.ok else failed.append(f"{answer.status} {answer.url}"))
    with page.expect_response("**/api/demo"):
        page.goto(page.url)
    expect(page.locator("tr[data-service]").first).to_be_visible()
    expect(page.get_by_role("link", name="Practice")).to_have_count(0)
    assert failed == []
