"""A bound on bodies before they are read, and on what a question may take."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from typing import Any

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
        headers = {name.lower(): value for name, value in scope["headers"]}
        announced = headers.get(b"content-length", b"0")
        kind = headers.get(b"content-type", b"").decode("latin-1").partition(";")[0].strip().lower()
        if announced.isdigit() and int(announced) > MAX_BODY:
            await _answer_too_large(kind, send)
            return
        read, refused = 0, False

        async def counted() -> dict[str, Any]:
            nonlocal read, refused
            message = await receive()
            read += len(message.get("body", b""))
            if read > MAX_BODY and not refused:
                refused = True
                await _answer_too_large(kind, send)
                return {"type": "http.disconnect"}
            return message

        async def sent(message: dict[str, Any]) -> None:
            if not refused:
                await send(message)

        await self._application(scope, counted, sent)


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


async def _answer_too_large(kind: str, send: Send) -> None:
    response = refuse(kind, Refusal(413, f"the body is larger than {MAX_BODY} bytes; send smaller batches"))
    headers = [(name.lower().encode(), value.encode()) for name, value in response.items()]
    await send({"type": "http.response.start", "status": response.status_code, "headers": [*headers, (b"connection", b"close")]})
    await send({"type": "http.response.body", "body": response.content})
