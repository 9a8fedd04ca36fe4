"""A bound on bodies before they are read, and on what a question may take."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from typing import Any

from asgiref.sync import iscoroutinefunction
from django.http import HttpRequest
from django.http.response import HttpResponseBase
from django.utils.decorators import sync_and_async_middleware

from wirbel.intake.bodies import MAX_BODY, Refusal, refuse
from wirbel.store import query_limits

Scope = dict[str, Any]
Receive = Callable[[], Awaitable[dict[str, Any]]]
Send = Callable[[dict[str, Any]], Awaitable[None]]


Application = Callable[[Scope, Receive, Send], Awaitable[None]]


class BeforeDjango:
    """Stands in front of an application and looks at its HTTP requests; everything else goes by."""

    def __init__(self, application: Application) -> None:
        self._application = application

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        answer = self.answer if scope["type"] == "http" else self._application
        await answer(scope, receive, send)

    async def answer(self, scope: Scope, receive: Receive, send: Send) -> None:
        raise NotImplementedError


class BodyLimit(BeforeDjango):
    """Answers 413 to a body over its bound without reading (or storing) the rest of it.

    Django spools a whole body before a view sees it, so the bound stands in front of Django.
    """

    async def answer(self, scope: Scope, receive: Receive, send: Send) -> None:
        announced, kind = _header(scope, b"content-length") or b"0", _kind(scope)
        if announced.isdigit() and int(announced) > MAX_BODY:
            await _refuse(TOO_LARGE, kind, send)
            return
        read, refused = 0, False

        async def counted() -> dict[str, Any]:
            nonlocal read, refused
            message = await receive()
            read += len(message.get("body", b""))
            if read > MAX_BODY and not refused:
                refused = True
                await _refuse(TOO_LARGE, kind, send)
                return {"type": "http.disconnect"}
            return message

        async def sent(message: dict[str, Any]) -> None:
            if not refused:
                await send(message)

        await self._application(scope, counted, sent)


SLOWEST_BYTES, SLOWEST_S = 2**16, 20.0  # of a body that have to come in so many seconds


class SlowBodies(BeforeDjango):
    """Answers 408 to a body that does not come to an end: it would hold its connection for ever."""

    async def answer(self, scope: Scope, receive: Receive, send: Send) -> None:
        now, waiting = asyncio.get_running_loop().time, SLOWEST_BYTES
        late: float | None = now() + SLOWEST_S  # None once the body is there, or refused

        async def hurried() -> dict[str, Any]:
            nonlocal waiting, late
            try:
                async with asyncio.timeout_at(late):
                    message = await receive()
            except TimeoutError:
                late = None
                await _refuse(TOO_SLOW, _kind(scope), send)
                return {"type": "http.disconnect"}
            waiting -= len(message.get("body", b""))
            if waiting < 0:
                waiting, late = SLOWEST_BYTES, now() + SLOWEST_S
            if not message.get("more_body"):
                late = None
            return message

        await self._application(scope, hurried, send)


class NamesAsSent(BeforeDjango):
    """Leaves names in addresses as they were sent: a service may be called ``team/checkout``, and decoded that would be two parts of a path."""

    PREFIX = "/api/services/"

    async def answer(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["path"].startswith(self.PREFIX):
            scope = {**scope, "path": scope["raw_path"].decode("ascii")}
        await self._application(scope, receive, send)


class Bounds(BeforeDjango):
    """Bounds what a request may ask of the store, and stops its question when whoever asked goes away.

    The view runs in a thread, which gets this task's context; what it reads looks at the bounds between blocks.
    """

    async def answer(self, scope: Scope, receive: Receive, send: Send) -> None:
        bounds = query_limits.Bounds(query_limits.LONGEST_S)

        async def watched() -> dict[str, Any]:
            message = await receive()
            if message["type"] == "http.disconnect":
                bounds.stopped.set()
            return message

        with query_limits.bounded(bounds):
            await self._application(scope, watched, send)


def _header(scope: Scope, name: bytes) -> bytes:
    """Empty where it was not sent."""
    return next((value for key, value in scope["headers"] if key.lower() == name), b"")


def _kind(scope: Scope) -> str:
    return _header(scope, b"content-type").decode("latin-1").partition(";")[0].strip().lower()


TOO_LARGE = Refusal(413, f"the body is larger than {MAX_BODY} bytes; send smaller batches")
TOO_SLOW = Refusal(408, f"the body did not come to an end: {SLOWEST_BYTES} bytes in {SLOWEST_S:g} s are the least")


async def _refuse(refusal: Refusal, kind: str, send: Send) -> None:
    response = refuse(kind, refusal)
    headers = [(name.lower().encode(), value.encode()) for name, value in response.items()]
    await send({"type": "http.response.start", "status": response.status_code, "headers": [*headers, (b"connection", b"close")]})
    await send({"type": "http.response.body", "body": response.content})


@sync_and_async_middleware
def no_store(get_response: Callable[[HttpRequest], Any]) -> Callable[[HttpRequest], Any]:
    """What the API answers is of the one who asked: nobody on the way keeps it."""

    def marked(request: HttpRequest, response: HttpResponseBase) -> HttpResponseBase:
        if request.path.startswith("/api/") and not response.has_header("Cache-Control"):
            response["Cache-Control"] = "no-store"
        return response

    if iscoroutinefunction(get_response):

        async def later(request: HttpRequest) -> HttpResponseBase:
            return marked(request, await get_response(request))

        return later
    return lambda request: marked(request, get_response(request))
