"""What summaries tell of the days before the first minute of a series: its seasons are known from the first hour on."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from wirbel.core.expected.profile import YOUNG_S
from wirbel.store.streams import DAY_NS
from wirbel.watch import kept, values
from wirbel.watch.models import WatchedSeries
from wirbel.watch.values import Key

DAYS = 14  # before it, that are looked at


def read(rows: Mapping[Key, WatchedSeries], until: int) -> None:
    """Keeps what there is of new series in the days up to ``until`` (ns), and notes since when they are known: that nothing was counted
    before anything of them was stored is no zero."""
    for start in range(until - until % DAY_NS - DAYS * DAY_NS, until, DAY_NS):
        days = {}
        for key, told in values.read_summaries(start, min(start + DAY_NS, until), rows).items():
            row, some = rows[key], np.flatnonzero(values.heard(key, told))
            if row.known_from is None and not len(some):
                continue
            first = int(some[0]) if row.known_from is None else 0
            days[row.pk, start] = kept.of_summaries(np.where(np.arange(len(told.values)) < first, np.nan, told.values))
            row.known_from = row.known_from or start + first * kept.SUMMARY_S * 10**9
        kept.store(days)
    WatchedSeries.objects.bulk_update([row for row in rows.values() if row.known_from], ["known_from"])


def has_days(row: WatchedSeries) -> bool:
    """Whether so much is known of it that it is not young when it begins."""
    return row.known_from is not None and row.began - row.known_from >= YOUNG_S * 10**9
