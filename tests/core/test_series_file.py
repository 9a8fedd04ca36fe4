"""Series of anybody's: any column names, any sampling, any way to write a time; and what is refused."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet
import pytest

from wirbel.core.deviation.series_file import read
from wirbel.core.errors import InvalidQuestion, NotEnoughData

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
    [found] = read(write(tmp_path, "at,v", *(f"{at},{n}" for n, at in enumerate(stamps))), "at", "v")
    assert found.times.tolist() == [(T + 60 * n) * 10**9 for n in range(3)]
    assert found.values.tolist() == [0, 1, 2]


def test_uneven_series_are_put_on_a_grid_and_gaps_stay_gaps(tmp_path: Path) -> None:
    rows = [(0, 1.0), (61, 2.0), (119, 4.0), (121, 6.0), (300, 9.0), (360, "")]
    [found] = read(write(tmp_path, "at,v", *(f"{T + s},{v}" for s, v in rows), f"{T + 420},7"), "at", "v")
    assert np.diff(found.times).tolist() == [60 * 10**9] * 7
    assert found.values == pytest.approx([1, 2, 5, np.nan, np.nan, 9, np.nan, 7], nan_ok=True)


def test_each_value_of_a_column_is_a_series_and_parquet_is_read_too(tmp_path: Path) -> None:
    file = tmp_path / "series.parquet"
    at = pa.array([datetime.fromtimestamp(T + 60 * (n // 2), UTC) for n in range(6)], pa.timestamp("us", "UTC"))
    pyarrow.parquet.write_table(pa.table({"at": at, "v": [1.0, 10, 2, 20, 3, 30], "host": ["b", "a"] * 3}), file)
    found = read(file, "at", "v", "host")
    assert [(one.name, one.values.tolist()) for one in found] == [("a", [10, 20, 30]), ("b", [1, 2, 3])]
    assert found[0].times[0] == T * 10**9


@pytest.mark.parametrize(
    ("lines", "why"),
    [
        (["when,v", "1,2"], "has no column 'at'"),
        (["at,v", "yesterday,2", "today,3"], "no time"),
        (["at,v", f"{T},high", f"{T + 1},low"], "no number"),
        (["at,v", ",1", f"{T},2"], "have no at"),
        (["at,v", *(f"{1000 * T + n},1" for n in range(9)), f"{1000 * (T + 10**6)},3"], "Choose a shorter stretch"),
        (['at,v', f'{T},1,2,3', "4"], "cannot be read as CSV"),
    ],
)  # fmt: skip
def test_what_is_no_series_is_refused_with_what_is_wrong(tmp_path: Path, lines: list[str], why: str) -> None:
    with pytest.raises(InvalidQuestion, match=why):
        read(write(tmp_path, *lines), "at", "v")


@pytest.mark.parametrize("lines", [["at,v", f"{T},1"], ["at,v", f"{T},", f"{T + 1},"], ["at,v", f"{T},1", f"{T},2"]])
def test_too_little_is_said(tmp_path: Path, lines: list[str]) -> None:
    with pytest.raises((NotEnoughData, InvalidQuestion)):
        read(write(tmp_path, *lines), "at", "v")
