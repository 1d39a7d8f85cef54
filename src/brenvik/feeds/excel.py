"""Excel workbooks (``.xlsx``, ``.xlsm``): one sheet, with the names of the columns in one of its rows.

Cells have types of their own, which say little about a column: values therefore travel as text, like those of CSV. A day is
written as in ISO 8601, a number without needless decimals; an empty cell is null; what a formula came to when the workbook was
saved is its value, be it an error (``#DIV/0!``). Rows have the numbers that Excel shows, and rows without any value are none.
"""

from __future__ import annotations

import warnings
import zipfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import date, datetime, time, timedelta
from itertools import islice
from pathlib import Path
from typing import Any

import numpy as np
import openpyxl
import pyarrow as pa
from openpyxl.utils import get_column_letter
from openpyxl.utils.exceptions import InvalidFileException

from brenvik.engines.arrays import of_numbers, of_values
from brenvik.engines.arrow import types_of
from brenvik.errors import FeedError
from brenvik.feeds.protocol import BrokenLine, Chunk
from brenvik.feeds.reading import FIRST_SHEET, Sheet
from brenvik.merge.sequence import sequence_no
from brenvik.model.types import TEXT, ColumnType

_ROWS = 10_000
_LOOKED_AT = 30

Row = tuple[int, tuple[Any, ...]]


def columns_of(path: Path, sheet: Sheet = FIRST_SHEET) -> dict[str, ColumnType]:
    """The columns of the sheet, all of them text. Raises FeedError when the workbook cannot be read."""
    with _opened(path, sheet) as (header, _):
        names = [name for name in header if name is not None]
        return dict.fromkeys(types_of(pa.schema([(name, pa.string()) for name in names]), path.name), TEXT)


def guessed(path: Path) -> Sheet:
    """The first sheet with two columns, and its row with the column names: the widest of its first rows, all of it text. The
    first row of the first sheet where there is none."""
    with _workbook(path) as book:
        for place, found in enumerate(book.worksheets):
            rows = islice(found.iter_rows(values_only=True), _LOOKED_AT)
            filled = {line: [v for v in values if _text(v) is not None] for line, values in enumerate(rows, 1)}
            widest = max(map(len, filled.values()), default=0)
            wide = (
                line
                for line, values in filled.items()
                if len(values) == widest and all(isinstance(v, str) for v in values)
            )
            if widest > 1 and (line := next(wide, None)):
                return Sheet(found.title if place else None, line)
    return FIRST_SHEET


def read(
    path: Path,
    number: int,
    column_set: int,
    columns: Sequence[str],
    broken: list[BrokenLine],
    sheet: Sheet = FIRST_SHEET,
) -> Iterator[Chunk]:
    """The rows. Those with a value beside the named columns go to ``broken``."""
    with _opened(path, sheet) as (header, rows):
        places = [header.index(name) for name in columns]
        unnamed = [place for place, name in enumerate(header) if name is None]
        while some := list(islice(rows, _ROWS)):
            good: list[Row] = []
            for line, values in some:
                beside = [at for at in (*unnamed, *range(len(header), len(values))) if _at(values, at) is not None]
                if beside:
                    text = "; ".join(_text(value) or "" for value in values)
                    reason = f"has a value in column {get_column_letter(beside[0] + 1)}, which has no name"
                    broken.append(BrokenLine(number, line, text, reason))
                else:
                    good.append((line, values))
            arrays = [of_values([_at(values, place) for _, values in good], pa.string()) for place in places]
            lines = np.array([line for line, _ in good], dtype=np.int64)
            chunk = pa.record_batch(arrays, schema=pa.schema([(name, pa.string()) for name in columns]))
            yield Chunk(chunk, of_numbers(sequence_no(number, lines)), column_set)


@contextmanager
def _opened(path: Path, sheet: Sheet) -> Iterator[tuple[list[str | None], Iterator[Row]]]:
    """The names in the header, as far as there are any, and the rows below it that have a value."""
    with _workbook(path) as book:
        sheets = {found.title: found for found in book.worksheets}  # those with charts alone are not among them
        if sheet.name is not None and sheet.name not in sheets:
            raise FeedError(f"{path.name} has no sheet {sheet.name!r}; it has {', '.join(sheets)}.")
        found = sheets[sheet.name] if sheet.name else book.worksheets[0]
        found.reset_dimensions()  # some programs write wrong ones
        rows = enumerate(found.iter_rows(values_only=True), 1)
        header = [_text(value) for value in next((values for line, values in rows if line == sheet.header_row), ())]
        while header and header[-1] is None:
            header.pop()
        if not header:
            raise FeedError(
                f"{path.name}: row {sheet.header_row} of sheet {found.title!r} has no column names; declare the row that has "
                "them: excel = { header_row = … }"
            )
        yield header, ((line, values) for line, values in rows if any(_text(value) is not None for value in values))


@contextmanager
def _workbook(path: Path) -> Iterator[openpyxl.Workbook]:
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # of styles and other things that no row depends on
            book = openpyxl.load_workbook(path, read_only=True, data_only=True)
    except (InvalidFileException, zipfile.BadZipFile, KeyError, SyntaxError, ValueError, OSError) as error:
        raise FeedError(f"{path.name} is not a readable Excel workbook: {error}") from error
    try:
        yield book
    except (zipfile.BadZipFile, SyntaxError, ValueError, OSError) as error:  # malformed XML is a SyntaxError
        raise FeedError(f"{path.name} cannot be read: {error}. Nothing was loaded.") from error
    finally:
        book.close()


def _at(values: tuple[Any, ...], place: int) -> str | None:
    return _text(values[place]) if place < len(values) else None


def _text(value: Any) -> str | None:
    """A value as text; None for an empty cell."""
    match value:
        case None | "":
            return None
        case bool():
            return str(value).lower()
        case float():
            return str(int(value)) if value.is_integer() and abs(value) < 2**53 else repr(value)
        case datetime():
            return value.date().isoformat() if value.time() == time() else value.isoformat(" ")
        case timedelta():
            seconds = round(value.total_seconds())
            return f"{seconds // 3600:02}:{seconds // 60 % 60:02}:{seconds % 60:02}"
        case date() | time():
            return value.isoformat()
    return str(value)
