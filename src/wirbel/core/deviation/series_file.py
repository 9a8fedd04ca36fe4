"""Series of anybody's, read from a CSV or Parquet file: any sampling, put on a regular grid."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv
import pyarrow.parquet

from wirbel.core import arrow
from wirbel.core.errors import InvalidQuestion, NotEnoughData

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
Bools = npt.NDArray[np.bool_]
NUMBER = r"^[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?$"
DATE = r"^\d{4}-\d{2}-\d{2}([T ]\d{2}:\d{2}(:\d{2}(\.\d+)?)?)?(Z|[+-]\d{2}(:?\d{2})?)?$"
OTHER_MARKS = (";", "\t", "|")  # that separate values in some files
MOST_NAMED = 5  # rows that are left out
MOST_ROWS = 5_000_000
MOST_SERIES = 1_000
MOST_POINTS = 2_000_000  # of one series on its grid
UNITS = ((1e17, 1), (1e14, 10**3), (1e11, 10**6), (0.0, 10**9))  # of numbers since 1970, by their size: ns, µs, ms, s


@dataclass(frozen=True)
class FileSeries:
    """One series: ``times`` (ns) at even steps, ``values`` of the same shape, NaN where the file has none."""

    name: str
    times: Ints
    values: Floats


@dataclass(frozen=True)
class Read:
    """What a file holds: its series, in order of their names; why others could not be read, by name; and sentences on rows that were left out."""

    series: list[FileSeries]
    unread: dict[str, str]
    left_out: list[str]


def read(file: Path, time: str, value: str, by: str | None = None) -> Read:
    """The series of a file, one for each value of the column ``by``.

    Times are dates, or numbers since 1970 in s, ms, µs or ns. Rows whose time or value is none are left out and named. Raises
    InvalidQuestion where a column is missing or no row of it can be read, and OSError.
    """
    table = _table(file)
    for name in (time, value, *([by] if by else [])):
        if name not in table.column_names:
            raise InvalidQuestion(f"{file} has no column {name!r}; it has {', '.join(table.column_names[:20])}.{_hint(table.column_names)}")
    if table.num_rows > MOST_ROWS:
        raise InvalidQuestion(f"{file} has {table.num_rows} rows; at most {MOST_ROWS} are read. Split it.")
    (times, is_time), (values, is_number) = _times(table[time], time), _numbers(table[value], value)
    left_out = [*_named(table[time], is_time, time, "no time"), *_named(table[value], is_number, value, "no number")]
    group, names = (np.zeros(len(times), np.int64), [value]) if by is None else arrow.codes(table[by].cast(pa.string()))
    if len(names) > MOST_SERIES:
        raise InvalidQuestion(f"{by} has {len(names)} values; at most {MOST_SERIES} series are read. Choose another column.")
    series, unread, good = [], {}, is_time & is_number
    for n, name in enumerate(names):
        try:
            series.append(_regular(str(name), times[good & (group == n)], values[good & (group == n)]))
        except NotEnoughData as error:
            unread[str(name)] = str(error)
    return Read(sorted(series, key=lambda one: one.name), unread, left_out)


def _hint(names: list[str]) -> str:
    """What is likely to be wrong with a file of one column."""
    mark = next((mark for mark in OTHER_MARKS if len(names) == 1 and mark in names[0]), None)
    return "" if mark is None else f" Its values seem to be separated by {mark!r}: write a comma between them, and a point in numbers."


def _named(column: pa.ChunkedArray, good: Bools, name: str, what: str) -> list[str]:
    """The first rows that are left out, counted as an editor counts lines beneath the header."""
    bad = np.flatnonzero(~good)
    if not len(bad):
        return []
    first = ", ".join(f"row {row + 1} ({str(column[int(row)].as_py() or '')[:40]!r})" for row in bad[:MOST_NAMED])
    more = f" and {len(bad) - MOST_NAMED} more" if len(bad) > MOST_NAMED else ""
    return [f"{name} is {what} in {first}{more}: left out."]


def _table(file: Path) -> pa.Table:
    try:
        return pyarrow.parquet.read_table(file) if file.suffix == ".parquet" else pyarrow.csv.read_csv(file)
    except pa.ArrowInvalid as error:
        raise InvalidQuestion(f"{file} cannot be read as {'Parquet' if file.suffix == '.parquet' else 'CSV'}: {error}") from error


def _times(column: pa.ChunkedArray, name: str) -> tuple[Ints, Bools]:
    """Times (ns) and which rows have one."""
    if pa.types.is_date(column.type):
        column = column.cast(pa.timestamp("ns"))
    if pa.types.is_string(column.type):
        column = _dates(column, name)
    known = np.asarray(column.is_valid())
    if pa.types.is_timestamp(column.type):
        filled = pc.cast(column, pa.timestamp("ns", column.type.tz), safe=False).fill_null(0)
        return np.asarray(filled.to_numpy().astype("datetime64[ns]").astype(np.int64)), known
    try:
        given = column.fill_null(0).to_numpy() if pa.types.is_integer(column.type) else column.cast(pa.float64()).fill_null(np.nan).to_numpy()
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError) as error:
        raise InvalidQuestion(f"{name} holds what is no time: {error}") from error
    known = known & np.isfinite(given)
    if not known.any():
        raise InvalidQuestion(f"{name} holds no time.")
    given = np.where(known, given, 0)
    unit = next(unit for least, unit in UNITS if np.abs(given).max(initial=0.0) >= least)
    return np.asarray(given.astype(np.int64) * unit if given.dtype.kind in "iu" else np.rint(given * unit), np.int64), known


def _dates(column: pa.ChunkedArray, name: str) -> pa.ChunkedArray:
    """Texts as times, null where one is none; as they are where all are numbers."""
    numbers = pc.match_substring_regex(column, NUMBER)
    if pc.all(numbers.fill_null(True)).as_py():
        return column.cast(pa.float64())
    is_date = pc.match_substring_regex(column, DATE)
    for zone in ("UTC", None):  # with an offset from it, or without
        try:
            found = pc.if_else(is_date, column, pa.scalar(None, pa.string())).cast(pa.timestamp("ns", zone))
        except pa.ArrowInvalid:
            continue
        if found.null_count < len(found):
            return found
    raise InvalidQuestion(
        f"{name} holds what is no time, such as {str(column.drop_null()[0].as_py())[:40]!r}: write dates as 2026-03-04 09:15:00, the year first."
    )


def _numbers(column: pa.ChunkedArray, name: str) -> tuple[Floats, Bools]:
    """Numbers, NaN where the file has none, and which rows hold no text that is none."""
    good = np.ones(len(column), np.bool_)
    if pa.types.is_string(column.type):
        text = pc.utf8_trim_whitespace(column)
        is_number = pc.match_substring_regex(text, NUMBER).fill_null(False)
        good = np.asarray(pc.or_(is_number, pc.equal(text.fill_null(""), "")))
        column = pc.if_else(is_number, text, pa.scalar(None, pa.string()))
        if not pc.any(is_number).as_py():
            raise InvalidQuestion(f"{name} holds what is no number.")
    try:
        found = column.cast(pa.float64()).fill_null(np.nan).to_numpy()
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError) as error:
        raise InvalidQuestion(f"{name} holds what is no number: {error}") from error
    return np.where(np.isfinite(found), found, np.nan), good


def _regular(name: str, times: Ints, values: Floats) -> FileSeries:
    """At even steps of the commonest distance; of several values in one step the mean, of none NaN."""
    if len(times) < 2 or not np.isfinite(values).any():
        raise NotEnoughData(f"{name} has {int(np.isfinite(values).sum())} values: too few to tell what is normal.")
    distinct = np.unique(times)
    if len(distinct) < 2:
        raise NotEnoughData(f"{name} has values of one time only.")
    step = max(int(np.median(np.diff(distinct))), 1)
    place = (times - distinct[0] + step // 2) // step
    count = int(place.max()) + 1
    if count > MOST_POINTS:
        raise InvalidQuestion(
            f"{name} has {count} steps of {step / 1e9:g} s from its first to its last value; at most {MOST_POINTS} are read. Choose a shorter stretch."
        )
    known = np.isfinite(values)
    total, samples = np.bincount(place[known], values[known], count), np.bincount(place[known], minlength=count)
    with np.errstate(invalid="ignore", divide="ignore"):
        return FileSeries(name, distinct[0] + np.arange(count) * step, np.where(samples > 0, total / np.maximum(samples, 1), np.nan))
