"""More services than a page holds: the overview answers by pages, of bounded size, and holds what is seen only."""

from __future__ import annotations

import json
import time
from datetime import UTC, datetime
from typing import Any

import pytest
from playwright.sync_api import Page, expect

from tests.api_client import Api
from tests.builders import request
from tests.conftest import Instance
from tests.server.test_api import ask

SERVICES = 130
MINUTE_NS = 60 * 10**9
LARGEST = 500_000  # bytes of an answer
PAGE = 50


def of_all_pages(api: Api, asked: dict[str, str]) -> list[dict[str, Any]]:
    return [row for first in range(0, SERVICES, PAGE) for row in ask(api, "/api/overview", **asked, first=str(first))["services"]]


@pytest.fixture(scope="module")
def wide(instance: Instance) -> dict[str, str]:
    """Each service answers twice in twenty minutes; what is asked of them."""
    now = time.time_ns()
    environment = f"wide-{now}"  # tests with a browser and those without may have one each
    for first in range(0, SERVICES, 65):
        spans = [
            request(
                *(
                    {"name": "GET /", "start_time_unix_nano": at, "end_time_unix_nano": at + (number + 1) * 10**6}
                    for at in (now - 15 * MINUTE_NS, now - 5 * MINUTE_NS)
                ),
                resource={"service.name": f"wide-{number:04d}", "deployment.environment.name": environment},
            )
            for number in range(first, first + 65)
        ]
        for one in spans[1:]:
            spans[0].MergeFrom(one)
        assert instance.post("/v1/traces", spans[0].SerializeToString())[0] == 200
    stamps = {
        name: now - minutes * MINUTE_NS
        for name, minutes in {"start": 20, "end": 0, "focus_from": 10, "focus_to": 0, "reference_from": 20, "reference_to": 10}.items()
    }
    asked = {"environment": environment, **{name: datetime.fromtimestamp(at // 10**9, UTC).isoformat().replace("+00:00", "Z") for name, at in stamps.items()}}
    api, deadline = Api(instance), time.monotonic() + 60
    while len([row for row in of_all_pages(api, asked) if row["focus"]["requests"]]) < SERVICES:
        assert time.monotonic() < deadline
        time.sleep(0.5)
    return asked


def test_all_are_told_page_by_page(instance: Instance, wide: dict[str, str]) -> None:
    api, seen = Api(instance), []
    for first in range(0, SERVICES, PAGE):
        found = ask(api, "/api/overview", **wide, first=str(first))
        assert len(json.dumps(found)) < LARGEST
        assert len(found["services"]) == min(PAGE, SERVICES - first)
        seen += found["services"]
    assert {row["service"] for row in seen} == {f"wide-{number:04d}" for number in range(SERVICES)}
    assert [row["priority"] for row in seen] == sorted((row["priority"] for row in seen), reverse=True)
    for row in seen[:: SERVICES // 10]:
        one = ask(api, f"/api/services/{row['service']}", **wide)
        assert (one["focus"]["p95"], one["focus"]["requests"], one["health"]) == (row["focus"]["p95"], row["focus"]["requests"], row["health"])
    assert ask(api, "/api/overview", **wide, first=str(SERVICES))["services"] == []


def test_the_page_holds_what_is_seen_and_asks_for_it(page: Page, instance: Instance, wide: dict[str, str]) -> None:
    windows = f"focus={wide['focus_from']}..{wide['focus_to']}&reference={wide['reference_from']}..{wide['reference_to']}&range={wide['start']}..{wide['end']}"
    page.goto(f"{instance.url}/?environment={wide['environment']}&{windows}")
    rows = page.locator("tr[data-service]")
    expect(rows.first).to_be_visible()
    expect(page.get_by_text(f"{SERVICES} services ·")).to_be_visible()
    last = ask(Api(instance), "/api/overview", **wide, first=str(SERVICES - PAGE))["services"][-1]
    table = page.get_by_role("region", name="Services, worst first")
    box, size = table.bounding_box(), page.viewport_size
    assert box
    assert size
    assert box["y"] + box["height"] <= size["height"]  # one thing to scroll, not two
    table.focus()
    page.keyboard.press("End")
    expect(page.locator(f"tr[data-service='{last['service']}']")).to_be_visible()
    assert page.evaluate("document.querySelectorAll('*').length") < 3_000
    page.keyboard.press("Home")
    expect(page.locator("tr[aria-rowindex='1'][data-service]")).to_be_visible()
