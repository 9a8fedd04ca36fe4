"""One answer for all who ask the same at a time."""

from __future__ import annotations

import math
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from types import SimpleNamespace
from typing import Any

import pytest
from django.conf import settings
from django.http import HttpRequest, HttpResponse

from wirbel.core.errors import QuestionStopped
from wirbel.explore import together as shared
from wirbel.store import query_limits

PEOPLE = 20


class View:
    """Answers with how often it was asked; takes its time when it is told to."""

    def __init__(self) -> None:
        self.asked, self.go, self.status = 0, threading.Event(), 200
        self.go.set()
        self.took_s = 0.0

    def __call__(self, request: HttpRequest) -> HttpResponse:
        self.asked += 1
        mine = self.asked
        assert self.go.wait(10)
        time.sleep(self.took_s)  # how long it takes is what is under test
        return HttpResponse(str(mine), status=self.status)


@pytest.fixture
def view(monkeypatch: pytest.MonkeyPatch) -> View:
    monkeypatch.setattr(shared, "connection", SimpleNamespace(close=lambda: None))
    shared._answers.clear()
    shared._asked.clear()
    return View()


def request(path: str = "/api/overview", signed_in: bool = True) -> HttpRequest:
    made: Any = HttpRequest()
    made.method, made.path, made.user = "GET", path, SimpleNamespace(is_authenticated=signed_in)
    made.COOKIES = {settings.SESSION_COOKIE_NAME: "of somebody"} if signed_in else {}
    return made


def until(true: Any) -> None:
    deadline = time.monotonic() + 10
    while not true():
        assert time.monotonic() < deadline
        time.sleep(0.01)


def test_many_who_ask_at_once_are_answered_by_one_computation(view: View) -> None:
    view.go.clear()
    ask = shared.together(view)
    with ThreadPoolExecutor(PEOPLE) as people:
        answers = [people.submit(ask, request()) for _ in range(PEOPLE)]
        until(lambda: view.asked)
        view.go.set()
        assert {answer.result(10).content for answer in answers} == {b"1"}
    assert view.asked == 1


def test_other_questions_and_strangers_are_answered_by_themselves(view: View) -> None:
    view.took_s = 0.05
    ask = shared.together(view)
    assert [ask(request()).content, ask(request("/api/overview?first=50")).content, ask(request()).content] == [b"1", b"2", b"1"]
    assert ask(request(signed_in=False)).content == b"3"  # the view itself tells them that they may not


def test_what_took_no_time_is_soon_new_and_what_took_long_is_made_beside(view: View) -> None:
    ask = shared.together(view)
    assert ask(request()).content == b"1"
    until(lambda: not shared._answers["/api/overview"].is_new(0.0))
    assert ask(request()).content == b"2"
    view.took_s = shared.SLOW_S + 0.05
    slow = request("/slow")
    assert ask(slow).content == b"3"
    assert ask(slow).content == b"3"
    until(lambda: not shared._answers["/slow"].is_new(0.0))
    view.go.clear()
    old = ask(slow)  # while another one is being made, which does not come to its end
    view.go.set()
    assert (old.content, old["Age"]) == (b"3", str(round(shared._answers["/slow"].age_s)))
    until(lambda: view.asked == 4 and not shared._under_way)
    assert ask(slow).content == b"4"


def test_where_much_is_asked_for_each_answer_is_kept_for_longer() -> None:
    def of_age(age_s: float) -> shared._Answer:
        return shared._Answer(b"", "text/plain", time.monotonic() - age_s - 0.1, 0.1)

    one = math.sqrt(0.1)
    assert [of_age(age).is_new(one) for age in (0.2, 0.4)] == [True, False]
    # Twenty alike take two seconds together: made every four, they take half of a processor.
    assert [of_age(age).is_new(20 * one) for age in (3.5, 4.5)] == [True, False]
    assert not of_age(shared.LONGEST_S + 1).is_new(1000.0)


def test_a_cheap_answer_is_soon_new_beside_dear_ones_and_all_take_no_more_than_their_share() -> None:
    took_s = [0.01, 0.5, 1.0]
    roots = sum(math.sqrt(one) for one in took_s)
    kept_s = [shared._Answer(b"", "text/plain", 0.0, one).kept_s(roots) for one in took_s]
    assert kept_s[0] < 0.5 < 2 < kept_s[2]
    assert sum(one / kept for one, kept in zip(took_s, kept_s, strict=True)) == pytest.approx(shared.SHARE)


def test_whoever_asks_alone_waits_rather_than_see_what_is_old() -> None:
    def of_age(age_s: float) -> shared._Answer:
        return shared._Answer(b"", "text/plain", time.monotonic() - age_s, 0.5)

    one = math.sqrt(0.5)
    assert [of_age(age).will_do(one) for age in (4.0, 6.0)] == [True, False]
    assert [of_age(age).will_do(20 * one) for age in (20.0, 26.0)] == [True, False]


def test_an_answer_that_was_made_elsewhere_is_as_old_as_it_says(view: View, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(shared, "asked_there", lambda request: HttpResponse("there", headers={"Age": "7"}))
    assert shared.together(view)(request()).content == b"there"
    assert shared._answers["/api/overview"].age_s == pytest.approx(7, abs=1)
    assert view.asked == 0


def test_what_went_wrong_is_kept_for_nobody(view: View) -> None:
    view.status, view.took_s = 404, 0.05
    ask = shared.together(view)
    assert [ask(request()).status_code for _ in range(3)] == [404] * 3
    assert view.asked == 3


def test_who_goes_away_while_waiting_leaves_the_answer_to_the_others(view: View) -> None:
    view.go.clear()
    ask = shared.together(view)
    bounds = query_limits.Bounds(60.0)

    def gone() -> None:
        with query_limits.bounded(bounds):
            shared._waited_for(shared._under_way["/api/overview"])

    with ThreadPoolExecutor(2) as people:
        first = people.submit(ask, request())
        until(lambda: view.asked)
        second = people.submit(gone)
        bounds.stopped.set()
        with pytest.raises(QuestionStopped):
            second.result(10)
        view.go.set()
        assert first.result(10).content == b"1"


def test_answers_of_one_kind_are_made_one_after_the_other_and_others_do_not_wait_for_long(view: View, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(shared, "TURN_S", 0.1)
    other = View()
    ask, ask_other = shared.together(view), shared.together(other)
    view.go.clear()
    with ThreadPoolExecutor(2) as people:
        first = people.submit(ask, request("/api/overview?focus=1"))
        until(lambda: view.asked)
        second = people.submit(ask, request("/api/overview?focus=2"))
        assert ask_other(request("/api/ribbon")).content == b"1"
        assert (view.asked, second.done()) == (1, False)
        view.go.set()
        assert [one.result(10).content for one in (first, second)] == [b"1", b"2"]
