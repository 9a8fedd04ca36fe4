"""The Intake view by hand: a token made, used and revoked; a rule that leaves records out and shows them; what was refused."""

from __future__ import annotations

import re
import time
from dataclasses import replace

from playwright.sync_api import Page, Route, expect

from tests.api_client import Api
from tests.conftest import Instance
from tests.core import test_otlp_logs as log_requests
from tests.server.test_roles import person


def send(instance: Instance, *records: dict) -> int:
    return instance.post("/v1/logs", log_requests.request(*records, resource={"service.name": "buoy"}))[0]


def now() -> dict[str, int]:
    return {"time_unix_nano": time.time_ns()}


def test_a_token_is_made_used_and_revoked(page: Page, instance: Instance) -> None:
    page.get_by_role("link", name="Intake").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text(re.compile("records a second arrive|Nothing has arrived"))
    page.get_by_label("Name of a new token").fill("buoy sender")
    page.get_by_label("Records a minute").fill("1000")
    page.get_by_role("button", name="Make a token").click()
    shown = page.get_by_role("status")
    expect(shown).to_contain_text("not shown again")
    secret = (shown.locator("code").text_content() or "").strip()
    sender = replace(instance, token=secret)
    assert send(sender, {"body": "ahoy", **now()}) == 200
    row = page.get_by_role("region", name="Tokens").get_by_role("row", name="buoy sender")
    expect(row).to_contain_text("at most 1\u202f000 a minute")
    expect(row).to_contain_text("used")
    expect(page.locator("tr[data-sender=buoy]")).to_be_visible()
    logs = page.locator("tr[data-signal=logs] [data-rows]")
    state = Api(instance).get("/api/intake")[1]
    assert int(logs.get_attribute("data-rows") or 0) == next(one["rows"] for one in state["signals"] if one["signal"] == "logs") > 0

    page.get_by_role("button", name="revoke buoy sender").click()
    page.get_by_role("alertdialog").get_by_role("button", name="Cancel").click()
    assert send(sender, {"body": "still here", **now()}) == 200
    page.get_by_role("button", name="revoke buoy sender").click()
    page.get_by_role("alertdialog", name="Revoke buoy sender?").get_by_role("button", name="Revoke").click()
    expect(page.get_by_role("button", name="revoke buoy sender")).to_have_count(0)
    deadline = time.monotonic() + 10  # each of the server's processes learns of it within two seconds
    while send(sender, {"body": "still here", **now()}) != 401:
        assert time.monotonic() < deadline
    expect(page.get_by_role("region", name="Rejected")).to_contain_text("this ingest token is unknown or was revoked")


def test_that_sending_on_fails_is_seen(page: Page) -> None:
    """As the API says it, which tests/intake/test_forward.py checks."""
    sent_on = {
        "to": "collector.example", "waiting": 1204, "oldest_s": 3900.0, "sent": 88, "last_sent": "2026-11-27T10:00:00Z", "refused": 3, "refusal": "answered 401",
        "refused_at": "2026-11-27T10:00:00Z", "given_up": 0, "failing_since": "2026-11-27T10:00:05Z", "error": "answered 503",
    }  # fmt: skip

    def with_it(route: Route) -> None:
        answer = route.fetch()
        route.fulfill(response=answer, json={**answer.json(), "sent_on": sent_on})

    page.route("**/api/intake", with_it)
    page.get_by_role("link", name="Intake").click()
    shown = page.get_by_role("region", name="Sent on")
    expect(shown.get_by_role("heading")).to_contain_text("to collector.example")
    expect(shown).to_contain_text("answered 503")
    expect(shown.get_by_role("row", name="waiting")).to_contain_text("1204")
    expect(shown.get_by_role("row", name="refused there")).to_contain_text("answered 401")


def test_a_rule_leaves_records_out_and_shows_the_last(page: Page, instance: Instance) -> None:
    page.get_by_role("link", name="Intake").click()
    rules = page.get_by_role("region", name="Left out")
    rules.get_by_label("Signal").select_option("logs")
    rules.get_by_label("Attribute").fill("probe")
    rules.get_by_label("Value").fill("*")
    rules.get_by_role("button", name="Leave out").click()
    page.get_by_role("button", name="Leave them out").click()
    expect(rules.get_by_role("alert")).to_contain_text("name more of it")
    beneath, button = rules.get_by_role("alert").bounding_box(), rules.get_by_role("button", name="Leave out").bounding_box()
    assert beneath
    assert button
    assert beneath["y"] >= button["y"] + button["height"]
    rules.get_by_label("Value").fill("health*")
    rules.get_by_role("button", name="Leave out").click()
    page.get_by_role("button", name="Leave them out").click()
    rule = rules.locator("[data-rule]").filter(has_text="probe")
    expect(rule).to_contain_text("0 dropped")
    deadline = time.monotonic() + 20  # each of the server's processes learns of it within two seconds
    while re.search(r"\b0 dropped", rule.text_content() or ""):
        assert send(instance, {"body": "ping 7", "attributes": {"probe": "health check"}, **now()}, {"body": "order", **now()}) == 200
        assert time.monotonic() < deadline
        page.wait_for_timeout(200)
    expect(rule).to_contain_text(re.compile(r"[1-9]\d* dropped"))
    rule.get_by_text("the last one dropped").click()
    expect(rule).to_contain_text('"body": "ping 7"')
    rule.get_by_role("button", name="pause").click()
    expect(rule.get_by_role("button", name="resume")).to_be_visible()
    rule.get_by_role("button", name="delete the rule on probe").click()
    expect(rules.locator("[data-rule]").filter(has_text="probe")).to_have_count(0)
    page.get_by_role("button", name="Undo").click()
    expect(rules.locator("[data-rule]").filter(has_text="probe")).to_have_count(1)
    rule.get_by_role("button", name="delete the rule on probe").click()
    expect(rules.locator("[data-rule]").filter(has_text="probe")).to_have_count(0)


def test_what_to_paste_has_this_servers_address(page: Page, instance: Instance) -> None:
    page.get_by_role("link", name="Intake").click()
    how = page.get_by_role("region", name="How to send")
    expect(how.get_by_role("region")).to_contain_text(f"OTEL_EXPORTER_OTLP_ENDPOINT={instance.url}")
    how.get_by_label("Send from").select_option("a collector")
    expect(how.get_by_role("region")).to_contain_text(f"endpoint: {instance.url}")


def test_only_a_keeper_changes_set_up(instance: Instance) -> None:
    responder = person(instance, "mate", "responder")
    assert responder.get("/api/intake")[0] == 200
    assert responder.post("/api/tokens", {"name": "mine"})[0] == 403
    assert responder.post("/api/drop-rules", {"signal": "logs", "attribute": "a", "value": "b"})[0] == 403
    assert Api(instance, sign_in=False).get("/api/intake")[0] == 401
    administrator = Api(instance)
    assert administrator.post("/api/tokens", {"name": ""})[0] == 422
    assert "needs a name" in administrator.post("/api/tokens", {"name": "  "})[1]["detail"]
    assert administrator.post("/api/drop-rules", {"signal": "logs", "attribute": "x" * 201, "value": "b"}) == (
        422,
        {"detail": "attribute: string should have at most 200 characters"},
    )
    assert administrator.post("/api/drop-rules", {"signal": "smells", "attribute": "a", "value": "b"})[0] == 422


def test_how_long_is_kept_is_set_for_one_environment_and_taken_back(page: Page, instance: Instance) -> None:
    page.get_by_role("link", name="Intake").click()
    kept = page.get_by_role("region", name="How long it is kept")
    row = kept.locator('tr[data-kept="production spans"]')
    row.get_by_label("hours in full of spans in production").fill("72")
    row.get_by_role("button", name="keep so").click()
    expect(row.get_by_role("button", name="spans in production as by default")).to_be_visible()
    assert page.evaluate("document.documentElement.scrollWidth <= window.innerWidth")
    api = Api(instance)

    def terms() -> dict:
        return next(one for one in api.get("/api/retention")[1] if (one["environment"], one["stream"]) == ("production", "spans"))

    assert (terms()["full_hours"], terms()["thinned_hours"], terms()["own"]) == (72, 336, True)
    row.get_by_label("hours in full of spans in production").fill("0")
    row.get_by_role("button", name="keep so").click()
    page.get_by_role("alertdialog").get_by_role("button", name="Keep so").click()
    expect(kept.get_by_role("alert")).to_be_visible()  # refused, and nothing changed
    assert terms()["full_hours"] == 72
    row.get_by_label("hours in full of spans in production").fill("72")
    row.get_by_role("button", name="spans in production as by default").click()
    page.get_by_role("alertdialog").get_by_role("button", name="As by default").click()
    expect(row.get_by_text("default", exact=True)).to_be_visible()  # not the button "as by default", which stands until it is done
    assert (terms()["full_hours"], terms()["own"]) == (48, False)
    assert person(instance, "mate", "responder").put("/api/retention", terms())[0] == 403
