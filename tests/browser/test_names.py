"""Services may be called anything: each can be opened, told from others, and widens no page."""

from __future__ import annotations

import json
import time
from urllib.parse import quote, urlencode

import pytest
from playwright.sync_api import Page, expect

from tests.api_client import Api
from tests.conftest import Instance
from tests.server.test_api import ask

NAMES = ["team/checkout", "two\nlines", "three  blanks", "שלום-עולם", "checkout-" * 200, "boathouse" * 30, "50%25 off?#x", "../etc", "a/b?c=d#e&f=%2F%00"]
KEPT = 200  # of a name; the rest is cut off when it comes
ENVIRONMENT = "names"


@pytest.fixture(scope="module")
def named(instance: Instance) -> list[str]:
    """Requests of services of such names, in an environment of their own, as they are known then."""
    now = time.time_ns()
    spans = [
        {
            "resource": {"attributes": [attribute("service.name", name), attribute("deployment.environment.name", ENVIRONMENT)]},
            "scopeSpans": [{"spans": [span(now - minute * 60 * 10**9, 100 * n + minute) for minute in range(1, 30)]}],
        }
        for n, name in enumerate(NAMES)
    ]
    assert instance.post("/v1/traces", json.dumps({"resourceSpans": spans}).encode(), Content_Type="application/json")[0] == 200
    changes = [
        {"kind": "deploy", "service": name, "environment": ENVIRONMENT, "at": now_text(now), "summary": name, "id": f"name-{n}"} for n, name in enumerate(NAMES)
    ]
    assert instance.post("/v1/changes", json.dumps(changes).encode(), Content_Type="application/json")[0] == 201
    api = Api(instance)
    deadline = time.monotonic() + 60
    while len(known := {row["service"] for row in overview(api)}) < len(NAMES):
        assert time.monotonic() < deadline, known
        time.sleep(0.5)
    return sorted(known)


def now_text(now: int) -> str:
    return time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime(now // 10**9))


def attribute(key: str, value: str) -> dict:
    return {"key": key, "value": {"stringValue": value}}


def span(start: int, number: int) -> dict:
    end = start + 50 * 10**6
    return {
        "traceId": f"{number + 1:032x}",
        "spanId": f"{number + 1:016x}",
        "name": "GET /",
        "kind": 2,
        "startTimeUnixNano": str(start),
        "endTimeUnixNano": str(end),
    }


def times() -> dict[str, str]:
    """Of a question about the last half hour."""
    now = time.time()
    at = {"focus_from": now - 900, "focus_to": now, "reference_from": now - 1800, "reference_to": now - 900, "start": now - 1800, "end": now}
    return {name: now_text(round(second * 10**9)) for name, second in at.items()}


def overview(api: Api) -> list[dict]:
    return ask(api, "/api/overview", environment=ENVIRONMENT, **times())["services"]


def fits(page: Page) -> None:
    deadline = time.monotonic() + 10
    while not page.evaluate("document.documentElement.scrollWidth <= window.innerWidth"):
        assert time.monotonic() < deadline, page.url


def test_each_is_known_and_answered_for(instance: Instance, named: list[str]) -> None:
    assert named == sorted(name[:KEPT] for name in NAMES)
    api = Api(instance)
    for name in named:
        status, found = api.get(f"/api/services/{quote(name, safe='')}?{urlencode({'environment': ENVIRONMENT, **times()})}")
        assert status == 200, (name, found)
        assert found["service"] == name


def test_each_can_be_opened_and_widens_no_page(page: Page, instance: Instance, named: list[str]) -> None:
    for view in ("/", "/services", "/changes"):
        page.goto(f"{instance.url}{view}?environment={ENVIRONMENT}")
        expect(page.get_by_role("main").get_by_role("link", name="team/checkout").first).to_be_visible(timeout=20_000)
        fits(page)
    page.goto(f"{instance.url}/intake")
    expect(page.get_by_role("region", name="Who sends").get_by_text("team/checkout")).to_be_visible(timeout=20_000)
    fits(page)
    for name in named:
        page.goto(f"{instance.url}/?environment={ENVIRONMENT}")
        page.get_by_role("link", name=" ".join(name.split()), exact=True).first.click()
        expect(page.get_by_role("heading", level=1)).to_contain_text(" ".join(name.split())[:150])
        fits(page)
        page.reload()
        expect(page.get_by_role("heading", level=1)).to_contain_text(" ".join(name.split())[:150])
