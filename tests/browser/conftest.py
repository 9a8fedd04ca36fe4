from __future__ import annotations

from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, Page, Playwright, expect

from tests.conftest import Instance
from tests.server.test_api import whole

expect.set_options(timeout=20_000)  # a condition is awaited this long on a busy machine
ARGUMENTS = ["--no-sandbox", "--disable-gpu", "--disable-background-networking", "--disable-component-update", "--disable-sync"]


@pytest.fixture(scope="session")
def chromium(playwright: Playwright) -> Iterator[Browser]:
    browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=ARGUMENTS)
    yield browser
    browser.close()


@pytest.fixture
def page(chromium: Browser, instance: Instance) -> Iterator[Page]:
    """A page signed in, frozen on the demo's six hours, so that other tests' telemetry does not move it."""
    context = chromium.new_context(viewport={"width": 1280, "height": 800}, timezone_id="UTC")
    page = context.new_page()
    wrong: list[str] = []
    page.on("pageerror", lambda error: wrong.append(str(error)))
    range_ = whole(instance)
    page.goto(f"{instance.url}/?environment=production&range={range_['start']}..{range_['end']}")
    page.get_by_label("Name").fill(instance.name)
    page.get_by_label("Password").fill(instance.password)
    page.get_by_role("button", name="Sign in").click()
    page.locator("tr[data-service]").first.wait_for(timeout=60_000)  # the first answer of a server that has just begun
    yield page
    assert not wrong
    context.close()
