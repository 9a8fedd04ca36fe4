"""Telemetry out again, in open formats: Parquet, OTLP JSON Lines, and CSV."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from dataclasses import dataclass

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pa_csv
import pyarrow.parquet as pq
from django.db.models import Sum

from wirbel.core import arrow, text
from wirbel.core.errors import InvalidQuestion
from wirbel.core.signals import otlp
from wirbel.store import reading
from wirbel.store.blocks import PARQUET_STREAM
from wirbel.store.models import Stream
from wirbel.store.scan import Where
from wirbel.store.streams import LAYOUTS

MOST_ROWS = 2_000_000  # of one export; bounds its memory
LINE_ROWS = 1_000  # records of one line of OTLP JSON
CHUNK = 2**18  # bytes sent at a time
FORMATS = {"parquet": "application/vnd.apache.parquet", "jsonl": "application/x-ndjson", "csv": "text/csv; charset=utf-8"}


@dataclass(frozen=True)
class Wanted:
    stream: str
    start: int
    end: int
    form: str
    environment: str | None = None
    service: str | None = None
    containing: str | None = None  # words that the text of a log record has

    def __post_init__(self) -> None:
        if self.stream not in Stream.values:
            raise InvalidQuestion(f"stream must be one of {', '.join(Stream.values)}")
        if self.form not in FORMATS:
            raise InvalidQuestion(f"format must be one of {', '.join(FORMATS)}")
        if LAYOUTS[self.stream].signal is None and self.form == "jsonl":
            raise InvalidQuestion("cells are no signal of OTLP; export them as parquet or csv")
        if self.containing is not None and self.stream != Stream.LOGS:
            raise InvalidQuestion("only logs can be searched for words")
        if self.end <= self.start:
            raise InvalidQuestion("the window ends before it starts")

    @property
    def file_name(self) -> str:
        return f"wirbel-{self.stream}-{self.start // 10**9}.{self.form}"


def read(wanted: Wanted) -> pa.Table:
    """The records that begin in the window. Raises InvalidQuestion if there are too many for one file."""
    services = None if wanted.service is None else (wanted.service,)
    held = Where(wanted.stream, wanted.start, wanted.end, wanted.environment, services).blocks().aggregate(total=Sum("rows"))["total"] or 0
    if held > MOST_ROWS:
        raise InvalidQuestion(f"the window touches {text.number(held)} records, more than {text.number(MOST_ROWS)}; export it in parts, or one service")
    window = (wanted.start, wanted.end, wanted.environment)
    if wanted.stream == Stream.LOGS:
        return reading.logs(*window, services, containing=wanted.containing)
    if wanted.stream == Stream.POINTS:
        return reading.points(*window, services)
    if wanted.stream == Stream.CELLS:
        return reading.cells(*window, services)
    table = reading.window_spans(*window, service=wanted.service)
    keep = pc.and_(pc.greater_equal(table["start"], wanted.start), pc.less(table["start"], wanted.end))
    if wanted.service is not None:
        keep = pc.and_(keep, pc.equal(table["service"], wanted.service))
    return table.filter(keep)


def write(wanted: Wanted) -> Iterator[bytes]:
    """The file, piece by piece. The table is read before the first piece, so that errors come as errors."""
    table = read(wanted)
    # Attributes that none of these records has are other services'.
    table = table.select([name for name in table.column_names if not arrow.is_attribute_column(name) or table[name].null_count < table.num_rows])
    return _json_lines(wanted.stream, table) if wanted.form == "jsonl" else _file(wanted, table)


def _json_lines(stream: str, table: pa.Table) -> Iterator[bytes]:
    signal = LAYOUTS[stream].signal
    assert signal is not None  # Wanted has refused what is not sent
    for first in range(0, table.num_rows, LINE_ROWS):
        yield otlp.protobuf_to_json(otlp.SIGNALS[signal], otlp.ENCODERS[signal](table.slice(first, LINE_ROWS))) + b"\n"


def _file(wanted: Wanted, table: pa.Table) -> Iterator[bytes]:
    with tempfile.TemporaryFile() as file:
        if wanted.form == "csv":
            pa_csv.write_csv(_flat(table), file)
        else:
            pq.write_table(table.replace_schema_metadata({PARQUET_STREAM: wanted.stream.encode()}), file, compression="zstd")
        file.seek(0)
        while piece := file.read(CHUNK):
            yield piece


def _flat(table: pa.Table) -> pa.Table:
    """Ids as hexadecimal text, lists and structures as text: CSV knows neither."""
    columns = {}
    for name in table.column_names:
        column = table[name]
        if pa.types.is_binary(column.type) or pa.types.is_fixed_size_binary(column.type):
            values = [None if value is None else value.hex() for value in column.to_pylist()]
            columns[name] = pa.array(values, pa.string())
        elif pa.types.is_nested(column.type):
            columns[name] = pa.array([None if value is None else str(value) for value in column.to_pylist()], pa.string())
        else:
            columns[name] = column
    return pa.table(columns)
