"""A trace of a hundred thousand spans is opened, searched, walked and collapsed."""

from __future__ import annotations

import re
import time

import pytest
from playwright.sync_api import Page, expect

from tests.api_client import Api
from tests.browser.test_axe import broken_rules
from tests.builders import request
from tests.conftest import Instance

BATCHES, CALLS = 249, 100
SPANS = 1 + BATCHES * (1 + 4 * CALLS)
TRACE = 0x7E57 << 64
MS = 10**6


def batch(number: int, end: int) -> list[dict]:
    """One after another: a call, what serves it, its query, and a note of it."""
    begin = end - (BATCHES - number) * 200 * MS
    top = 2 + number * (1 + 4 * CALLS)
    found = [{"name": "batch", "span_id": top, "parent_span_id": 1, "start_time_unix_nano": begin, "end_time_unix_nano": begin + 199 * MS}]
    for n in range(CALLS):
        at, first = begin + n * 19 * MS // 10, top + 1 + 4 * n
        for k, (name, inset) in enumerate((("POST /rows", 0), ("write", 1), ("INSERT rows", 2), ("note", 3))):
            found.append(
                {
                    "name": name,
                    "span_id": first + k,
                    "parent_span_id": top if k == 0 else first + k - 1,
                    "start_time_unix_nano": at + inset * MS // 10,
                    "end_time_unix_nano": at + 18 * MS // 10 - inset * MS // 10,
                }
            )
    return [_in_bytes(one) for one in found]


def _in_bytes(span: dict) -> dict:
    ids = {name: span[name].to_bytes(8, "big") for name in ("span_id", "parent_span_id") if name in span}
    return {**span, **ids, "trace_id": TRACE.to_bytes(16, "big")}


@pytest.fixture(scope="module")
def trace(instance: Instance) -> str:
    end = time.time_ns()
    root = {"name": "nightly import", "span_id": 1, "start_time_unix_nano": end - BATCHES * 200 * MS, "end_time_unix_nano": end}
    resource = {"service.name": "night-clerk", "deployment.environment.name": "long-trace"}
    for first in range(0, BATCHES, 25):
        spans = [one for n in range(first, min(first + 25, BATCHES)) for one in batch(n, end)] + ([_in_bytes(root)] if not first else [])
        status, answer, _ = instance.post("/v1/traces", request(*spans, resource=resource).SerializeToString())
        assert status == 200, answer
    name = f"{TRACE:032x}"
    api, deadline = Api(instance), time.monotonic() + 60
    while True:
        status, found = api.get(f"/api/traces/{name}")
        if status == 200 and len(found["this"]["spans"]["span"]) == SPANS:
            return name
        assert time.monotonic() < deadline, status
        time.sleep(0.2)


def test_all_of_a_long_trace_can_be_reached(page: Page, instance: Instance, trace: str) -> None:
    page.goto(f"{instance.url}/traces/{trace}?environment=long-trace")
    expect(page.get_by_role("main")).to_contain_text(f"{SPANS} spans", timeout=60_000)
    assert "more spans are not shown" not in (page.get_by_role("main").text_content() or "")
    # What would not be told apart is one box; the page stays light.
    assert page.evaluate("document.querySelectorAll('*').length") < 6_000
    tree = page.get_by_role("tree", name="Spans")
    tree.focus()
    page.keyboard.press("End")
    aside = page.get_by_role("complementary", name="Span")
    expect(aside).to_contain_text(f"span {SPANS} of {SPANS}")
    expect(aside).to_contain_text("night-clerk")
    expect(aside).to_contain_text("long-trace")  # of its resource, asked for when it was chosen
    page.keyboard.press("Home")
    expect(aside).to_contain_text("nightly import")
    page.get_by_role("searchbox", name="find").fill("insert")
    expect(page.get_by_text(f"{BATCHES * CALLS} spans; Enter goes to the next")).to_be_visible()
    page.keyboard.press("Enter")
    expect(aside).to_contain_text("INSERT rows")
    tree.focus()
    page.keyboard.press("Home")
    page.keyboard.press("ArrowLeft")
    expect(page.get_by_role("treeitem")).to_have_count(1)
    page.keyboard.press("ArrowRight")
    expect(page.get_by_role("treeitem").nth(1)).to_contain_text("batch")
    page.get_by_role("button", name=re.compile("^close 400 spans")).first.click()
    expect(page.get_by_role("treeitem").nth(2)).to_contain_text("batch")
    assert not broken_rules(page)
