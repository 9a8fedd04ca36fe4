"""Looking a trace up among many blocks: a segment of each filter beside all of each filter."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable

import numpy as np
from django.db import transaction

from wirbel.store import blocks, bloom, partitions, reading
from wirbel.store.models import Block, Stream
from wirbel.store.streams import HOUR_NS

BLOCKS = 1_000
TRACES = 60_000  # of a block, as of 500,000 spans
LOOK_UPS = 9
START = 1_772_000_000 * 10**9


def bench_lookup() -> None:
    """Ids that no block holds: what is measured is finding that out."""
    rng = np.random.default_rng(1)

    def ids(count: int) -> np.ndarray:
        return rng.integers(0, 2**63, (count, 2), dtype=np.uint64)

    def block(number: int) -> Block:
        at = START + number * HOUR_NS // 4
        held = bloom.build(ids(TRACES))
        return Block(stream=Stream.SPANS, hour=at - at % HOUR_NS, time_from=at, time_to=at + HOUR_NS, rows=0, size=0, services=[], trace_filter=held, data=b"")

    for first in range(0, BLOCKS, 50):
        with transaction.atomic():
            partitions.insert([block(number) for number in range(first, first + 50)])

    def whole(trace: bytes) -> list[int]:
        words = np.frombuffer(trace, np.uint64).reshape(1, 2)
        return [number for number, held in blocks.in_binary(Block.objects.values_list("id", "trace_filter")) if bloom.may_contain(held, words)[0]]

    def median(work: Callable[[bytes], object]) -> float:
        took = []
        for one in ids(LOOK_UPS):
            began = time.perf_counter()
            work(one.tobytes())
            took.append(time.perf_counter() - began)
        return statistics.median(took)

    plain, ours = median(whole), median(reading.blocks_of_trace)
    print(
        f"look-up of a trace in {BLOCKS} blocks of {TRACES:,} traces: {ours * 1e3:.0f} ms; reading all of each filter {plain * 1e3:.0f} ms: {plain / ours:.0f}×"
    )
