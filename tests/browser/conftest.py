from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

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


def sign_in(page: Page, name: str, password: str) -> None:
    page.get_by_label("Name").fill(name)
    page.get_by_label("Password").fill(password)
    page.get_by_role("button", name="Sign in").click()


@contextmanager
def signed_in(chromium: Browser, instance: Instance, zone: str = "UTC") -> Iterator[Page]:
    """A page signed in, frozen on the demo's six hours, so that other tests' telemetry does not move it; no script of it may fail."""
    context = chromium.new_context(viewport={"width": 1280, "height": 800}, timezone_id=zone)
    page = context.new_page()
    wrong: list[str] = []
    page.on("pageerror", lambda error: wrong.append(str(error)))
    range_ = whole(instance)
    page.goto(f"{instance.url}/?environment=production&range={range_['start']}..{range_['end']}")
    sign_in(page, instance.name, instance.password)
    page.locator("tr[data-service]").first.wait_for(timeout=60_000)  # the first answer of a server that has just begun
    yield page
    assert not wrong
    context.close()


@pytest.fixture
def page(chromium: Browser, instance: Instance) -> Iterator[Page]:
    with signed_in(chromium, instance) as page:
        yield page
