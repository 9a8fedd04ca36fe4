"""The one way to ask many blocks: scan a block → partial result → merge.

Partial results are made in threads, or on a Dask cluster if ``WIRBEL_DASK`` names its scheduler;
whoever asks merges them. Blocks never change, so a small partial result is kept and used again
when the same is asked of the same block.
"""

from __future__ import annotations

import os
import pickle
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cache
from typing import Any

from django.db import connection, transaction
from django.db.models import Q, QuerySet

from wirbel.core import words
from wirbel.store import blocks, bloom, dask_worker, fresh, query_limits
from wirbel.store.block_work import CHECKED_S, Do, R, Task, Work, beside, in_threads
from wirbel.store.models import Block, Stream
from wirbel.store.streams import DAY_NS, LAYOUTS, PERIODS_NS

_DASK_BLOCKS = 8  # that a Dask task reads


@dataclass(frozen=True)
class Where:
    """Which blocks: those that may hold records of a stream in [start, end) ns.

    With ``step``, summaries of so many seconds, and what is too fresh to have one. With ``words``, only
    blocks whose texts may hold all of them. ``fresh``: also what is durable but not packed yet.
    """

    stream: str
    start: int
    end: int
    environment: str | None = None
    services: tuple[str, ...] | None = None
    step: int = 0
    words: tuple[str, ...] = ()
    fresh: bool = False

    def blocks(self) -> QuerySet[Block]:
        found = blocks_of(self.environment).filter(stream=self.stream, time_to__gte=self.start, time_from__lt=self.end, hour__lt=self.end)
        if self.stream != Stream.SPANS:  # a span may last for days; everything else ends with its block's period
            found = found.filter(hour__gt=self.start - max(PERIODS_NS[self.step], DAY_NS) - max(self.step, 60) * 10**9)
        found = found.filter(Q(step=self.step) | Q(step=0, level=0)) if self.step else found.filter(step=0)
        if self.services is not None:
            found = found.filter(Q(services__overlap=list(self.services)) | Q(services=[]))
        return found


def blocks_of(environment: str | None) -> QuerySet[Block]:
    """Blocks that may hold records of an environment: its own, and those from before blocks had one; all blocks for None."""
    return Block.objects.all() if environment is None else Block.objects.filter(environment__in=(environment, ""))


@contextmanager
def snapshot() -> Iterator[None]:
    """All reads inside see one state of the store: what a worker moves meanwhile is neither missed nor seen twice."""
    outermost = not connection.in_atomic_block
    with transaction.atomic():
        if outermost:
            with connection.cursor() as cursor:
                cursor.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ")
        yield


class Partials(list[R]):
    """Partial results of all blocks, in order of their ids, then that of what is not packed yet, if there is any.

    ``left_out`` counts the records that were not read: see store.fresh.
    """

    has_fresh = False
    left_out = 0


def scan(where: Where, columns: Sequence[str] | None, work: Work[R], small: bool = False, encoded: bool = False, brief: bool = False) -> Partials[R]:
    """Partial results of all that may lie there. ``encoded``: ``work`` takes texts as dictionaries too, which are cheaper to read.
    ``brief``: it takes what is kept of blocks in brief.

    ``small`` results (with ``nbytes``) are kept; ``work`` must then be hashable. Raises QuestionStopped and QuestionTooLarge.
    """
    with snapshot():
        held = fresh.read(where.stream, where.start, where.end) if where.fresh else fresh.Fresh(None)
        tasks = _tasks(where)
        mixed = where.environment is not None and any(task.mixed for task in tasks)
        wanted = None if columns is None else tuple(sorted({*columns, "environment"} if mixed else {*columns}))
        by_service = where.services if LAYOUTS[where.stream].uncut else None
        do = Do(where.environment, (where.start, where.end), wanted, work, encoded, brief, by_service)
        total = sum(task.rows for task in tasks)
        known = {task.block: found for task in tasks if small and task.whole and (found := _partials.get((task.block, do.key))) is not None}
        rest = [task for task in tasks if task.block not in known]
        address = os.environ.get("WIRBEL_DASK")
        made = _on_dask(address, rest, do, total) if address else in_threads(rest, do, total)
        for task, partial in made:
            known[task.block] = partial
            if small and task.whole:
                _partials.put((task.block, do.key), partial)
    results = Partials(known[task.block] for task in tasks)
    results.left_out = held.left_out
    if held.table is not None:
        results.has_fresh = True
        results.append(beside(do, held.table))
    return results


def _tasks(where: Where) -> list[Task]:
    asked = words.numbers_of(list(where.words)) if where.words else None
    fields = where.blocks().order_by("id").values_list("id", "rows", "time_from", "time_to", "environment", *(["word_filter"] if where.words else []))
    tasks = []
    for block, rows, first, last, environment, *known in fields:
        if asked is not None and known and known[0] is not None and not bloom.may_contain(bytes(known[0]), asked).all():
            continue
        tasks.append(Task(block, rows, first >= where.start and last < where.end, environment == ""))
    return tasks


_partials: blocks.Cache[tuple[int, tuple[Any, ...]], Any] = blocks.Cache(64 * 2**20)


@cache
def _client(address: str) -> Any:
    from distributed import Client

    return Client(address, set_as_default=False)  # type: ignore[no-untyped-call]


def _on_dask(address: str, tasks: list[Task], do: Do, total: int) -> Iterator[tuple[Task, Any]]:
    """Other machines read the blocks themselves, in this transaction's snapshot."""
    if not tasks:
        return
    from distributed import TimeoutError as NotYet

    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_export_snapshot()")
        exported = cursor.fetchone()[0]
    client = _client(address)
    parts = [tasks[first : first + _DASK_BLOCKS] for first in range(0, len(tasks), _DASK_BLOCKS)]
    futures = [client.submit(dask_worker.read, pickle.dumps((exported, part, do)), pure=False) for part in parts]
    done = 0
    try:
        for part, future in zip(parts, futures, strict=True):
            while True:
                query_limits.check(done, total)
                try:
                    results = pickle.loads(future.result(timeout=CHECKED_S))
                    break
                except NotYet:
                    continue
            done += sum(task.rows for task in part)
            yield from zip(part, results, strict=True)
    finally:
        client.cancel(futures)
