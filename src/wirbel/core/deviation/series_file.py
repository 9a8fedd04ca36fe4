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


def read(file: Path, time: str, value: str, by: str | None = None) -> list[FileSeries]:
    """The series of a file, one for each value of the column ``by``, in order of their names.

    Times are dates, or numbers since 1970 in s, ms, µs or ns. Raises InvalidQuestion where a column is missing or cannot be read, NotEnoughData
    where nothing is left, and OSError.
    """
    table = _table(file)
    for name in (time, value, *([by] if by else [])):
        if name not in table.column_names:
            raise InvalidQuestion(f"{file} has no column {name!r}; it has {', '.join(table.column_names[:20])}")
    if table.num_rows > MOST_ROWS:
        raise InvalidQuestion(f"{file} has {table.num_rows} rows; at most {MOST_ROWS} are read. Split it.")
    times, values = _times(table[time], time), _numbers(table[value], value)
    group, names = (np.zeros(len(times), np.int64), [value]) if by is None else arrow.codes(table[by].cast(pa.string()))
    if len(names) > MOST_SERIES:
        raise InvalidQuestion(f"{by} has {len(names)} values; at most {MOST_SERIES} series are read. Choose another column.")
    found = [_regular(str(name), times[group == n], values[group == n]) for n, name in enumerate(names)]
    return sorted(found, key=lambda series: series.name)


def _table(file: Path) -> pa.Table:
    try:
        return pyarrow.parquet.read_table(file) if file.suffix == ".parquet" else pyarrow.csv.read_csv(file)
    except pa.ArrowInvalid as error:
        raise InvalidQuestion(f"{file} cannot be read as {'Parquet' if file.suffix == '.parquet' else 'CSV'}: {error}") from error


def _times(column: pa.ChunkedArray, name: str) -> Ints:
    if column.null_count:
        raise InvalidQuestion(f"{column.null_count} rows have no {name}")
    try:
        if pa.types.is_string(column.type) or pa.types.is_date(column.type):
            column = column.cast(pa.timestamp("ns"))
        if pa.types.is_timestamp(column.type):
            return np.asarray(pc.cast(column, pa.timestamp("ns", column.type.tz), safe=False).to_numpy().astype("datetime64[ns]").astype(np.int64))
        given = column.to_numpy() if pa.types.is_integer(column.type) else column.cast(pa.float64()).to_numpy()
    except pa.ArrowInvalid as error:
        raise InvalidQuestion(f"{name} holds what is no time: {error}") from error
    if not np.isfinite(given).all():
        raise InvalidQuestion(f"{name} holds what is no time")
    unit = next(unit for least, unit in UNITS if np.abs(given).max(initial=0.0) >= least)
    return np.asarray(given.astype(np.int64) * unit if given.dtype.kind in "iu" else np.rint(given * unit), np.int64)


def _numbers(column: pa.ChunkedArray, name: str) -> Floats:
    try:
        found = column.cast(pa.float64()).fill_null(np.nan).to_numpy()
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError) as error:
        raise InvalidQuestion(f"{name} holds what is no number: {error}") from error
    return np.where(np.isfinite(found), found, np.nan)


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
