"""Named scopes are made, used, seen on every view, changed, deleted and brought back."""

from __future__ import annotations

import re
from collections.abc import Iterator

import pytest
from playwright.sync_api import Page, expect

from tests.api_client import Api
from tests.browser.conftest import sign_in
from tests.browser.test_axe import broken_rules
from tests.browser.test_questions import address
from tests.conftest import Instance
from tests.server.test_api import ask, whole
from tests.server.test_roles import PASSWORD, person


@pytest.fixture(autouse=True)
def api(instance: Instance) -> Iterator[Api]:
    """Leaves no scope behind."""
    api = Api(instance)
    yield api
    for row in ask(api, "/api/scopes"):
        assert api.post(f"/api/scopes/{row['id']}", None, method="DELETE")[0] == 204


def open_menu(page: Page) -> None:
    page.get_by_role("button", name=re.compile("^Scope:")).click()


def make(page: Page, name: str, services: str, but_not: str = "") -> None:
    open_menu(page)
    page.get_by_role("button", name="Make a scope").click()
    dialog = page.get_by_role("dialog", name="Make a scope")
    dialog.get_by_role("textbox", name="Name").fill(name)
    dialog.get_by_role("textbox", name="Services").fill(services)
    dialog.get_by_role("textbox", name="but not", exact=True).fill(but_not)


def test_a_scope_is_made_and_every_view_obeys_and_says_so(page: Page, instance: Instance, api: Api) -> None:
    mine = {name for name in ask(api, "/api/services", environment="production") if name.startswith("berth-") or name == "quay-web"}
    make(page, "Quay and berths", "quay-web, berth-*\nsailing-api", "sailing-*")
    dialog = page.get_by_role("dialog", name="Make a scope")
    expect(dialog.get_by_role("status")).to_contain_text(f"Means {len(mine)} of")
    expect(dialog.get_by_role("status")).to_contain_text(", ".join(sorted(mine)))
    assert not broken_rules(page)
    dialog.get_by_role("button", name="Keep and use").click()
    note = page.get_by_role("main").get_by_text(f"Only scope Quay and berths: {len(mine)} of")
    expect(note).to_be_visible()
    expect(page.locator("tr[data-service]")).to_have_count(len(mine))
    assert {row.get_attribute("data-service") for row in page.locator("tr[data-service]").all()} == mine
    expect(page.get_by_role("region", name="Time ribbon")).to_contain_text("Quay and berths")
    nav = page.get_by_role("navigation")
    nav.get_by_role("link", name="Services").click()
    expect(note).to_be_visible()
    expect(page.get_by_role("link", name="sailing-api")).to_have_count(0)
    nav.get_by_role("link", name="Traces").click()
    expect(note).to_be_visible()
    window = {key: ask(api, "/api/ribbon", environment="production", scope="Quay and berths", **whole(instance))["focus"][key] for key in ("start", "end")}
    found = ask(api, "/api/traces", environment="production", scope="Quay and berths", **window)["found"]
    expect(page.get_by_role("main")).to_contain_text(f"of {found} shown")
    nav.get_by_role("link", name="Changes").click()
    expect(note).to_be_visible()
    nav.get_by_role("link", name="Inquiries").click()
    expect(note).to_be_visible()
    nav.get_by_role("link", name="Intake").click()
    expect(page.get_by_text("Scope Quay and berths does not apply here: everything is shown.")).to_be_visible()
    assert address(page)["scope"] == ["Quay and berths"]
    page.goto(page.url.replace("/intake", "/services/sailing-api"))
    expect(page.get_by_text("sailing-api is not of scope Quay and berths.")).to_be_visible()
    page.get_by_role("button", name="Show all services").click()
    expect(page.get_by_text("is not of scope")).to_have_count(0)
    assert "scope" not in address(page)


def test_a_scope_is_changed_deleted_and_brought_back(page: Page, api: Api) -> None:
    make(page, "Berths", "berth-*")
    page.get_by_role("button", name="Keep and use").click()
    expect(page.get_by_text("Only scope Berths")).to_be_visible()
    open_menu(page)
    page.get_by_role("button", name="change Berths").click()
    dialog = page.get_by_role("dialog", name="Change scope Berths")
    dialog.get_by_role("textbox", name="Name").fill("Berths only")
    dialog.get_by_role("button", name="Keep and use").click()
    expect(page.get_by_text("Only scope Berths only")).to_be_visible()
    open_menu(page)
    page.get_by_role("button", name="change Berths only").click()
    page.get_by_role("button", name="Delete").click()
    expect(page.get_by_text("Only scope Berths only")).to_have_count(0)
    assert ask(api, "/api/scopes") == []
    page.get_by_role("button", name="Undo").click()
    open_menu(page)
    page.get_by_role("radio", name="Berths only").click()
    expect(page.get_by_text("Only scope Berths only")).to_be_visible()
    assert [row["services"] for row in ask(api, "/api/scopes")] == [["berth-*"]]


def test_a_name_that_is_taken_is_told_and_nothing_typed_is_lost(page: Page, api: Api) -> None:
    assert api.post("/api/scopes", {"name": "Berths", "services": ["berth-*"]})[0] == 201
    make(page, "berths", "pay*")
    page.get_by_role("button", name="Keep and use").click()
    expect(page.get_by_role("alert")).to_contain_text("There is a scope 'berths' already")
    expect(page.get_by_role("textbox", name="Services")).to_have_value("pay*")


def test_a_link_to_a_scope_that_is_gone_says_so(page: Page) -> None:
    page.goto(page.url.replace("?", "?scope=Gone&"))
    expect(page.get_by_text("There is no scope Gone: it was renamed or deleted.")).to_be_visible()
    page.get_by_role("button", name="Show all services").click()
    expect(page.locator("tr[data-service]").first).to_be_visible()


def test_readers_choose_scopes_and_make_none(page: Page, instance: Instance, api: Api) -> None:
    assert api.post("/api/scopes", {"name": "Berths", "services": ["berth-*"]})[0] == 201
    person(instance, "reader", "reader")
    page.context.clear_cookies()
    page.reload()
    sign_in(page, "reader", PASSWORD)
    open_menu(page)
    expect(page.get_by_role("button", name="Make a scope")).to_have_count(0)
    expect(page.get_by_text("Your role may use scopes, but not make them.")).to_be_visible()
    page.get_by_role("radio", name="Berths").click()
    expect(page.get_by_text("Only scope Berths")).to_be_visible()
