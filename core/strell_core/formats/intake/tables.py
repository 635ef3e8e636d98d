"""Files as tables of text: CSV, packed or not, and Parquet, in blocks of bounded size."""

from __future__ import annotations

import codecs
import csv
import datetime as dt
import gzip
import io
import zlib
from collections.abc import Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.csv
import pyarrow.parquet
import zstandard

from strell_core.formats.intake.mapping import Mapping, guess
from strell_core.market.extras import REAL, WHOLE

NUMBERS = frozenset({"strike", "bid", "ask", "spot", *WHOLE, *REAL})
"""Roles of a file of chains that hold numbers."""
NO_NUMBER = ["", "-", "nan", "NaN", "NAN", "null", "NULL", "none", "None", "na", "NA", "n/a", "N/A"]
"""What stands for no number."""
BLOCK_BYTES = 4 << 20
BATCH_ROWS = 65_536
MAX_ROW_GROUP_BYTES = 1 << 30


class IntakeError(ValueError):
    """A file that cannot be read on; says where and why."""


@dataclass(frozen=True)
class Reject:
    line: int
    reason: str
    text: str


@dataclass(frozen=True)
class Sample:
    names: list[str]
    rows: list[list[str]]
    mapping: Mapping
    parquet: bool


def _magic(path: Path) -> bytes:
    with open(path, "rb") as file:
        return file.read(4)


def is_parquet(path: Path) -> bool:
    return _magic(path) == b"PAR1"


def _open(path: Path) -> io.BufferedIOBase:
    """The file's text, decompressed while it is read."""
    magic = _magic(path)
    if magic[:2] == b"\x1f\x8b":
        return gzip.open(path, "rb")
    if magic == b"\x28\xb5\x2f\xfd":
        return io.BufferedReader(
            zstandard.ZstdDecompressor().stream_reader(open(path, "rb"), closefd=True), BLOCK_BYTES
        )
    if magic[:2] == b"PK":
        raise IntakeError("This is a zip archive. Unpack it and load the files in it one by one, or use gzip or zstd.")
    return open(path, "rb")


def sample(path: Path, rows: int = 40, kind: str = "") -> Sample:
    """Column names, the first rows as text, and a guess of what is what; ``kind`` where that is known."""
    if is_parquet(path):
        return _sample_parquet(path, rows, kind)
    head = _head(path)
    lines = head.decode("utf-8-sig", "replace").splitlines()
    if len(lines) < 2:
        raise IntakeError("The file has no rows below its header.")
    delimiter = max(",;\t|", key=lines[0].count)
    names = _header(lines[0], delimiter)
    cells = [[cell[:200] for cell in _split(line, delimiter)] for line in lines[1 : rows + 1]]
    return Sample(names, cells, guess(names, cells, delimiter, kind), False)


def _head(path: Path) -> bytes:
    try:
        with _open(path) as file:
            head = file.read(1 << 18)
    except (OSError, EOFError, zlib.error, zstandard.ZstdError) as error:
        raise IntakeError(f"The file cannot be unpacked: {error}.") from error
    if not head:
        raise IntakeError("The file is empty.")
    if b"\x00" in head[:4096]:
        raise IntakeError("The file is no text in UTF-8 and no Parquet file. Save it as CSV in UTF-8.")
    return head


def _sample_parquet(path: Path, rows: int, kind: str) -> Sample:
    try:
        file = pyarrow.parquet.ParquetFile(path)
        names = [str(name) for name in file.schema_arrow.names]
        first = next(file.iter_batches(batch_size=rows), None)
        cells = [] if first is None else [[plain_text(v) for v in row.values()] for row in first.to_pylist()]
    except (pa.ArrowException, OSError, ValueError) as error:
        raise IntakeError(f"The Parquet file cannot be read: {_first_line(error)}.") from error
    if not cells:
        raise IntakeError("The file has no rows.")
    return Sample(names, cells, guess(names, cells, kind=kind), True)


def plain_text(value: Any) -> str:
    if isinstance(value, dt.datetime):
        return value.isoformat(" ")
    return "" if value is None else str(value)


def _first_line(error: BaseException) -> str:
    return str(error).strip().split("\n")[0][:200]


def _split(line: str, delimiter: str) -> list[str]:
    try:
        return next(csv.reader([line], delimiter=delimiter), [])
    except csv.Error:
        return line.split(delimiter)


def _header(line: str, delimiter: str) -> list[str]:
    """Column names; a name that stands twice gets a number."""
    out: list[str] = []
    for name in _split(line, delimiter):
        name = name.strip() or "column"
        number, unique = 2, name
        while unique in out:
            unique, number = f"{name} {number}", number + 1
        out.append(unique)
    return out


class _Utf8:
    """A file whose bytes that are no UTF-8 are replaced by the mark for what cannot be read."""

    def __init__(self, file: io.BufferedIOBase) -> None:
        self._file = file
        self._decoder = codecs.getincrementaldecoder("utf-8")("replace")
        self.closed = False

    def read(self, size: int = -1) -> bytes:
        data = self._file.read(size)
        if data.isascii() and not self._decoder.getstate()[0]:
            return data
        return self._decoder.decode(data, final=not data).encode()

    def close(self) -> None:
        self.closed = True


Table = tuple[dict[str, pa.Array], npt.NDArray[np.int64], list[Reject], float]


def ahead(tables: Iterator[Table]) -> Iterator[Table]:
    """The same tables, the next one read in a thread while one is worked on: unpacking and parsing need no Python."""
    with ThreadPoolExecutor(1) as reader:
        coming = reader.submit(next, tables, None)
        while (table := coming.result()) is not None:
            coming = reader.submit(next, tables, None)
            yield table


def csv_tables(path: Path, mapping: Mapping) -> Iterator[Table]:
    """Blocks of a CSV file. Columns of numbers are read as such as long as they hold nothing else; from the block
    on in which one does not, all columns are text."""
    told = _Told()
    if mapping.kind == "chains":
        try:
            yield from _csv_tables(path, mapping, told, NUMBERS)
            return
        except _NotNumbers:
            pass
    yield from _csv_tables(path, mapping, told, ())


class _NotNumbers(Exception):
    """A column of numbers holds something else."""


@dataclass
class _Told:
    """What was given out already, when a file is read a second time."""

    rows: int = 0
    invalid: int = 0


def _csv_tables(path: Path, mapping: Mapping, told: _Told, numbers: Iterable[str]) -> Iterator[Table]:
    head = _head(path)
    names = _header(head.split(b"\n", 1)[0].decode("utf-8-sig", "replace").rstrip("\r"), mapping.delimiter)
    problems = mapping.problems(names)
    if problems:
        raise IntakeError(" ".join(text for _, text in problems))
    invalid: list[tuple[int, int, str]] = []  # line, how many lines, text
    good = swallowed = 0
    column_of: dict[str, list[str]] = {}
    for role, column in mapping.columns.items():
        column_of.setdefault(column, []).append(role)
    types = {
        name: pa.float64() if all(role in numbers for role in column_of.get(name, [""])) else pa.binary()
        for name in names
    }

    def wrong(row: Any) -> str:
        nonlocal swallowed  # lines that a quote without an end took with it
        text = str(row.text)
        invalid.append((int(row.number) + swallowed, 1 + text.count("\n"), text[:200]))
        swallowed += text.count("\n")
        return "skip"

    def news() -> list[Reject]:
        fresh = invalid[told.invalid :]
        told.invalid = max(told.invalid, len(invalid))
        return [Reject(line, "fields", text) for line, _, text in fresh if text.strip()]

    size = max(1, path.stat().st_size)
    with _open(path) as file:
        raw = getattr(file, "fileobj", None) or file
        try:
            reader = pyarrow.csv.open_csv(
                pa.PythonFile(_Utf8(file), "r"),
                pyarrow.csv.ReadOptions(
                    use_threads=False, block_size=BLOCK_BYTES, column_names=names, skip_rows=1
                ),
                pyarrow.csv.ParseOptions(
                    delimiter=mapping.delimiter, ignore_empty_lines=False, invalid_row_handler=wrong,
                    # where nothing is quoted, a stray quote must not take the following rows with it
                    quote_char='"' if _quoted(head) else False,
                ),
                pyarrow.csv.ConvertOptions(
                    check_utf8=False, column_types=types, strings_can_be_null=False, null_values=NO_NUMBER,
                    decimal_point=mapping.decimal,
                    include_columns=[name for name in names if name in mapping.columns.values()],
                ),
            )  # fmt: skip
            for batch in reader:
                lines = _lines(good, len(batch), invalid)
                good += len(batch)
                if good <= told.rows:
                    continue
                told.rows = good
                columns = {name: batch.column(name) for name in batch.schema.names}
                yield columns, lines, news(), min(1.0, _position(raw) / size)
            if left := news():
                yield {}, np.empty(0, np.int64), left, 1.0
        except (pa.ArrowException, OSError, EOFError, zlib.error, zstandard.ZstdError) as error:
            text = _first_line(error)
            if numbers and isinstance(error, pa.ArrowInvalid) and "conversion error" in text:
                raise _NotNumbers from error
            if "straddling" in text:
                text = f"a row is longer than {BLOCK_BYTES >> 20} MB"
            raise IntakeError(f"Reading stops after row {good + len(invalid)}: {text}.") from error


def _quoted(head: bytes) -> bool:
    """Whether fields stand in quotes: lines with whole pairs of them outweigh those with a stray one."""
    counts = [line.count(b'"') for line in head.split(b"\n")[:-1]]
    return sum(1 for n in counts if n and n % 2 == 0) > sum(1 for n in counts if n % 2)


def _position(file: Any) -> int:
    try:
        return int(file.tell())
    except (OSError, ValueError, AttributeError):
        return 0


def _lines(good: int, count: int, invalid: list[tuple[int, int, str]]) -> npt.NDArray[np.int64]:
    """Line numbers in the file of good rows number ``good`` on: lines that were left out are counted."""
    index = np.arange(good, good + count, dtype=np.int64)
    if not invalid:
        return index + 2
    skipped = np.array([line for line, _, _ in invalid], np.int64) - 2  # as rows below the header
    total = np.concatenate([[0], np.cumsum([taken for _, taken, _ in invalid])])
    before = np.searchsorted(skipped - total[:-1], index, side="right")
    return np.asarray(index + total[before] + 2, np.int64)


def parquet_tables(path: Path, mapping: Mapping) -> Iterator[Table]:
    try:
        file = pyarrow.parquet.ParquetFile(path)
        problems = mapping.problems([str(name) for name in file.schema_arrow.names])
        if problems:
            raise IntakeError(" ".join(text for _, text in problems))
        groups = range(file.metadata.num_row_groups)
        if any(file.metadata.row_group(i).total_byte_size > MAX_ROW_GROUP_BYTES for i in groups):
            raise IntakeError("A row group of the Parquet file is larger than 1 GiB. Write it with smaller row groups.")
        total, read = max(1, file.metadata.num_rows), 0
        wanted = [str(n) for n in file.schema_arrow.names if str(n) in mapping.columns.values()]
        for batch in file.iter_batches(batch_size=BATCH_ROWS, columns=wanted):
            lines = np.arange(read + 1, read + len(batch) + 1, dtype=np.int64)
            read += len(batch)
            yield {name: batch.column(name) for name in batch.schema.names}, lines, [], read / total
    except (pa.ArrowException, OSError) as error:
        raise IntakeError(f"The Parquet file cannot be read: {_first_line(error)}.") from error
