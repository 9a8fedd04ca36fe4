"""Series of anybody's: any column names, any sampling, any way to write a time; and what is refused."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet
import pytest

from wirbel.core.deviation.series_file import read
from wirbel.core.errors import InvalidQuestion

T = 1_772_006_400  # 2026-02-25T08:00:00Z


def write(folder: Path, *lines: str) -> Path:
    file = folder / "series.csv"
    file.write_text("\n".join(lines) + "\n")
    return file


@pytest.mark.parametrize(
    "stamps",
    [
        [T, T + 60, T + 120],
        [1000 * T, 1000 * (T + 60), 1000 * (T + 120)],
        [T * 10**6, (T + 60) * 10**6, (T + 120) * 10**6],
        [T * 10**9, (T + 60) * 10**9, (T + 120) * 10**9],
        ["2026-02-25T08:00:00Z", "2026-02-25T08:01:00Z", "2026-02-25T08:02:00Z"],
        ["2026-02-25 08:00:00", "2026-02-25 08:01:00", "2026-02-25 08:02:00"],
        ["2026-02-25T09:00:00+01:00", "2026-02-25T09:01:00+01:00", "2026-02-25T09:02:00+01:00"],
    ],
)
def test_times_are_read_however_they_are_written(tmp_path: Path, stamps: list[object]) -> None:
    [found] = read(write(tmp_path, "at,v", *(f"{at},{n}" for n, at in enumerate(stamps))), "at", "v").series
    assert found.times.tolist() == [(T + 60 * n) * 10**9 for n in range(3)]
    assert found.values.tolist() == [0, 1, 2]


def test_uneven_series_are_put_on_a_grid_and_gaps_stay_gaps(tmp_path: Path) -> None:
    rows = [(0, 1.0), (61, 2.0), (119, 4.0), (121, 6.0), (300, 9.0), (360, "")]
    [found] = read(write(tmp_path, "at,v", *(f"{T + s},{v}" for s, v in rows), f"{T + 420},7"), "at", "v").series
    assert np.diff(found.times).tolist() == [60 * 10**9] * 7
    assert found.values == pytest.approx([1, 2, 5, np.nan, np.nan, 9, np.nan, 7], nan_ok=True)


def test_each_value_of_a_column_is_a_series_and_parquet_is_read_too(tmp_path: Path) -> None:
    file = tmp_path / "series.parquet"
    at = pa.array([datetime.fromtimestamp(T + 60 * (n // 2), UTC) for n in range(6)], pa.timestamp("us", "UTC"))
    pyarrow.parquet.write_table(pa.table({"at": at, "v": [1.0, 10, 2, 20, 3, 30], "host": ["b", "a"] * 3}), file)
    found = read(file, "at", "v", "host").series
    assert [(one.name, one.values.tolist()) for one in found] == [("a", [10, 20, 30]), ("b", [1, 2, 3])]
    assert found[0].times[0] == T * 10**9


@pytest.mark.parametrize(
    ("lines", "why"),
    [
        (["when,v", "1,2"], "has no column 'at'"),
        (["at,v", "yesterday,2", "today,3"], "no time"),
        (["at,v", f"{T},high", f"{T + 1},low"], "no number"),
        (["at,v", ",1", ",2"], "holds no time"),
        (["at,v", "04/03/2026 09:15,1", "04/03/2026 09:16,2"], "2026-03-04 09:15:00, the year first"),
        (["at;v", "1;2", "2;3"], "separated by ';'"),
        (["at,v", *(f"{1000 * T + n},1" for n in range(9)), f"{1000 * (T + 10**6)},3"], "Choose a shorter stretch"),
        (['at,v', f'{T},1,2,3', "4"], "cannot be read as CSV"),
    ],
)  # fmt: skip
def test_what_is_no_series_is_refused_with_what_is_wrong(tmp_path: Path, lines: list[str], why: str) -> None:
    with pytest.raises(InvalidQuestion, match=why):
        read(write(tmp_path, *lines), "at", "v")


def test_rows_without_a_time_or_a_number_are_left_out_and_named(tmp_path: Path) -> None:
    rows = [f"{T + 60 * n},{n}" for n in range(20)]
    rows[3], rows[7], rows[9] = f"{T + 180},high", f"{T + 420},", ",5"
    found = read(write(tmp_path, "at,v", *rows), "at", "v")
    [series] = found.series
    assert np.flatnonzero(np.isnan(series.values)).tolist() == [3, 7, 9]
    assert found.left_out == ["at is no time in row 10 (''): left out.", "v is no number in row 4 ('high'): left out."]
    dates = [f"2026-02-25 08:{n:02d}:00,{n}" for n in range(9)]
    dates[5] = "yesterday,5"
    found = read(write(tmp_path, "at,v", *dates), "at", "v")
    assert (found.series[0].values[5], found.left_out) == (pytest.approx(np.nan, nan_ok=True), ["at is no time in row 6 ('yesterday'): left out."])


def test_of_many_rows_the_first_are_named_and_the_others_counted(tmp_path: Path) -> None:
    rows = [f"{T + 60 * n},{'bad' if n % 2 else n}" for n in range(20)]
    [told] = read(write(tmp_path, "at,v", *rows), "at", "v").left_out
    assert told.count("'bad'") == 5
    assert "and 5 more" in told


@pytest.mark.parametrize("lines", [["at,v", f"{T},1"], ["at,v", f"{T},1", f"{T},2"]])
def test_too_little_is_said(tmp_path: Path, lines: list[str]) -> None:
    found = read(write(tmp_path, *lines), "at", "v")
    assert (found.series, list(found.unread)) == ([], ["v"])


def test_one_series_that_is_too_short_does_not_fail_the_others(tmp_path: Path) -> None:
    rows = [f"{T + 60 * n},{n},long" for n in range(9)]
    found = read(write(tmp_path, "at,v,host", *rows, f"{T},1,short"), "at", "v", "host")
    assert [one.name for one in found.series] == ["long"]
    assert "short has" in found.unread["short"]


def test_a_file_without_any_value_is_refused_or_said_to_be_empty(tmp_path: Path) -> None:
    found = read(write(tmp_path, "at,v", f"{T},", f"{T + 1},"), "at", "v")
    assert (found.series, list(found.unread)) == ([], ["v"])
