"""Arrow without pandas: it imports pandas with the first array that it makes, half a second and 40 MB a process, only to tell what of that
is pandas' own. Nothing here ever is."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from importlib.abc import MetaPathFinder
from types import ModuleType

import numpy as np
import pyarrow as pa


class _NoPandas(MetaPathFinder):
    def find_spec(self, name: str, path: Sequence[str] | None, target: ModuleType | None = None) -> None:
        if name == "pandas":
            raise ModuleNotFoundError("pandas is not for Arrow", name=name)


def without_pandas() -> None:
    """Has Arrow look for pandas now, once for this process, and find none; whoever needs pandas itself imports it later as ever."""
    absent = _NoPandas()
    sys.meta_path.insert(0, absent)
    try:
        for first in (np.zeros(1), [None]):  # it looks once for arrays and once for lists
            pa.array(first)
    finally:
        sys.meta_path.remove(absent)
