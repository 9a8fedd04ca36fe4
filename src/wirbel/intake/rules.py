"""Rules that leave records out before they are stored."""

from __future__ import annotations

import json
import threading
import time
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc
from django.db.models import F
from django.utils import timezone

from wirbel.core import arrow
from wirbel.intake.models import DropRule

MOST_RULES = 100
RULES_AGE_S = 2.0  # a changed rule takes effect this soon in every server
_NAMES = {"severity": "severity", "body": "body", "name": "name", "operation": "operation", "metric": "metric", "scope": "scope"}
_known: tuple[float, list[DropRule]] = (0.0, [])
_lock = threading.Lock()


def rules_for(signal: str) -> list[DropRule]:
    """The rules in force, at most two seconds old."""
    global _known
    with _lock:
        read, rules = _known
        if time.monotonic() - read > RULES_AGE_S:
            rules = list(DropRule.objects.filter(enabled=True).order_by("id")[:MOST_RULES])
            _known = (time.monotonic(), rules)
    return [rule for rule in rules if rule.signal == signal]


def forget() -> None:
    """After a rule was changed here, it is read again at once."""
    global _known
    with _lock:
        _known = (0.0, [])


def matches(table: pa.Table, attribute: str, value: str) -> npt.NDArray[np.bool_]:
    """Rows whose attribute, at any level, has the value; ``*`` in the value stands for any characters."""
    found = np.zeros(table.num_rows, np.bool_)
    pattern = value.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_").replace("*", "%")
    for column in _columns_of(table, attribute):
        text = column if pa.types.is_string(column.type) else column.cast(pa.string())
        found |= pc.match_like(text, pattern).fill_null(False).to_numpy(zero_copy_only=False)
    for name in ("labels", "resource"):
        if name in table.column_names:
            found |= _in_json(table[name], attribute, pattern)
    return found


def _columns_of(table: pa.Table, attribute: str) -> list[pa.Array]:
    promoted = arrow.PROMOTED_RESOURCE.get(attribute) or _NAMES.get(attribute)
    names = [promoted] if promoted in table.column_names else []
    names += [
        name
        for name in table.column_names
        if arrow.is_attribute_column(name) and arrow.split_attribute_column(name)[2] == attribute and arrow.split_attribute_column(name)[1] in "sifb"
    ]
    return [table[name].combine_chunks() for name in names]


def _in_json(column: pa.ChunkedArray, attribute: str, pattern: str) -> npt.NDArray[np.bool_]:
    """Attributes of samples are JSON; each distinct text is looked at once."""
    code, texts = arrow.codes(column)
    values = [json.loads(text).get(attribute) if text else None for text in texts]
    given = pa.array([None if value is None else str(value) for value in values], pa.string())
    hit = pc.match_like(given, pattern).fill_null(False).to_numpy(zero_copy_only=False)
    return np.r_[hit, False][code]


def apply(signal: str, table: pa.Table) -> tuple[npt.NDArray[np.bool_], dict[int, tuple[int, dict[str, Any]]]]:
    """Which rows to keep, and for each rule that hit: how many, and one of them."""
    keep = np.ones(table.num_rows, np.bool_)
    hits: dict[int, tuple[int, dict[str, Any]]] = {}
    for rule in rules_for(signal):
        hit = matches(table, rule.attribute, rule.value) & keep
        if hit.any():
            keep &= ~hit
            hits[rule.pk] = (int(hit.sum()), _example(table, int(np.flatnonzero(hit)[0])))
    return keep, hits


def _example(table: pa.Table, row: int) -> dict[str, Any]:
    record = table.slice(row, 1).to_pylist()[0]
    kept = {name: value for name, value in record.items() if isinstance(value, str | int | float | bool)}
    return {name: value[:500].replace("\x00", "\ufffd") if isinstance(value, str) else value for name, value in list(kept.items())[:40]}


def note(hits: dict[int, tuple[int, dict[str, Any]]]) -> None:
    """Counts what rules dropped. Call inside the transaction that stores the rest."""
    for rule, (count, example) in sorted(hits.items()):
        DropRule.objects.filter(pk=rule).update(dropped=F("dropped") + count, last_dropped=timezone.now(), example=example)
