"""Values that were watched, and what was expected of them, as they are kept: a row for each series and day, and until a full hour one for all of a minute."""

from __future__ import annotations

import zlib
from collections.abc import Iterable, Mapping, Sequence

import numpy as np
import numpy.typing as npt

from wirbel.core.cells import MINUTE_NS
from wirbel.core.deviation.points import Points
from wirbel.store import blocks
from wirbel.store.streams import DAY_NS, SUMMARY_STEPS
from wirbel.watch.models import DayOfValues, LateMinute

Floats = npt.NDArray[np.float64]
MINUTES = DAY_NS // MINUTE_NS
KEPT_DAYS = 16
SUMMARY_S = SUMMARY_STEPS[0]

ROWS = 5  # of a table: values, samples, what was expected, and its band from, to
BAND = slice(2, 5)


def empty() -> Floats:
    """A day of which nothing is known."""
    return np.full((ROWS, MINUTES), np.nan)


def store(days: Mapping[tuple[int, int], Floats]) -> None:
    """Days of values, samples and bands, shape (ROWS, minutes), by series and day."""
    rows = [DayOfValues(series_id=series, day=day, data=zlib.compress(table.tobytes(), 1)) for (series, day), table in days.items()]
    DayOfValues.objects.bulk_create(rows, batch_size=500, update_conflicts=True, unique_fields=["series", "day"], update_fields=["data"])


def load(series: Iterable[int], start: int, end: int) -> dict[tuple[int, int], Floats]:
    """What is kept of the days that touch [start, end) ns, by series and day: see :func:`store`."""
    found = DayOfValues.objects.filter(series__in=list(series), day__gt=start - DAY_NS, day__lt=end).values_list("series", "day", "data")
    return {(of, day): np.frombuffer(bytearray(zlib.decompress(data))).reshape(ROWS, MINUTES) for of, day, data in blocks.in_binary(found)}


def of_summaries(told: Floats) -> Floats:
    """A day of values of stretches of SUMMARY_S from its begin on, shape (stretches,), of which no records are told: each in its first minute."""
    table = empty()
    stretch = SUMMARY_S * 10**9 // MINUTE_NS
    table[0, : len(told) * stretch : stretch] = told
    return table


def between(days: Mapping[tuple[int, int], Floats], series: int, start: int, end: int) -> Points:
    """Minutes of [start, end) ns of one series; what is not kept is not known, and was not watched."""
    times = np.arange(start, end, MINUTE_NS)
    values, samples = np.full((2, len(times)), np.nan)
    for day in range(start - start % DAY_NS, end, DAY_NS):
        table = days.get((series, day))
        if table is None:
            continue
        inside = slice(max(start - day, 0) // MINUTE_NS, min(end - day, DAY_NS) // MINUTE_NS)
        place = slice(max(day - start, 0) // MINUTE_NS, max(day - start, 0) // MINUTE_NS + inside.stop - inside.start)
        values[place], samples[place] = table[0, inside], table[1, inside]
    return Points(times, values, samples)


def forget(before: int) -> None:
    """Days that nothing is learned from any more."""
    DayOfValues.objects.filter(day__lt=before - DAY_NS).delete()


def store_minutes(days: Mapping[tuple[int, int], Floats], start: int, end: int) -> None:
    """The minutes of [start, end) ns, for who reads them before the hour is full."""
    for minute in range(start, end, MINUTE_NS):
        day = minute - minute % DAY_NS
        told = {series: table[:, (minute - day) // MINUTE_NS] for (series, of), table in days.items() if of == day}
        data = np.array(list(told), np.int64).tobytes() + np.array(list(told.values()), np.float64).tobytes()
        LateMinute.objects.update_or_create(minute=minute, defaults={"data": data})


def forget_minutes(before: int) -> None:
    """They are in the days now."""
    LateMinute.objects.filter(minute__lt=before).delete()


def up_to_now(series: Sequence[int], start: int, end: int) -> dict[tuple[int, int], Floats]:
    """As :func:`load`, with the minutes since the last full hour."""
    found = load(series, start, end)
    for row in LateMinute.objects.filter(minute__gte=start, minute__lt=end):
        count, day = len(row.data) // (8 * (ROWS + 1)), row.minute - row.minute % DAY_NS
        whose, told = np.frombuffer(row.data, np.int64, count), np.frombuffer(row.data, np.float64, offset=8 * count).reshape(count, ROWS)
        for n in np.flatnonzero(np.isin(whose, series)).tolist():
            found.setdefault((int(whose[n]), day), empty())[:, (row.minute - day) // MINUTE_NS] = told[n]
    return found


def bands(series: Sequence[int], start: int, end: int) -> Floats:
    """What was expected in the minutes of [start, end) ns, and its band: shape (series, 3, minutes), NaN where that is not known."""
    found = np.full((len(series), ROWS - 2, (end - start) // MINUTE_NS), np.nan)
    for (of, day), table in up_to_now(series, start, end).items():
        first, last = max(start, day), min(end, day + DAY_NS)
        place, inside = (slice((first - begin) // MINUTE_NS, (last - begin) // MINUTE_NS) for begin in (start, day))
        found[series.index(of), :, place] = table[BAND, inside]
    return found
