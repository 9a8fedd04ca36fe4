"""A question is stopped when whoever asked has gone."""

from __future__ import annotations

import asyncio
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import pytest
from asgiref.sync import sync_to_async

from wirbel.core.errors import QuestionStopped
from wirbel.server.middleware import Bounds
from wirbel.store import query_limits


def test_a_view_in_its_thread_learns_that_the_asker_left() -> None:
    ended: list[BaseException] = []
    reading_began = threading.Event()

    def view() -> None:
        reading_began.set()
        deadline = time.monotonic() + 20
        try:
            while time.monotonic() < deadline:
                query_limits.check(0, 1)
        except QuestionStopped as error:
            ended.append(error)

    async def application(scope: dict[str, Any], receive: Any, send: Any) -> None:
        work = asyncio.create_task(sync_to_async(view, thread_sensitive=False)())
        while (await receive())["type"] != "http.disconnect":
            pass
        await work

    messages = [{"type": "http.request", "body": b"", "more_body": False}, {"type": "http.disconnect"}]

    async def receive() -> dict[str, Any]:
        if len(messages) == 1:
            await asyncio.get_running_loop().run_in_executor(None, reading_began.wait)
        return messages.pop(0)

    async def send(message: dict[str, Any]) -> None:
        raise AssertionError("nobody is there")

    with ThreadPoolExecutor(1) as apart:  # the browser's driver may have a loop in this thread
        apart.submit(asyncio.run, Bounds(application)({"type": "http"}, receive, send)).result(30)
    assert [type(error) for error in ended] == [QuestionStopped]


def test_without_bounds_nothing_is_stopped() -> None:
    query_limits.check(0, 1)
    with query_limits.bounded(query_limits.Bounds(60.0)):
        query_limits.check(0, 1)
    stopped = query_limits.Bounds(60.0)
    stopped.stopped.set()
    with query_limits.bounded(stopped), pytest.raises(QuestionStopped):
        query_limits.check(0, 1)
    query_limits.check(0, 1)
