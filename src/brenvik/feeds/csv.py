"""CSV as in RFC 4180: commas, double quotes, a header, UTF-8; or as declared by a ``Dialect``. Text stays text.

A file that ends in ``.gz`` is decompressed while it is read. An empty field is null, a quoted empty field is an empty string.
Lines are counted as in an editor: a field may contain line breaks, and a row's number is that of its first line. A line
without any value is not a row.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv

from brenvik.engines.arrays import of_numbers
from brenvik.engines.arrow import types_of
from brenvik.errors import FeedError
from brenvik.feeds.csv_records import BLOCK, Malformed, Records
from brenvik.feeds.protocol import BrokenLine, Chunk
from brenvik.feeds.reading import RFC_4180, Dialect
from brenvik.merge.sequence import sequence_no
from brenvik.model.types import TEXT, ColumnType


def columns_of(path: Path, dialect: Dialect = RFC_4180) -> dict[str, ColumnType]:
    """The columns of the header (or of the dialect), all of them text."""
    with _open(path, (), [], dialect) as reader:
        return dict.fromkeys(
            types_of(pa.schema([(name, pa.string()) for name in reader.schema.names]), path.name), TEXT
        )


def read(
    path: Path,
    number: int,
    column_set: int,
    columns: Sequence[str],
    broken: list[BrokenLine],
    dialect: Dialect = RFC_4180,
) -> Iterator[Chunk]:
    """The rows. Lines with too few or too many fields go to ``broken``."""
    bad: list[Any] = []
    place = _Place(number, bad, broken, headers=0 if dialect.columns else 1)
    with _open(path, columns, bad, dialect) as reader:
        while True:
            try:
                chunk = reader.read_next_batch()
            except StopIteration:
                break
            except (pa.ArrowInvalid, OSError) as error:
                raise FeedError(
                    f"{path.name} cannot be read after line {place.line}: {error}. "
                    f"Expected CSV in {dialect.encoding} quoted with {dialect.quote}; nothing was loaded."
                ) from error
            if len(chunk):
                lines = place.of(chunk)
                kept = _has_value(chunk)
                if kept is not None:
                    chunk, lines = chunk.filter(of_numbers(kept)), lines[kept]
                yield Chunk(chunk, of_numbers(sequence_no(number, lines)), column_set)
        place.tell_bad(np.array([], dtype=np.int64), np.array([], dtype=np.int64))


@dataclass(frozen=True)
class _Bad:
    """A record that is not a row: its number, from 1, and the reason."""

    number: int
    text: str
    reason: str


class _Place:
    """Tracks the line numbers of rows.

    The reader numbers records from 1 (the header, where there is one) and reports the numbers of bad ones only; good rows take
    the numbers in between. A record's line is its number plus the line breaks inside all records before it.
    """

    def __init__(self, number: int, bad: list[Any], broken: list[BrokenLine], *, headers: int) -> None:
        self.line = headers
        self._first = headers + 1
        self._number = number
        self._bad = bad
        self._broken = broken
        self._rows = 0
        self._breaks = 0
        self._reported = 0

    def of(self, chunk: pa.RecordBatch) -> np.ndarray[Any, np.dtype[np.int64]]:
        """The lines of the next rows; bad lines among them go to ``broken``."""
        numbers = np.array([row.number for row in self._bad], dtype=np.int64)
        good = np.arange(self._rows, self._rows + len(chunk))
        bad_before = np.searchsorted(numbers - self._first - np.arange(len(numbers)), good, side="right")
        records = good + bad_before + self._first
        inside = _breaks(chunk)
        lines = (
            records + self._breaks + np.concatenate(([0], np.cumsum(inside)[:-1])) + self._breaks_in_bad()[bad_before]
        )
        self.tell_bad(records, inside)
        self._rows += len(chunk)
        self._breaks += int(inside.sum())
        self.line = int(lines[-1])
        return lines

    def tell_bad(self, records: np.ndarray[Any, Any], inside: np.ndarray[Any, Any]) -> None:
        """Passes on the bad lines found since the last call, given the rows read with them."""
        breaks_in_bad = self._breaks_in_bad()
        for index in range(self._reported, len(self._bad)):
            row = self._bad[index]
            if len(records) and row.number > records[-1]:  # the reader is ahead: rows before it have not been counted
                return
            line = row.number + self._breaks + int(np.sum(inside[records < row.number])) + int(breaks_in_bad[index])
            self._broken.append(BrokenLine(self._number, line, row.text, row.reason))
            self._reported += 1

    def _breaks_in_bad(self) -> np.ndarray[Any, np.dtype[np.int64]]:
        return np.concatenate(([0], np.cumsum([row.text.count("\n") for row in self._bad], dtype=np.int64)))


def _open(path: Path, columns: Sequence[str], bad: list[Any], dialect: Dialect) -> pa.csv.CSVStreamingReader:
    def note(row: Any) -> str:
        fields = "1 field" if row.actual_columns == 1 else f"{row.actual_columns} fields"
        found = Malformed(row.text, f"has {fields}, the header has {row.expected_columns}")
        found = records.malformed.get(row.number, found)
        bad.append(_Bad(row.number, found.text, found.reason))
        return "skip"

    try:
        file = pa.input_stream(path, compression="gzip" if path.suffix.lower() == ".gz" else None)
        records = Records(path, file, dialect)
        return pa.csv.open_csv(
            pa.PythonFile(records),
            read_options=pa.csv.ReadOptions(
                use_threads=False,
                block_size=BLOCK,
                column_names=list(dialect.columns) or None,
            ),
            parse_options=pa.csv.ParseOptions(
                delimiter=dialect.delimiter,
                quote_char=dialect.quote,
                escape_char=dialect.escape or False,
                newlines_in_values=True,
                ignore_empty_lines=False,
                invalid_row_handler=note,
            ),
            convert_options=pa.csv.ConvertOptions(
                column_types={name: pa.string() for name in columns},
                strings_can_be_null=True,
                null_values=list(dialect.null),
                quoted_strings_can_be_null=False,
            ),
        )
    except pa.ArrowInvalid as error:
        first = "with the columns of the declaration" if dialect.columns else "with the column names in the first line"
        raise FeedError(f"{path.name} cannot be read: {error}. Expected CSV in {dialect.encoding} {first}.") from error
    except OSError as error:
        raise FeedError(f"{path.name} cannot be read: {error}") from error


def _breaks(chunk: pa.RecordBatch) -> np.ndarray[Any, np.dtype[np.int64]]:
    """The number of line breaks inside the fields of each row."""
    total = np.zeros(len(chunk), dtype=np.int64)
    for column in chunk.columns:
        found = pc.count_substring(column, "\n")
        if pc.max(found).as_py():
            total += found.fill_null(0).to_numpy(zero_copy_only=False)
    return total


def _has_value(chunk: pa.RecordBatch) -> np.ndarray[Any, np.dtype[np.bool_]] | None:
    """Which rows have any value; None when all do."""
    if any(column.null_count == 0 for column in chunk.columns):
        return None
    empty = np.ones(len(chunk), dtype=bool)
    for column in chunk.columns:
        empty &= column.is_null().to_numpy(zero_copy_only=False)
    return ~empty
