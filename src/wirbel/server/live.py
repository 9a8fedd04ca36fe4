"""Server-sent events: tells open pages that something new can be seen.

All pages of a process share one connection to the database, which listens while at least one of them is open.
"""

from __future__ import annotations

import asyncio
import logging
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from typing import Any

import psycopg
from asgiref.sync import sync_to_async
from django.db import connection
from django.http import HttpRequest, HttpResponse, StreamingHttpResponse

from wirbel.store.live import CHANNEL

log = logging.getLogger(__name__)
MOST_PAGES = 2_000  # of a process
QUIET_S = 1.0  # events closer together than this are one
HEARTBEAT_S = 15.0
AGAIN_S = 2.0  # until a connection that was lost is made anew


class Ear:
    """Hears that something was stored, and wakes whoever waits for it."""

    def __init__(self) -> None:
        self.pages: set[asyncio.Event] = set()
        self._listening: asyncio.Task[None] | None = None

    @asynccontextmanager
    async def page(self) -> AsyncIterator[asyncio.Event]:
        """An event that is set whenever something was stored."""
        heard = asyncio.Event()
        self.pages.add(heard)
        if self._listening is None:
            self._listening = asyncio.create_task(self._listen())
        try:
            yield heard
        finally:
            self.pages.discard(heard)
            if not self.pages:
                self._listening.cancel()
                self._listening = None

    async def _listen(self) -> None:
        while True:
            try:
                async with await psycopg.AsyncConnection.connect(**parameters(), autocommit=True) as listener:
                    await listener.execute(f"LISTEN {CHANNEL}")
                    self._wake()  # of what was stored before, nobody has been told
                    async for _ in listener.notifies():
                        self._wake()
            except psycopg.Error as error:
                log.warning("open pages are not told of what is stored: %s", error)
            await asyncio.sleep(AGAIN_S)

    def _wake(self) -> None:
        for heard in self.pages:
            heard.set()


_ear = Ear()


def parameters() -> dict[str, Any]:
    ours = ("cursor_factory", "context", "pool", "prepare_threshold", "server_side_binding")
    return {name: value for name, value in connection.get_connection_params().items() if name not in ours}


def _is_known(request: HttpRequest) -> bool:
    """The answer does not end while the page is open: the connection that this takes goes back at once."""
    try:
        return request.user.is_authenticated
    finally:
        connection.close()


async def live(request: HttpRequest) -> HttpResponse | StreamingHttpResponse:
    if not await sync_to_async(_is_known, thread_sensitive=False)(request):
        return HttpResponse(status=401)
    if len(_ear.pages) >= MOST_PAGES:
        return HttpResponse("too many open pages; this one refreshes on its own\n", status=503, content_type="text/plain", headers={"Retry-After": "30"})
    return StreamingHttpResponse(_events(), content_type="text/event-stream", headers={"Cache-Control": "no-cache", "X-Accel-Buffering": "no"})


async def _events() -> AsyncIterator[str]:
    async with _ear.page() as heard:
        yield "event: open\ndata: {}\n\n"
        while True:
            try:
                await asyncio.wait_for(heard.wait(), HEARTBEAT_S)
                heard.clear()
                yield "event: stored\ndata: {}\n\n"
            except TimeoutError:
                yield ": still here\n\n"
            await asyncio.sleep(QUIET_S)
