"""Records that came long after their minutes had been judged: values are mended, and what much came to is judged anew."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime

import numpy as np
import numpy.typing as npt
from django.db.models import F, Q

from wirbel.core.cells import MINUTE_NS
from wirbel.core.deviation.points import Points
from wirbel.store.models import LateHour
from wirbel.store.streams import DAY_NS, HOUR_NS
from wirbel.watch.models import DeviationRecord, WatchedSeries
from wirbel.watch.values import COUNTED, Key, Values

Bools = npt.NDArray[np.bool_]
QUIET_NS = 2 * MINUTE_NS  # without another one, after which they are read
PATIENCE_NS = 30 * MINUTE_NS  # after the first, where they do not stop coming
READ_NS = 6 * HOUR_NS  # at once
MUCH = 1.25  # times as many as were known, from which on a minute may be judged otherwise
LEAST = 3  # such minutes of what is read at once
MOST_DAYS = 1_500  # of series, that are judged anew at once: about 90 MB


def next_stretch(now: int, until: int, back: int) -> tuple[int, int] | None:
    """The first hours before ``until`` to which records have come late and are not coming any more; times in ns, none before ``back``."""
    LateHour.objects.filter(hour__lt=back - back % HOUR_NS).delete()
    is_over = Q(last__lt=_clock(now - QUIET_NS)) | Q(first__lt=_clock(now - PATIENCE_NS))
    hours = list(LateHour.objects.filter(is_over, hour__lt=until).order_by("hour").values_list("hour", flat=True)[: READ_NS // HOUR_NS])
    if not hours:
        return None
    together = [hour for n, hour in enumerate(hours) if hour == hours[0] + n * HOUR_NS]
    return together[0], min(together[-1] + HOUR_NS, until)


def is_read(start: int, end: int, now: int) -> None:
    """The hours that begin in [start, end) ns are known as they were stored at the time ``now``; what has come to them since is waited for anew."""
    hours = LateHour.objects.filter(hour__gte=start, hour__lt=end)
    hours.filter(last__lt=_clock(now)).delete()
    hours.update(first=F("last"))


def _clock(time: int) -> datetime:
    return datetime.fromtimestamp(time / 1e9, UTC)


def more(key: Key, known: Points, told: Values) -> tuple[Bools, Bools]:
    """In which minutes more is told of a series than was known, and in which of them much more; shapes (minutes,)."""
    before, now = (known.values, told.values) if key.metric in COUNTED else (known.samples, told.samples)
    before = np.where(np.isfinite(known.values), np.nan_to_num(before), 0.0)
    is_more = np.isfinite(told.values) & (~np.isfinite(known.values) | (now > before))
    return is_more, is_more & (now > MUCH * before)


def some_of(rows: Iterable[WatchedSeries], until: int) -> list[WatchedSeries]:
    """Those that are judged anew at once, up to ``until`` (ns): what reaches back alike together."""
    taken: list[WatchedSeries] = []
    days = 0
    for row in sorted((row for row in rows if row.judge_from is not None), key=lambda row: -(row.judge_from or 0)):
        days += (until - (row.judge_from or 0)) // DAY_NS + 2
        if taken and days > MOST_DAYS:
            break
        taken.append(row)
    return taken


def forget_found(row: WatchedSeries) -> int:
    """Withdraws what was found of a series from ``judge_from`` on, and what went on then; returns the time (ns) from which on it is to be followed anew.

    What people have said of something stays; it goes on only if it is found again.
    """
    start = row.judge_from or row.began
    mine = DeviationRecord.objects.filter(series=row)
    while went_on := mine.filter(Q(ended=None) | Q(ended__gt=start), onset__lt=start).order_by("onset").first():
        start = went_on.onset
    withdrawn = mine.filter(onset__gte=start)
    withdrawn.filter(mark="").delete()
    withdrawn.filter(ended=None).update(ended=F("opened"))
    return start - start % MINUTE_NS
