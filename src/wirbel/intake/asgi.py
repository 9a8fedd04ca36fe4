"""The doors without Django's way through middleware, sessions and one thread a request.

Senders hold a token and no session, and send all the time: most of what a page's request goes
through would only keep the decoder from its work. The views are the same.
"""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from typing import Any, TypeVar

from django.db import connection
from django.http import HttpResponse
from django.http.request import HttpHeaders

from wirbel.intake import views
from wirbel.intake.bodies import Knock

THREADS = 32  # requests that are checked or wait to be stored at one time; more wait unread
Answer = TypeVar("Answer", bound=HttpResponse | None)
Scope = dict[str, Any]
Receive = Callable[[], Awaitable[dict[str, Any]]]
Send = Callable[[dict[str, Any]], Awaitable[None]]


class Doors:
    """Answers at the doors' paths; everything else goes on to Django, which knows no door."""

    def __init__(self, application: Callable[[Scope, Receive, Send], Awaitable[None]]) -> None:
        self._application = application
        self._threads = ThreadPoolExecutor(THREADS, thread_name_prefix="door")

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        door = views.DOORS.get(scope["path"]) if scope["type"] == "http" else None
        if door is None:
            await self._application(scope, receive, send)
            return
        knock = Knock(scope["method"], _headers(scope), b"")
        away = None if door.is_open_to(knock) else await self.answer(door.turned_away, knock)
        # Who is turned away is read to the end all the same: many senders look for an answer only then.
        body = await _body(receive, is_kept=away is None)
        if body is None:  # the sender went away
            return
        answer: HttpResponse = await self.answer(door.answer, replace(knock, body=body)) if away is None else away
        headers = [(name.lower().encode("latin-1"), value.encode("latin-1")) for name, value in answer.items()]
        headers.append((b"content-length", str(len(answer.content)).encode()))
        await send({"type": "http.response.start", "status": answer.status_code, "headers": headers})
        await send({"type": "http.response.body", "body": answer.content})

    async def answer(self, view: Callable[[Knock], Answer], knock: Knock) -> Answer:
        """What a door answers, found out in a thread of its own."""
        return await asyncio.get_running_loop().run_in_executor(self._threads, _answer, view, knock)


def _answer(view: Callable[[Knock], Answer], knock: Knock) -> Answer:
    try:
        return view(knock)
    finally:
        connection.close()  # back into the pool


async def _body(receive: Receive, is_kept: bool) -> bytes | None:
    parts: list[bytes] = []
    while True:
        message = await receive()
        if message["type"] == "http.disconnect":
            return None
        if is_kept:
            parts.append(message.get("body", b""))
        if not message.get("more_body"):
            return b"".join(parts)


def _headers(scope: Scope) -> HttpHeaders:
    environ = {}
    for name, value in scope["headers"]:
        key = name.decode("latin-1").upper().replace("-", "_")
        environ[key if key in ("CONTENT_TYPE", "CONTENT_LENGTH") else f"HTTP_{key}"] = value.decode("latin-1")
    return HttpHeaders(environ)
