"""Partial results of blocks, made where the blocks are read: in threads of this process, or by a worker elsewhere."""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor, wait
from dataclasses import dataclass
from functools import cache
from typing import Any, TypeVar

import pyarrow as pa
import pyarrow.compute as pc
from django.db import connection, transaction

from wirbel.store import blocks, query_limits

CHECKED_S = 0.2  # between two looks whether anybody still waits
THREADS = max(2, os.cpu_count() or 2)
R = TypeVar("R")
Window = tuple[int, int]
Work = Callable[[pa.Table, Window | None], R]
"""Makes a partial result of the rows of a block. The window is None for a block that lies in it as a whole.
Work that is sent to other machines must be picklable, so it is a function of a module or a frozen dataclass."""


@dataclass(frozen=True)
class Task:
    """One block, and what to do with it."""

    block: int
    rows: int
    whole: bool  # it lies in the window
    mixed: bool  # it may hold other environments


@dataclass(frozen=True)
class Do:
    environment: str | None
    window: Window
    columns: tuple[str, ...] | None
    work: Work[Any]
    encoded: bool = False  # texts come as a dictionary and codes
    brief: bool = False  # what is kept of a block in brief, in place of its rows
    services: tuple[str, ...] | None = None  # whose parts of blocks are enough

    @property
    def key(self) -> tuple[Any, ...]:
        return self.environment, self.columns, self.work, self.encoded, self.brief

    def loaders(self, wanted: list[int], total: int) -> Iterator[tuple[int, Callable[[], pa.Table]]]:
        """Of blocks with so many rows: as a whole, which serves later questions about other services too, where that many can be kept."""
        if self.brief:
            return blocks.brief_loaders(wanted, self.columns)
        in_part = self.services if total > blocks.WHOLE_ROWS else None
        return blocks.loaders(wanted, self.columns, total <= blocks.CACHE_ROWS, self.encoded, in_part)

    def __call__(self, table: pa.Table, whole: bool, mixed: bool) -> Any:
        if mixed and self.environment is not None:
            table = table.filter(pc.equal(table["environment"], self.environment))
        if self.columns is not None:
            if "is_root" in self.columns and "is_root" not in table.column_names:
                table = table.append_column("is_root", pc.is_null(table["parent_id"]))
            table = table.select([name for name in table.column_names if name in self.columns])
        return self.work(table, None if whole else self.window)


@cache
def _pool() -> ThreadPoolExecutor:
    return ThreadPoolExecutor(THREADS, thread_name_prefix="scan")


def in_threads(tasks: list[Task], do: Do, total: int) -> Iterator[tuple[Task, Any]]:
    """Bytes come over this thread's connection, in its snapshot; threads make tables of them and do the work.

    Few tables exist at a time, which bounds memory.
    """
    by_id = {task.block: task for task in tasks}
    under_way: deque[tuple[Task, Future[Any]]] = deque()
    done = 0

    def finish() -> tuple[Task, Any]:
        nonlocal done
        task, future = under_way.popleft()
        result = waited(future, done, total)
        done += task.rows
        return task, result

    try:
        for block, load in do.loaders(list(by_id), total):
            query_limits.check(done, total)
            task = by_id[block]
            under_way.append((task, _pool().submit(_made, do, load, task)))
            if len(under_way) > THREADS:
                yield finish()
        while under_way:
            yield finish()
    finally:
        for _, future in under_way:
            future.cancel()


def waited(future: Future[R], done: int, total: int) -> R:
    """What comes of it. Raises QuestionStopped and QuestionTooLarge while it is not there: nobody waits for a block to its end."""
    while not future.done():
        query_limits.check(done, total)
        wait([future], CHECKED_S)
    return future.result()


def beside(do: Do, table: pa.Table) -> Any:
    """The partial result of a table that is no block, made in a thread, so that it is bounded too."""
    return waited(_pool().submit(do, table, whole=False, mixed=True), 0, table.num_rows)


def _made(do: Do, load: Callable[[], pa.Table], task: Task) -> Any:
    return do(load(), task.whole, task.mixed)


def read_in(exported: str, tasks: list[Task], do: Do) -> list[Any]:
    """The partial results of some blocks, read in a snapshot that another connection has exported."""
    with transaction.atomic(), connection.cursor() as cursor:
        cursor.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ")
        cursor.execute("SET TRANSACTION SNAPSHOT %s", [exported])
        made = {task.block: result for task, result in in_threads(tasks, do, 0)}
    return [made[task.block] for task in tasks]
