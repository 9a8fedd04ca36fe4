"""Connections that send half a request and no more: each would be held for ever."""

from __future__ import annotations

import asyncio

from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol

LONGEST_S = 20.0  # until the headers of a request are there


class Protocol(HttpToolsProtocol):
    """Closes a connection on which the headers of the first or the next request do not come to an end."""

    _late: asyncio.TimerHandle | None = None

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        super().connection_made(transport)
        self._wait_for_headers()

    def connection_lost(self, exc: Exception | None) -> None:
        self._headers_came()
        super().connection_lost(exc)

    def on_headers_complete(self) -> None:
        self._headers_came()
        super().on_headers_complete()

    def on_response_complete(self) -> None:
        super().on_response_complete()
        if not self.transport.is_closing():
            self._wait_for_headers()

    def _wait_for_headers(self) -> None:
        self._headers_came()
        self._late = self.loop.call_later(LONGEST_S, self.transport.close)

    def _headers_came(self) -> None:
        if self._late is not None:
            self._late.cancel()
            self._late = None
