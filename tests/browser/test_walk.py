"""The way of the work in a real browser, with the mouse and with the keyboard alone; what it shows is what the API says."""

from __future__ import annotations

import re
import time
from datetime import datetime
from urllib.parse import urlparse
from zoneinfo import ZoneInfo

from playwright.sync_api import Browser, Page, Route, expect

from tests.api_client import Api
from tests.browser.conftest import sign_in
from tests.builders import request
from tests.conftest import Instance
from tests.server.test_api import ask, whole
from tests.server.test_roles import PASSWORD, person


def windows_in_force(page: Page) -> dict[str, float]:
    return {
        name: float(page.get_by_role("slider", name=name, exact=True).get_attribute("aria-valuenow") or 0)
        for name in ("focus start", "focus end", "reference start", "reference end")
    }


def as_shown(sentence: str, zone: str = "UTC") -> str:
    """A sentence of the API with its times as a screen in that zone has them: with the day, where that is another one there."""
    local = ZoneInfo(zone)

    def shown(found: re.Match[str]) -> str:
        at = datetime.fromisoformat(found[0]).astimezone(local)
        return f"{at:%H:%M:%S}" if at.date() == datetime.now(local).date() else f"{at:%Y-%m-%d %H:%M:%S}"

    return re.sub(r"[\d-]{10}T[\d:]{8}Z", shown, sentence)


def test_by_mouse_from_the_overview_to_one_trace(page: Page, instance: Instance, chromium: Browser) -> None:
    api = Api(instance)
    rows = page.locator("tr[data-service]")
    expect(rows).to_have_count(12)
    ribbon = ask(api, "/api/ribbon", environment="production", **whole(instance))
    query = {
        "focus_from": ribbon["focus"]["start"],
        "focus_to": ribbon["focus"]["end"],
        "reference_from": ribbon["reference"]["start"],
        "reference_to": ribbon["reference"]["end"],
    }
    overview = ask(api, "/api/overview", environment="production", **query, **whole(instance))
    assert [rows.nth(n).get_attribute("data-service") for n in range(12)] == [row["service"] for row in overview["services"]]
    expect(page.get_by_role("heading", level=1)).to_have_text(overview["sentence"])
    worst = overview["services"][0]
    assert float(rows.first.locator("[data-p95]").get_attribute("data-p95") or 0) == worst["focus"]["p95"]
    expect(rows.first.locator("[data-p95]")).to_have_text(f"{worst['focus']['p95'] * 1000:.0f} ms")

    rows.first.get_by_role("link", name="quay-web").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("quay-web")
    for chart in ("Requests/s by outcome", "Latency percentiles with the expected band of p95", "Share of requests that failed"):
        expect(page.get_by_role("img", name=chart)).to_be_visible()
    outcomes = page.get_by_role("img", name="Requests/s by outcome").locator("path[data-rate]")
    fills = {one.get_attribute("data-rate"): one.evaluate("path => getComputedStyle(path).fill") for one in outcomes.all()}
    assert set(fills) == {"ok", "client error", "error"}
    assert len({*fills.values(), "rgb(0, 0, 0)"}) == 4, fills
    logs = page.get_by_role("img", name="Log records/s by severity").locator("path[data-rate]")
    expect(logs).to_have_count(3)
    assert {one.get_attribute("data-rate") for one in logs.all()} == {"error", "warning", "lower"}
    page.get_by_role("button", name="find cause at POST /reservations").click()
    expect(page.get_by_role("heading", level=1)).to_have_text(re.compile("Why is quay-web POST /reservations slow"))
    identity = urlparse(page.url).path.rsplit("/", 1)[1]
    answer = api.get(f"/api/inquiries/{identity}")[1]
    first = page.get_by_role("article", name="Candidate 1")
    expect(first).to_contain_text(re.compile(r"berth-planner 4\.8\.0 calls berths at berth-db [\d.]+ times as often"))
    for evidence in answer["candidates"][0]["evidence"]:
        expect(first).to_contain_text(as_shown(evidence["text"]))
    expect(page.get_by_role("region", name="What changed")).to_contain_text("not involved")
    expect(page.get_by_role("region", name="Over-represented values")).to_contain_text("4.8.0")
    # An ellipsis may cut a long value, never hide a short one.
    cell = page.get_by_role("region", name="Over-represented values").locator("td", has_text="berth-planner service.version").first
    assert cell.locator(".truncate").evaluate_all("boxes => boxes.length > 0 && boxes.every(box => box.scrollWidth <= box.clientWidth)")

    abroad = chromium.new_context(timezone_id="Asia/Kolkata", storage_state=page.context.storage_state()).new_page()
    abroad.goto(page.url)
    told = abroad.get_by_role("article", name="Candidate 1")
    dated = [evidence["text"] for evidence in answer["candidates"][0]["evidence"] if "Z" in evidence["text"]]
    assert dated
    for text in dated:
        expect(told).to_contain_text(as_shown(text, "Asia/Kolkata"))
    abroad.context.close()

    page.get_by_role("link", name="A slow request beside a normal one").click()
    expect(page.get_by_text("A normal one", exact=True)).to_be_visible()
    trace = urlparse(page.url).path.rsplit("/", 1)[1]
    assert trace == answer["examples"]["slow"]["trace"]
    spans = page.get_by_role("treeitem")
    spans.nth(4).click()
    view = ask(api, f"/api/traces/{trace}", span=answer["examples"]["slow"]["span"])["this"]
    expect(page.locator("aside[data-span]")).to_have_attribute("data-span", view["spans"]["span"][4])
    expect(page.get_by_text("one after another")).to_be_visible()
    page.go_back()
    expect(first).to_be_visible()
    page.get_by_role("region", name="All parts").get_by_role("link", name="berth-planner calls berths at berth-db").first.click()
    expect(page.get_by_text("A normal one", exact=True)).to_be_visible()
    assert urlparse(page.url).path.rsplit("/", 1)[1] == answer["contributions"][0]["example"]["trace"]


def test_by_keyboard_alone(page: Page) -> None:
    keyboard = page.keyboard
    keyboard.press("/")
    keyboard.type("quay")
    expect(page.get_by_role("option", name="service quay-web")).to_be_visible()
    keyboard.press("Enter")
    expect(page.get_by_role("heading", level=1)).to_contain_text("quay-web")
    keyboard.press("x")
    expect(page.get_by_role("article", name="Candidate 1")).to_contain_text("berth-planner")
    link = page.get_by_role("link", name="A slow request beside a normal one")
    for _ in range(60):
        keyboard.press("Tab")
        if link.evaluate("element => element === document.activeElement"):
            break
    keyboard.press("Enter")
    tree = page.get_by_role("tree", name="Spans")
    expect(tree).to_be_visible()
    for _ in range(60):
        keyboard.press("Tab")
        if tree.evaluate("element => element === document.activeElement"):
            break
    before = page.locator("aside[data-span]").get_attribute("data-span")
    keyboard.press("ArrowDown")
    expect(page.locator("aside[data-span]")).not_to_have_attribute("data-span", before or "")


def test_windows_move_by_keyboard_and_go_back_to_the_proposed_ones(page: Page) -> None:
    proposed = windows_in_force(page)
    page.get_by_role("slider", name="focus start").focus()
    page.keyboard.press("ArrowLeft")
    expect(page.get_by_role("slider", name="focus start")).to_have_attribute("aria-valuenow", str(int(proposed["focus start"] - 60_000)))
    expect(page).to_have_url(re.compile("[?&]focus="))  # which follows the screen a little later
    page.keyboard.press("p")
    expect(page.get_by_role("slider", name="focus start")).to_have_attribute("aria-valuenow", str(int(proposed["focus start"])))
    expect(page).not_to_have_url(re.compile("[?&]focus="))
    page.keyboard.press("e")
    page.keyboard.press("Shift+ArrowLeft")
    expect(page.get_by_role("slider", name="reference start")).to_have_attribute("aria-valuenow", str(int(proposed["reference start"] - 600_000)))


def test_a_window_can_be_dragged(page: Page) -> None:
    proposed = windows_in_force(page)
    handle = page.get_by_role("slider", name="reference start")
    box = handle.bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + 5, box["y"] + 20)
    page.mouse.down()
    page.mouse.move(box["x"] - 60, box["y"] + 20, steps=5)
    page.mouse.up()
    expect(page.get_by_role("button", name="reset windows")).to_be_visible()
    moved = windows_in_force(page)
    assert moved["reference start"] < proposed["reference start"] - 10 * 60_000
    assert moved["reference end"] == proposed["reference end"]
    page.get_by_role("button", name="reset windows").click()
    expect(handle).to_have_attribute("aria-valuenow", str(int(proposed["reference start"])))


def test_a_stretch_of_a_chart_can_be_asked_about(page: Page) -> None:
    page.locator("tr[data-service=quay-web]").get_by_role("link", name="quay-web").click()
    chart = page.get_by_role("img", name="Latency percentiles with the expected band of p95")
    box = chart.bounding_box()
    assert box is not None
    # The last twenty minutes of six hours.
    right = box["x"] + box["width"] - 36
    page.mouse.move(right - 36, box["y"] + 90)
    page.mouse.down()
    page.mouse.move(right, box["y"] + 90, steps=4)
    page.mouse.up()
    page.get_by_role("menuitem", name="find cause").click()
    expect(page.get_by_role("article", name="Candidate 1")).to_contain_text("berth-planner")


def test_conditions_that_hide_everything_are_named_and_can_be_removed(page: Page) -> None:
    page.locator("tr[data-service=quay-web]").get_by_role("link", name="quay-web").click()
    page.get_by_role("main").get_by_role("link", name="Traces", exact=True).click()
    expect(page.locator("table[aria-label=Requests] tbody tr")).to_have_count(100)
    page.goto(page.url + "&version=0.0")
    expect(page.get_by_text("Without version there are some")).to_be_visible()
    page.get_by_role("button", name="remove version 0.0").click()
    expect(page.locator("table[aria-label=Requests] tbody tr")).to_have_count(100)


def test_day_and_night_and_sign_out(page: Page) -> None:
    ground = "getComputedStyle(document.body).backgroundColor"
    assert page.evaluate(ground) == "rgb(244, 241, 232)"
    page.get_by_role("button", name="skipper").click()
    page.get_by_role("menuitem", name="Night colours").click()
    assert page.evaluate(ground) == "rgb(16, 25, 29)"
    page.reload()
    expect(page.locator("tr[data-service]").first).to_be_visible()
    assert page.evaluate(ground) == "rgb(16, 25, 29)"
    page.get_by_role("button", name="skipper").click()
    page.get_by_role("menuitem", name="Sign out").click()
    expect(page.get_by_role("button", name="Sign in")).to_be_visible()


def test_a_wrong_password_is_told(page: Page, instance: Instance) -> None:
    page.context.clear_cookies()
    page.goto(instance.url)
    page.get_by_label("Name").fill("skipper")
    page.get_by_label("Password").fill("wrong")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("alert")).to_have_text("Name or password is wrong.")


def test_nothing_comes_from_elsewhere(page: Page, instance: Instance) -> None:
    """Fonts, styles and scripts ship with the application."""
    asked: list[str] = []
    page.on("request", lambda request: asked.append(request.url))
    page.reload()
    expect(page.locator("tr[data-service]").first).to_be_visible()
    assert asked
    assert all(url.startswith((instance.url, "data:")) for url in asked)
    assert page.evaluate("document.fonts.check('13px \"Atkinson Hyperlegible Next\"')")


def test_a_service_that_starts_sending_appears_by_itself(page: Page, instance: Instance) -> None:
    """Within 5 s, with nothing pressed: the open page hears of what was stored."""
    now = time.time_ns()
    page.goto(f"{instance.url}/?environment=harbour-office")
    span = {"name": "GET /berths", "start_time_unix_nano": now - 40 * 10**6, "end_time_unix_nano": now}
    resource = {"service.name": "late-arrival", "deployment.environment.name": "harbour-office"}
    expect(page.get_by_text("Nothing was sent in this time").or_(page.get_by_text("Nothing has been sent yet"))).to_be_visible()
    status, answer, _ = instance.post("/v1/traces", request(*[span] * 3, resource=resource).SerializeToString())
    assert status == 200, answer
    expect(page.locator("tr[data-service='late-arrival']")).to_be_visible(timeout=5_000)


def test_of_a_service_that_is_seldom_asked_each_minute_is_seen(page: Page, instance: Instance) -> None:
    """A line through values beside each other would show none of them."""
    answered = Api(instance)
    with page.expect_response("**/api/services/timetable-import?*") as told:
        page.locator("tr[data-service='timetable-import']").get_by_role("link").first.click()
    charts = answered.get(told.value.url.removeprefix(instance.url))[1]["charts"]
    drawn = page.get_by_role("img", name="Latency percentiles with the expected band of p95").locator("path[data-dots]")
    expect(drawn).to_have_count(len(charts["latency"]))
    for one, path in zip(charts["latency"], drawn.all(), strict=True):
        known = [value is not None for value in [None, *one["values"], None]]
        alone = sum(here and not before and not after for before, here, after in zip(known, known[1:], known[2:], strict=False))
        assert alone > 0
        assert int(path.get_attribute("data-dots") or 0) == alone


def test_requests_are_split_and_one_value_is_kept(page: Page, instance: Instance) -> None:
    """From a slow service's requests to those of its new version; the table shows what the API computed."""
    page.locator("tr[data-service=berth-planner]").get_by_role("link", name="berth-planner").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("berth-planner")
    page.get_by_role("main").get_by_role("link", name="Traces", exact=True).click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Requests at berth-planner")
    split = page.get_by_role("region", name="Split")
    split.get_by_label("split by").select_option("service.version")
    first = split.locator("tbody tr").first
    expect(first).to_have_attribute("data-value", "4.8.0")
    ribbon = ask(Api(instance), "/api/ribbon", environment="production", service="berth-planner", **whole(instance))
    query = {f"{name}_{end}": ribbon[name][{"from": "start", "to": "end"}[end]] for name in ("focus", "reference") for end in ("from", "to")}
    page.wait_for_url(re.compile("split=service.version"))
    expect(first).to_contain_text("+")
    first.get_by_role("button", name="keep only service.version 4.8.0").click()
    expect(page.get_by_role("button", name="remove service.version 4.8.0")).to_be_visible()
    expect(page.locator("tbody tr", has_text="4.7.3")).to_have_count(0)
    assert "carrying" in page.url
    found = ask(Api(instance), "/api/breakdown", by="service.version", service="berth-planner", environment="production", **query)
    assert found["rows"][0]["value"] == "4.8.0"
    page.get_by_role("button", name="remove service.version 4.8.0").click()
    expect(split.locator("tbody tr")).to_have_count(2)


def test_a_long_question_can_be_stopped_and_asked_again(page: Page, instance: Instance) -> None:
    """The server's answer is held back; Stop ends the request, Ask again makes a new one."""
    held = []
    page.route("**/api/breakdown*", lambda route: held.append(route))
    page.goto(page.url.replace("/?", "/traces?service=quay-web&split=operation&"))
    region = page.get_by_role("region", name="Split")
    expect(region).to_contain_text("Still reading requests by operation")
    with page.expect_event("requestfailed", lambda request: "/api/breakdown" in request.url):
        region.get_by_role("button", name="Stop").click()
    expect(region).to_contain_text("Stopped.")
    page.unroute("**/api/breakdown*")
    region.get_by_role("button", name="Ask again").click()
    expect(region.locator("tbody tr").first).to_be_visible()


def test_figures_that_are_some_seconds_old_are_said_to_be(page: Page) -> None:
    def older(route: Route) -> None:
        answer = route.fetch()
        route.fulfill(response=answer, headers={**answer.headers, "age": "9"})

    page.route("**/api/overview*", older)
    page.reload()
    expect(page.get_by_text("figures 9 s old")).to_be_visible()


def test_a_person_changes_their_password(page: Page, instance: Instance) -> None:
    person(instance, "changer", "reader")
    page.context.clear_cookies()
    page.goto(instance.url)
    sign_in(page, "changer", PASSWORD)
    page.get_by_role("button", name="changer").click()
    page.get_by_role("menuitem", name="Change password").click()
    dialog = page.get_by_role("dialog", name="Change your password")
    dialog.get_by_label("Current password").fill(PASSWORD)
    dialog.get_by_label("New password").fill("short")
    dialog.get_by_role("button", name="Change it").click()
    expect(dialog.get_by_role("alert")).to_contain_text("at least 12")
    dialog.get_by_label("New password").fill("seven lights of the east")
    page.keyboard.press("Enter")
    expect(dialog).to_be_hidden()
    expect(page.get_by_text("Your password was changed; your other sessions have ended.", exact=True)).to_be_visible()
    page.get_by_role("button", name="changer").click()
    page.get_by_role("menuitem", name="Sign out").click()
    sign_in(page, "changer", "seven lights of the east")
    expect(page.get_by_role("button", name="changer")).to_be_visible()
