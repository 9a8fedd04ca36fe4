"""Server-sent events: tells an open page that something new can be seen."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator

import psycopg
from django.db import connection
from django.http import HttpRequest, HttpResponse, StreamingHttpResponse

from wirbel.store.packer import LIVE_CHANNEL

MAX_LISTENERS = 60  # each holds a database connection
QUIET_S = 1.5  # events closer together than this are one
HEARTBEAT_S = 15.0
_listeners = 0


async def live(request: HttpRequest) -> HttpResponse | StreamingHttpResponse:
    user = await request.auser()  # type: ignore[attr-defined]
    if not user.is_authenticated:
        return HttpResponse(status=401)
    if _listeners >= MAX_LISTENERS:
        return HttpResponse("too many open pages; this one refreshes on its own\n", status=503, content_type="text/plain", headers={"Retry-After": "30"})
    return StreamingHttpResponse(_events(), content_type="text/event-stream", headers={"Cache-Control": "no-cache", "X-Accel-Buffering": "no"})


async def _events() -> AsyncIterator[str]:
    global _listeners
    _listeners += 1
    try:
        parameters = connection.get_connection_params()
        for name in ("cursor_factory", "context", "pool", "prepare_threshold", "server_side_binding"):
            parameters.pop(name, None)
        async with await psycopg.AsyncConnection.connect(**parameters, autocommit=True) as listener:
            await listener.execute(f"LISTEN {LIVE_CHANNEL}")
            yield "event: open\ndata: {}\n\n"
            while True:
                notices = listener.notifies(timeout=HEARTBEAT_S, stop_after=1)
                heard = [notice async for notice in notices]
                yield "event: stored\ndata: {}\n\n" if heard else ": still here\n\n"
                await asyncio.sleep(QUIET_S)
    finally:
        _listeners -= 1
