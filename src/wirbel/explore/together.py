"""One answer for all who ask the same at a time: what many look at is computed once.

Pages that follow now ask every two seconds, all the same. An answer is kept for a few times as long as it took, and longer where many
others are asked for, so that those who look take a share of the machine at most; by the root of what it took, which makes all of them
the least old in the mean, and a cheap one soon new beside dear ones. One that took long is made anew beside those who ask, who get
what was made last; its age is told in the header ``Age``.
"""

from __future__ import annotations

import math
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from functools import wraps
from typing import Any

import cachetools
from django.conf import settings
from django.contrib.auth.signals import user_logged_out
from django.db import connection
from django.dispatch import receiver
from django.http import HttpRequest, HttpResponse

from wirbel.core.errors import WirbelError
from wirbel.explore.answerer import View, asked_there
from wirbel.store import query_limits

TIMES = 3.0  # as long as it took, for which an answer is kept
SHARE = 0.5  # of a processor, that all of them take: where many are asked for, each is kept for longer
LONGEST_S = 12.0
ASKED_S, MOST_ASKED = 10.0, 1_000  # for which an answer is one that is asked for now, and how many are looked at
SLOW_S = 0.25  # an answer that took longer is made anew beside those who ask
OLD_S, OLDEST_S = 5.0, 25.0  # that it is given out at: where few others are asked for, and where many are
MOST_BYTES = 32 * 2**20
SEEN_S = 2.0  # for which somebody who was signed in is taken to be so still
TURN_S = 2.0  # for which an answer waits for another one that is being made: side by side both would be late
SAME_TURN_S = 10.0  # the same of one that answers the same of another time or part: it is likely as dear, and side by side both take their memory
WAIT_S = 0.1  # between two looks at whether whoever waits has gone away


@dataclass(frozen=True)
class _Answer:
    body: bytes
    kind: str
    made: float  # by the monotonic clock, when it began to be made
    took_s: float

    @property
    def age_s(self) -> float:
        return time.monotonic() - self.made

    def kept_s(self, roots: float) -> float:
        """For how long, so that all answers that are asked for now take SHARE of the time; ``roots`` is the sum of the roots of how long each takes, √s."""
        return math.sqrt(self.took_s) * roots / SHARE

    def is_new(self, roots: float) -> bool:
        """While it is kept."""
        return self.age_s - self.took_s <= min(max(TIMES * self.took_s, self.kept_s(roots)), LONGEST_S)

    def will_do(self, roots: float) -> bool:
        """Whether it is given out while it is made anew: where little is asked for, whoever asks waits rather than see what is old."""
        return self.took_s > SLOW_S and self.age_s <= min(max(2 * self.kept_s(roots), OLD_S), OLDEST_S)

    def response(self) -> HttpResponse:
        return HttpResponse(self.body, content_type=self.kind, headers={"Age": str(round(self.age_s))})


@dataclass
class _Making:
    """An answer that is being made; ``found`` stays empty where that failed."""

    done: threading.Event = field(default_factory=threading.Event)
    found: _Answer | None = None


_answers: cachetools.LRUCache[str, _Answer] = cachetools.LRUCache(MOST_BYTES, getsizeof=lambda answer: len(answer.body) + 1000)
_asked: cachetools.TTLCache[str, float] = cachetools.TTLCache(MOST_ASKED, ASKED_S)  # how long the answers take that are asked for now
_signed_in: cachetools.TTLCache[str, bool] = cachetools.TTLCache(10_000, SEEN_S)  # by the session's cookie
_under_way: dict[str, _Making] = {}
_lock = threading.Lock()
_turn = threading.Lock()


def together(view: View) -> View:
    """Of a view that answers everybody who is signed in alike, by its address alone."""
    own_turn = threading.Lock()

    @wraps(view)
    def answered(request: HttpRequest, *more: Any, **named: Any) -> HttpResponse:
        if request.method != "GET" or not _is_signed_in(request):
            return view(request, *more, **named)

        def make() -> HttpResponse:
            if there := asked_there(request):
                return there
            with _turn_of(own_turn, SAME_TURN_S), _turn_of(_turn, TURN_S):
                return view(request, *more, **named)

        return _answered(request.get_full_path(), make)

    return answered


def _is_signed_in(request: HttpRequest) -> bool:
    """As it was a moment ago: asking the database takes half of the time of a short answer."""
    session = request.COOKIES.get(settings.SESSION_COOKIE_NAME, "")
    with _lock:
        if session and session in _signed_in:
            return True
    if request.user.is_authenticated:
        with _lock:
            _signed_in[session] = True
        return True
    return False


@receiver(user_logged_out)
def _sign_out(request: HttpRequest, **told: Any) -> None:
    with _lock:
        _signed_in.pop(request.COOKIES.get(settings.SESSION_COOKIE_NAME, ""), None)


def _answered(key: str, make: Callable[[], HttpResponse]) -> HttpResponse:
    while True:
        with _lock:
            known, making = _answers.get(key), _under_way.get(key)
            if known:
                _asked[key] = known.took_s
            roots = sum(math.sqrt(took_s) for took_s in _asked.values())
            if known and known.is_new(roots):
                return known.response()
            is_mine = making is None
            if making is None:
                making = _under_way[key] = _Making()
        if known and known.will_do(roots):
            if is_mine:
                threading.Thread(target=_made_beside, args=(key, making, make), daemon=True).start()
            return known.response()
        if is_mine:
            return _made(key, making, make)
        try:
            found = _waited_for(making)
        except WirbelError:  # whoever waits went away, or waited too long: the view says so
            return make()
        if found:
            return found.response()
        # Whoever made it went away, or it cannot be answered: the next one tries.


def _made(key: str, making: _Making, make: Callable[[], HttpResponse]) -> HttpResponse:
    began = time.monotonic()
    try:
        response = make()
        if response.status_code == 200:
            made = began - int(response.get("Age", 0))
            making.found = _Answer(response.content, response["Content-Type"], made, time.monotonic() - began)
    finally:
        with _lock:
            del _under_way[key]
            if making.found and len(making.found.body) < MOST_BYTES // 4:
                _answers[key] = making.found
        making.done.set()
    return response


@contextmanager
def _turn_of(turn: threading.Lock, patience_s: float) -> Iterator[None]:
    """Waits so long at most for those who make something now; no longer than somebody waits for the answer."""
    has_turn = turn.acquire(blocking=False)
    if not has_turn:
        connection.close()  # others may need it meanwhile
        last = time.monotonic() + patience_s
        with suppress(WirbelError):  # whoever asked went away: the view says so
            while not has_turn and time.monotonic() < last:
                has_turn = turn.acquire(timeout=WAIT_S)
                query_limits.check(0, 0)
    try:
        yield
    finally:
        if has_turn:
            turn.release()


def _made_beside(key: str, making: _Making, make: Callable[[], HttpResponse]) -> None:
    """In a thread of its own, with bounds of its own: nobody in particular waits for it."""
    try:
        with query_limits.bounded(query_limits.Bounds(query_limits.LONGEST_S)):
            _made(key, making, make)
    finally:
        connection.close()


def _waited_for(making: _Making) -> _Answer | None:
    """Raises QuestionStopped and QuestionTooLarge."""
    connection.close()  # others may need it meanwhile
    while not making.done.wait(WAIT_S):
        query_limits.check(0, 0)
    return making.found
