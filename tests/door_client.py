"""Knocks at the doors as the server does, but answers in the test's own thread and so in its transaction."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from asgiref.sync import async_to_sync, sync_to_async

from wirbel.intake.asgi import Doors
from wirbel.intake.bodies import Knock
from wirbel.server.middleware import BodyLimit

PIECE = 1_000  # bytes of a body that come together


@dataclass(frozen=True)
class Answer:
    status_code: int
    headers: dict[str, str]
    content: bytes

    def __getitem__(self, name: str) -> str:
        return self.headers[name.lower()]

    def json(self) -> Any:
        return json.loads(self.content)


class _Here(Doors):
    async def answer(self, view: Callable[[Knock], Any], knock: Knock) -> Any:
        return await sync_to_async(view)(knock)


async def _no_door(scope: Any, receive: Any, send: Any) -> None:
    await send({"type": "http.response.start", "status": 404, "headers": []})
    await send({"type": "http.response.body", "body": b""})


_application = BodyLimit(_Here(_no_door))


def knock(path: str, body: bytes = b"", method: str = "POST", headers: dict[str, str] | None = None) -> Answer:
    """The answer to one request, of which the body comes in pieces."""
    pieces = [body[at : at + PIECE] for at in range(0, len(body), PIECE)] or [b""]
    given = {"Content-Length": str(len(body)), **(headers or {})}
    scope = {"type": "http", "method": method, "path": path, "headers": [(name.lower().encode(), value.encode()) for name, value in given.items()]}
    sent: list[dict[str, Any]] = []

    async def receive() -> dict[str, Any]:
        return {"type": "http.request", "body": pieces.pop(0), "more_body": bool(pieces)}

    async def send(message: dict[str, Any]) -> None:
        sent.append(message)

    async_to_sync(_application)(scope, receive, send)
    start, *rest = sent
    return Answer(start["status"], {name.decode(): value.decode() for name, value in start["headers"]}, b"".join(part["body"] for part in rest))
