"""Nothing on a screen belongs to another question than the one that was asked."""

from __future__ import annotations

from urllib.parse import parse_qs, urlparse

import pytest
from playwright.sync_api import Page, Route, expect

from tests.api_client import Api
from tests.browser.conftest import sign_in
from tests.browser.test_walk import windows_in_force
from tests.conftest import Instance
from tests.server.test_api import ask, whole
from tests.server.test_roles import PASSWORD, person


def address(page: Page) -> dict[str, list[str]]:
    return parse_qs(urlparse(page.url).query)


def open_service(page: Page, name: str) -> None:
    page.locator(f"tr[data-service={name}]").get_by_role("link", name=name).click()
    expect(page.get_by_role("heading", level=1)).to_contain_text(name)


def inquiry(instance: Instance) -> dict:
    api = Api(instance)
    ribbon = ask(api, "/api/ribbon", environment="production", **whole(instance))
    return api.post("/api/inquiries", {"service": "quay-web", "signal": "latency", "focus": ribbon["focus"], "reference": ribbon["reference"]})[1]


def test_a_jump_carries_the_frame_and_nothing_else(page: Page, instance: Instance) -> None:
    page.goto(page.url.replace("/?", "/traces?service=quay-web&outcome=ok&order=fastest&carrying=http.route%3D%2Fsailings&"))
    expect(page.get_by_role("heading", level=1)).to_have_text("Requests at quay-web")
    page.locator("table[aria-label=Requests] a").first.click()
    expect(page.locator("main").get_by_text("where the time passed")).to_be_visible()
    assert set(address(page)) == {"span", "environment", "range"}
    page.get_by_role("link", name="Services").click()
    expect(page.get_by_role("region", name="All services")).to_be_visible()
    assert address(page) == {"environment": ["production"], "range": [f"{whole(instance)['start']}..{whole(instance)['end']}"]}


def test_old_figures_are_marked_while_new_ones_are_read(page: Page) -> None:
    open_service(page, "quay-web")
    expect(page.get_by_role("region", name="Requests/s by outcome")).to_be_visible()
    before = page.locator("tr[data-operation='POST /reservations'] td").nth(3).text_content()
    held: list[Route] = []
    page.route("**/api/services/quay-web?*", lambda route: held.append(route))
    page.keyboard.press("w")
    page.keyboard.press("Shift+ArrowLeft")
    note = page.get_by_role("main").get_by_role("status")
    expect(note).to_contain_text("From before; reading the charts of quay-web")
    expect(page.locator("main [aria-busy=true]")).to_have_count(1)
    assert page.locator("tr[data-operation='POST /reservations'] td").nth(3).text_content() == before
    expect(page.get_by_role("button", name="Find cause", exact=True)).to_have_count(0)  # which would it be of
    note.get_by_role("button", name="Stop").click()
    expect(note).to_contain_text("Stopped: these figures are of the question before")
    page.unroute("**/api/services/quay-web?*")
    note.get_by_role("button", name="Ask again").click()
    expect(page.locator("main [aria-busy=true]")).to_have_count(0)
    expect(page.get_by_role("button", name="Find cause", exact=True)).to_be_visible()


def test_one_service_is_never_shown_under_the_name_of_another(page: Page) -> None:
    open_service(page, "quay-web")
    expect(page.get_by_role("region", name="Requests/s by outcome")).to_be_visible()
    page.route("**/api/services/sailing-api?*", lambda _route: None)
    page.locator("table", has_text="calls a request").get_by_role("link", name="sailing-api").first.click()
    expect(page.get_by_role("main")).to_contain_text("Still reading the charts of sailing-api")
    expect(page.get_by_role("region", name="Requests/s by outcome")).to_have_count(0)


def test_a_held_list_gives_way_when_windows_are_moved(page: Page) -> None:
    row = page.locator("tr[data-service=quay-web]")
    row.hover()
    shown = row.locator("[data-p95]").get_attribute("data-p95")
    page.keyboard.press("w")
    for _ in range(4):
        page.keyboard.press("Shift+ArrowLeft")
    expect(row.locator("[data-p95]")).not_to_have_attribute("data-p95", shown or "")


def test_an_inquiry_is_shown_under_its_own_windows_and_can_be_asked_again(page: Page, instance: Instance) -> None:
    made = inquiry(instance)
    page.get_by_role("link", name="Inquiries").click()
    page.locator(f"a[href*='{made['id']}']").click()
    expect(page.get_by_role("article", name="Candidate 1")).to_contain_text("berth-planner")
    expect(page.get_by_role("slider", name="focus start")).to_be_visible()

    def ms(text: str) -> int:
        return int(page.evaluate("Date.parse", text))

    of_inquiry = {f"{name} {edge}": ms(made[name][key]) for name in ("focus", "reference") for edge, key in (("start", "from"), ("end", "to"))}
    assert windows_in_force(page) == of_inquiry
    page.keyboard.press("w")
    page.keyboard.press("Shift+ArrowLeft")
    note = page.get_by_role("main").get_by_role("status")
    expect(note).to_contain_text("not those of this inquiry")
    note.get_by_role("button", name="back to the inquiry's windows").click()
    expect(note).to_have_count(0)
    page.get_by_role("slider", name="focus end").press("Shift+ArrowLeft")
    expect(note).to_contain_text("not those of this inquiry")
    moved = windows_in_force(page)
    note.get_by_role("button", name="Ask again with these windows").click()
    page.wait_for_url(lambda url: "/inquiries/" in url and made["id"] not in url)
    expect(page.get_by_role("article", name="Candidate 1")).to_be_visible()
    again = Api(instance).get("/api/inquiries/" + page.url.split("/inquiries/")[1].split("?")[0])[1]
    assert ms(again["focus"]["to"]) == moved["focus end"]
    expect(page.get_by_role("slider", name="focus end")).to_have_attribute("aria-valuenow", str(int(moved["focus end"])))
    assert windows_in_force(page) == moved


def test_what_is_open_beside_an_inquiry_has_its_windows(page: Page, instance: Instance) -> None:
    made = inquiry(instance)
    page.goto(f"{instance.url}/inquiries/{made['id']}?environment=production")
    expect(page.get_by_role("slider", name="focus start")).to_be_visible()
    windows = windows_in_force(page)
    page.get_by_role("link", name="Overview").click()
    expect(page.locator("tr[data-service]").first).to_be_visible()
    assert windows_in_force(page) == windows


def test_an_inquiry_in_the_making_says_so_and_can_be_stopped(page: Page) -> None:
    page.route("**/api/inquiries", lambda _route: None)
    page.get_by_role("button", name="Find cause", exact=True).click()
    told = page.get_by_role("main").get_by_role("status")
    expect(told).to_contain_text("Reading traces, metrics, logs and changes… 1 s")
    with page.expect_event("requestfailed", lambda request: request.url.endswith("/api/inquiries")):
        told.get_by_role("button", name="Stop").click()
    expect(page.get_by_role("button", name="Find cause", exact=True)).to_be_visible()
    assert "/inquiries" not in page.url


def test_who_may_only_read_is_not_offered_inquiries_nor_what_is_steady(page: Page, instance: Instance) -> None:
    open_service(page, "identity")
    expect(page.get_by_role("heading", level=1)).to_contain_text("steady")
    expect(page.get_by_role("button", name="Find cause")).to_have_count(0)
    person(instance, "reader", "reader")
    page.context.clear_cookies()
    page.goto(page.url.replace("identity", "quay-web"))
    sign_in(page, "reader", PASSWORD)
    expect(page.get_by_role("heading", level=1)).to_contain_text("quay-web slow")
    expect(page.get_by_role("button", name="Find cause")).to_have_count(0)


def test_a_session_that_ended_leads_to_sign_in_and_back(page: Page, instance: Instance) -> None:
    open_service(page, "berth-planner")
    where = page.url
    page.context.clear_cookies()
    page.keyboard.press("w")
    page.keyboard.press("ArrowLeft")
    expect(page.get_by_text("Your session has ended.")).to_be_visible()
    sign_in(page, instance.name, instance.password)
    expect(page.get_by_role("heading", level=1)).to_contain_text("berth-planner")
    assert urlparse(page.url).path == urlparse(where).path
    assert set(address(page)) == {"environment", "range", "focus"}


@pytest.mark.parametrize(
    ("path", "text"), [("/", "sorted by priority"), ("/intake", "What arrives"), ("/changes", "berth-planner"), ("/inquiries", "Inquiries")]
)
def test_no_ribbon_does_not_mean_no_view(page: Page, path: str, text: str) -> None:
    page.route("**/api/ribbon*", lambda route: route.fulfill(status=400, json={"detail": "the ribbon is away"}))
    page.goto(page.url.replace("/?", f"{path}?"))
    expect(page.get_by_text("No ribbon: the ribbon is away")).to_be_visible()
    expect(page.get_by_role("main").get_by_text(text).first).to_be_visible()


def test_a_copied_link_shows_exactly_this(page: Page, instance: Instance) -> None:
    """Live, with proposed windows: the link says both, and the view's own state."""
    page.context.grant_permissions(["clipboard-read", "clipboard-write"])
    page.goto(f"{instance.url}/traces?environment=production&service=quay-web&order=fastest&range={whole(instance)['start']}..{whole(instance)['end']}")
    expect(page.get_by_role("slider", name="focus start")).to_be_visible()
    windows = windows_in_force(page)
    page.get_by_role("button", name="skipper").click()
    page.get_by_role("menuitem", name="Copy link to exactly this").click()
    expect(page.get_by_text("The link was copied").first).to_be_visible()
    page.goto(page.evaluate("navigator.clipboard.readText()"))
    assert set(address(page)) == {"environment", "service", "order", "range", "focus", "reference"}
    expect(page.get_by_role("heading", level=1)).to_have_text("Requests at quay-web")
    assert windows_in_force(page) == windows


def test_windows_that_were_reset_can_be_brought_back(page: Page) -> None:
    page.keyboard.press("w")
    page.keyboard.press("Shift+ArrowLeft")
    page.wait_for_url(lambda url: "focus=" in url)
    chosen = address(page)["focus"]
    page.get_by_role("button", name="reset windows").click()
    expect(page.get_by_role("button", name="reset windows")).to_have_count(0)
    page.get_by_role("button", name="Undo").click()
    page.wait_for_url(lambda url: "focus=" in url)
    assert address(page)["focus"] == chosen
