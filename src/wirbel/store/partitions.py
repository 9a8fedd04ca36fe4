"""The block table is partitioned by stream, step and day, so that what is kept no longer goes at once, as files.

A partition is made when the first block of its day is stored. It is filled apart and then attached,
which keeps no reader waiting (making one in place would lock the whole table).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from django.db import OperationalError, connection, transaction

from wirbel.store.models import Block
from wirbel.store.streams import DAY_NS, PERIODS_NS

TABLE = "store_block"
_WRITE_LOCK = 7_301  # of PostgreSQL's advisory locks: one worker at a time writes what it has made
_WIDTHS_NS = {step: 28 * DAY_NS if step else DAY_NS for step in PERIODS_NS}
_DROP_PATIENCE = "2s"  # dropping waits so long for readers; then another time


@dataclass(frozen=True, order=True)
class Partition:
    """Blocks of one stream and step whose hour lies in [start, start + width) ns."""

    stream: str
    step: int
    number: int  # of widths since 1970

    @classmethod
    def of(cls, block: Block) -> Partition:
        return cls(block.stream, block.step, block.hour // _WIDTHS_NS[block.step])

    @classmethod
    def named(cls, name: str) -> Partition:
        stream, step, number = name.removeprefix(f"{TABLE}_").split("_")
        return cls(stream, int(step), int(number))

    @property
    def name(self) -> str:
        return f"{TABLE}_{self.stream}_{self.step}_{self.number}"

    @property
    def start(self) -> int:
        return self.number * _WIDTHS_NS[self.step]

    @property
    def end(self) -> int:
        return self.start + _WIDTHS_NS[self.step]


def lock_to_write() -> None:
    """Until the end of the transaction. Whoever inserts blocks holds it, so that their ids rise in the order of commits."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_advisory_xact_lock(%s)", [_WRITE_LOCK])


def insert(made: Sequence[Block]) -> None:
    """Stores blocks. Call inside a transaction."""
    lock_to_write()
    for partition in sorted({Partition.of(block) for block in made} - set(existing())):
        _make(partition)
    Block.objects.bulk_create(made, batch_size=1)


def existing() -> list[Partition]:
    with connection.cursor() as cursor:
        cursor.execute("SELECT inhrelid::regclass::text FROM pg_inherits WHERE inhparent = %s::regclass", [TABLE])
        return sorted(Partition.named(name) for (name,) in cursor.fetchall())


def _make(partition: Partition) -> None:
    bounds = [partition.stream, partition.step, partition.start, partition.stream, partition.step, partition.end]
    with connection.cursor() as cursor:
        cursor.execute(f"CREATE TABLE {partition.name} (LIKE {TABLE} INCLUDING ALL)")
        cursor.execute(f"ALTER TABLE {TABLE} ATTACH PARTITION {partition.name} FOR VALUES FROM (%s, %s, %s) TO (%s, %s, %s)", bounds)


def drop(partition: Partition) -> bool:
    """False if readers kept it busy."""
    try:
        with transaction.atomic(), connection.cursor() as cursor:
            cursor.execute("SELECT set_config('lock_timeout', %s, true)", [_DROP_PATIENCE])
            cursor.execute(f"DROP TABLE {partition.name}")
    except OperationalError:
        return False
    return True
