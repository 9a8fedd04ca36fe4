"""What was made of blocks, kept as long as the same blocks are there: they never change."""

from __future__ import annotations

import threading
from collections.abc import Callable, Hashable
from typing import Any, TypeVar

import cachetools

from wirbel.store.scan import Where

MOST = 32  # things, each of a few numbers a service
R = TypeVar("R")
_kept: cachetools.LRUCache[Hashable, Any] = cachetools.LRUCache(MOST)
_lock = threading.Lock()


def made_of(where: Where, key: Hashable, make: Callable[[], R]) -> R:
    """What ``make`` finds in the blocks of ``where``; ``key`` tells it from other things that are made of the same."""
    whole = key, where, tuple(where.blocks().order_by("id").values_list("id", flat=True))
    with _lock:
        found = _kept.get(whole)
    if found is None:
        found = make()
        with _lock:
            _kept[whole] = found
    return found  # type: ignore[no-any-return]
