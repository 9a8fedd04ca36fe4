"""Moving through time: by typing, by presets, by keys; in any zone; and the first hour of a team."""

from __future__ import annotations

import re
import time
from datetime import datetime, timedelta
from urllib.parse import parse_qs, urlparse
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from playwright.sync_api import Browser, Page, Route, expect

from tests.api_client import Api
from tests.browser.conftest import signed_in
from tests.browser.test_questions import address
from tests.builders import request
from tests.conftest import Instance
from tests.server.test_api import ask, whole

MINUTE_NS = 60 * 10**9


def open_time(page: Page) -> None:
    page.keyboard.press("t")
    expect(page.get_by_role("textbox", name="Go to")).to_be_focused()


def reach(page: Page) -> tuple[datetime, datetime]:
    start, end = address(page)["range"][0].split("..")
    return datetime.fromisoformat(start), datetime.fromisoformat(end)


def stamp(at: datetime) -> str:
    return at.isoformat(timespec="milliseconds").replace("+00:00", "").removesuffix(".000")


def changed(page: Page, before: tuple[datetime, datetime]) -> tuple[datetime, datetime]:
    """The range once it is another."""
    page.wait_for_function("before => !new URL(location.href).searchParams.get('range')?.startsWith(before)", arg=stamp(before[0]))
    return reach(page)


def go_to(page: Page, text: str) -> None:
    open_time(page)
    page.keyboard.type(text)
    page.keyboard.press("Enter")


def test_a_time_is_typed_and_what_is_none_is_refused(page: Page, instance: Instance) -> None:
    before = reach(page)
    open_time(page)
    page.keyboard.type("soon")
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("This is no time. Write 14:05")
    assert reach(page) == before
    middle = before[0] + timedelta(hours=2)
    page.get_by_role("textbox", name="Go to").fill(f"{middle:%Y-%m-%d %H:%M}")
    page.keyboard.press("Enter")
    expect(page.get_by_role("textbox", name="Go to")).to_have_count(0)
    start, end = changed(page, before)
    assert end - start == before[1] - before[0]
    assert abs((start + (end - start) / 2) - middle.replace(second=0, microsecond=0)) <= timedelta(minutes=1)
    go_to(page, f"{middle:%Y-%m-%d %H:%M} – {middle + timedelta(minutes=20):%H:%M}")
    stretch = changed(page, (start, end))
    assert stretch[1] - stretch[0] == timedelta(minutes=20)


def test_presets_steps_and_back_to_live(page: Page) -> None:
    start, end = reach(page)
    page.keyboard.press(",")
    earlier = changed(page, (start, end))
    assert abs((start - earlier[0]) - (end - start)) < timedelta(minutes=1)
    page.get_by_role("button", name="Forth by the length of the range").click()
    again = changed(page, earlier)
    assert abs(again[0] - start) < timedelta(minutes=1)
    page.keyboard.press("+")
    nearer = changed(page, again)
    assert abs((nearer[1] - nearer[0]) * 2 - (again[1] - again[0])) < timedelta(minutes=2)
    open_time(page)
    page.get_by_role("button", name="2 days").click()
    page.wait_for_url(re.compile("last=2d"))
    assert "range" not in address(page)
    expect(page.locator("[data-time-control]")).to_have_text("last 2 d")
    page.keyboard.press("l")
    page.wait_for_function("() => !location.search.includes('last=')")


def test_the_wheel_zooms_only_with_a_modifier(page: Page) -> None:
    before = reach(page)
    box = page.get_by_role("group", name=re.compile("Time ribbon")).bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + 600, box["y"] + 50)
    page.mouse.wheel(0, -300)
    expect(page.locator("[data-time-control]")).to_have_text("6 h")
    assert reach(page) == before
    page.keyboard.down("Alt")
    page.mouse.wheel(0, -300)
    page.keyboard.up("Alt")
    nearer = changed(page, before)
    assert nearer[1] - nearer[0] < before[1] - before[0]


def test_windows_outside_of_the_range_are_arrows_that_lead_there(page: Page) -> None:
    expect(page.get_by_role("slider", name="reference window")).to_be_visible()
    page.keyboard.press("e")
    page.keyboard.press("ArrowLeft")  # both are chosen now, and stay where they are
    page.keyboard.press("w")
    page.keyboard.press("ArrowLeft")
    start, end = reach(page)
    go_to(page, f"{start:%Y-%m-%d %H:%M} – {start + timedelta(minutes=40):%H:%M}" if start.hour < 23 else f"{start:%Y-%m-%d %H:%M}")
    arrow = page.get_by_role("button", name=re.compile("^focus .* after what is shown"))
    expect(arrow).to_be_visible()
    arrow.click()
    expect(page.get_by_role("slider", name="focus window")).to_be_visible()
    assert reach(page)[1] > end - timedelta(hours=1)


def test_single_keys_can_be_switched_off(page: Page) -> None:
    page.keyboard.press("?")
    page.get_by_role("switch", name="Single keys act").click()
    page.keyboard.press("Escape")
    page.keyboard.press("t")
    expect(page.get_by_role("textbox", name="Go to")).to_have_count(0)
    page.reload()
    expect(page.locator("tr[data-service]").first).to_be_visible()
    page.keyboard.press("t")
    expect(page.get_by_role("textbox", name="Go to")).to_have_count(0)


@pytest.mark.parametrize("zone", ["America/New_York", "Asia/Kathmandu"])
def test_everything_obeys_one_zone(chromium: Browser, instance: Instance, zone: str) -> None:
    """Labels of the ribbon, axes, lists and the server's sentences; and all of them in UTC after one switch."""
    api = Api(instance)
    ribbon = ask(api, "/api/ribbon", environment="production", **whole(instance))
    question = {"service": "quay-web", "signal": "latency", "focus": ribbon["focus"], "reference": ribbon["reference"]}
    answer = api.post("/api/inquiries", question)[1]
    onset = datetime.fromisoformat(answer["onset"]["at"])
    told = next(evidence["text"] for evidence in answer["candidates"][0]["evidence"] if evidence["kind"] == "change")
    change = datetime.fromisoformat(re.search(r"[\d-]{10}T[\d:]{8}Z", told)[0])  # type: ignore[index]
    with signed_in(chromium, instance, zone) as page:
        page.goto(f"{instance.url}/inquiries/{answer['id']}?environment=production")
        main = page.get_by_role("main")
        for name in (zone, "UTC"):
            local = ZoneInfo(name)
            expect(main).to_contain_text(f"since {onset.astimezone(local):%H:%M:%S}")
            expect(main).to_contain_text(f"{change.astimezone(local):%H:%M:%S}")
            focus = datetime.fromisoformat(answer["focus"]["from"]).astimezone(local)
            expect(page.locator("[data-window=focus]")).to_contain_text(f"{focus:%H:%M}")
            if name != "UTC":
                page.keyboard.press("t")
                page.get_by_role("radio", name="UTC", exact=True).click()
                page.keyboard.press("Escape")
        offset = page.evaluate("localStorage.getItem('wirbel.zone')")
        assert offset == "utc"


def send_ten_minutes(instance: Instance, environment: str, end: int) -> None:
    """A program of one service, which slows down in its last minutes."""
    rng = np.random.default_rng(3)
    spans = []
    for at in np.sort(rng.uniform(end - 10 * MINUTE_NS, end, 900)).astype(np.int64):
        slow = at > end - 3 * MINUTE_NS
        took = int(rng.lognormal(3, 0.2) * 1e6 * (4 if slow else 1))
        spans.append({"name": "GET /tide", "start_time_unix_nano": int(at) - took, "end_time_unix_nano": int(at)})
    resource = {"service.name": f"tide-table-{environment}", "deployment.environment.name": environment}
    status, answer, _ = instance.post("/v1/traces", request(*spans, resource=resource).SerializeToString())
    assert status == 200, answer


def test_the_first_hour_of_a_team(page: Page, instance: Instance) -> None:
    """The range fits what there is, in steps of ten seconds, and it can be asked about at once."""
    send_ten_minutes(instance, "first-hour", time.time_ns())
    page.goto(f"{instance.url}/?environment=first-hour")
    row = page.locator("tr[data-service='tide-table-first-hour']")
    expect(row).to_be_visible()
    expect(page.get_by_text("all there is")).to_be_visible()
    ribbon = ask(Api(instance), "/api/ribbon", environment="first-hour")
    assert ribbon["step_s"] == 10
    assert ribbon["is_all"]
    start, end = (datetime.fromisoformat(ribbon[name]) for name in ("start", "end"))
    assert timedelta(minutes=9) < end - start < timedelta(minutes=16)
    first, last = (datetime.fromisoformat(ribbon[window][edge]) for window, edge in (("reference", "start"), ("focus", "end")))
    assert start <= first
    assert last <= end
    expect(page.get_by_role("heading", level=1)).to_have_text("It is too early to say what is normal.")
    expect(page.locator("[data-window=focus]")).to_contain_text("now")
    steps = page.get_by_role("region", name="First steps")
    expect(steps.locator("[data-step=traces]")).to_contain_text("arrive, the newest of")
    expect(steps.locator("[data-step=hosts]")).to_contain_text("none yet")
    steps.locator("[data-step=changes]").get_by_role("button", name="how to send").click()
    expect(steps).to_contain_text(f"curl {instance.url}/v1/changes")
    row.get_by_role("link").click()
    page.get_by_role("button", name="Find cause", exact=True).click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("Why is tide-table-first-hour")


def test_data_that_ended_is_not_called_now(page: Page, instance: Instance) -> None:
    send_ten_minutes(instance, "ended", time.time_ns() - 18 * MINUTE_NS)
    page.goto(f"{instance.url}/?environment=ended")
    expect(page.get_by_text(re.compile(r"no data for 1[6-9] min"))).to_be_visible()
    ribbon = ask(Api(instance), "/api/ribbon", environment="ended")
    newest, ends = (datetime.fromisoformat(at) for at in (ribbon["newest"], ribbon["focus"]["end"]))
    assert ends <= newest + timedelta(minutes=1)
    label = page.locator("[data-window=focus]")
    expect(label).to_be_visible()
    expect(label).not_to_contain_text("now")


def test_figures_of_data_that_ended_long_ago_are_of_the_time_when_it_was_there(page: Page, instance: Instance) -> None:
    """Not of all the time since then, which would make a rate of nothing and a focus of weeks."""
    send_ten_minutes(instance, "long-ago", time.time_ns() - 20 * 24 * 60 * MINUTE_NS)
    while not (ribbon := ask(Api(instance), "/api/ribbon", environment="long-ago"))["newest"]:
        time.sleep(0.2)
    with page.expect_request("**/api/overview?*environment=long-ago*") as asked:
        page.goto(f"{instance.url}/?environment=long-ago")
    [focus_to] = parse_qs(urlparse(asked.value.url).query)["focus_to"]
    assert datetime.fromisoformat(focus_to) == datetime.fromisoformat(ribbon["focus"]["end"])
    expect(page.locator("tr[data-service]")).to_be_visible()


NOT_NOW_AND_THEN = "const every = window.setInterval; window.setInterval = (what, ms, ...more) => (ms === 15000 ? 0 : every(what, ms, ...more));"


def test_what_is_stored_while_a_page_opens_is_seen(page: Page, instance: Instance) -> None:
    """Nobody tells of what came after the first answer and before the line to the server was open."""
    send_ten_minutes(instance, "just-before", time.time_ns() - 20 * MINUTE_NS)
    while ask(Api(instance), "/api/ribbon", environment="just-before")["newest"] is None:
        time.sleep(0.2)
    asked: list[str] = []

    def before_it_came(route: Route) -> None:
        answer = route.fetch()
        asked.append(route.request.url)
        route.fulfill(response=answer, json={**answer.json(), "newest": None} if len(asked) == 1 else answer.json())

    other = page.context.new_page()  # the line is open already: it is told anew only to whoever opens it
    other.route("**/api/ribbon?*environment=just-before*", before_it_came)
    other.add_init_script(NOT_NOW_AND_THEN)
    page.goto(instance.url)
    expect(page.get_by_text("live", exact=True)).to_be_visible()
    other.goto(f"{instance.url}/?environment=just-before")
    expect(other.get_by_text(re.compile(r"no data for (19|2\d) min"))).to_be_visible()
    assert len(asked) > 1
