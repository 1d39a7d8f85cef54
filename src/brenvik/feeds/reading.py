"""How the files of a feed are read: their format, their CSV dialect, where the parts of a record are."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from brenvik.errors import FeedError
from brenvik.merge.explain import KeyPlaces
from brenvik.merge.sql import member
from brenvik.model.feeds import Operations

Format = Literal["csv", "excel", "fixed_width", "jsonl", "parquet"]
WORKBOOKS = (".xlsx", ".xlsm")
ENDINGS = (".csv", ".csv.gz", ".jsonl", ".jsonl.gz", ".parquet", *WORKBOOKS)


@dataclass(frozen=True)
class Dialect:
    """How a CSV file differs from RFC 4180.

    ``columns`` are the column names of files without a header; ``null`` are the unquoted texts that mean null; ``encoding`` is a
    name that Python knows.
    """

    delimiter: str = ","
    quote: str = '"'
    escape: str | None = None
    encoding: str = "utf-8"
    columns: tuple[str, ...] = ()
    null: tuple[str, ...] = ("",)


RFC_4180 = Dialect()


@dataclass(frozen=True)
class Record:
    """Where the parts of a change are in a record, as JSON pointers (RFC 6901); the empty one is the record itself.

    new_row, old_row
        The row after the change, and before it; a delete may have the old one only. None: records have no old rows.
    columns
        Columns that are elsewhere in the record, by pointer.
    keys
        The natural key of the table; a record whose rows differ in it is also a delete of the old key.
    operations
        The codes that mean a delete; None where all rows are upserts.
    expected
        The columns assumed for a file without any record.
    """

    new_row: str = ""
    old_row: str | None = None
    columns: tuple[tuple[str, str], ...] = ()
    keys: tuple[str, ...] = ()
    operations: Operations | None = None
    expected: tuple[str, ...] = ()

    @property
    def is_declared(self) -> bool:
        """Whether the declaration says that parts are elsewhere than in plain rows."""
        return bool(self.new_row or self.old_row is not None or self.columns)

    @property
    def key_places(self) -> KeyPlaces:
        """Where each column of the natural key is in a record."""
        rows = [row for row in (self.new_row, self.old_row) if row is not None]
        elsewhere = dict(self.columns)
        return tuple(
            (name, (elsewhere[name],) if name in elsewhere else tuple(row + member(name) for row in rows))
            for name in self.keys
        )

    @property
    def can_derive(self) -> bool:
        """Whether a record can be two changes."""
        return self.old_row is not None and bool(self.operations and self.operations.deleting)


PLAIN_RECORD = Record()


@dataclass(frozen=True)
class Sheet:
    """The sheet of a workbook (None: the first), and the number of its row with the column names."""

    name: str | None = None
    header_row: int = 1


FIRST_SHEET = Sheet()


@dataclass(frozen=True)
class Layout:
    """The places of columns in a line without delimiters: for each its first and last character, from 1; and how many lines the
    header has."""

    columns: tuple[tuple[str, int, int], ...]
    encoding: str = "utf-8"
    header_lines: int = 0


@dataclass(frozen=True)
class ReadOptions:
    """How files are read: CSV by dialect, JSON Lines by record, Excel by sheet, text without delimiters by layout.

    Where a dialect, record or layout is declared, files with unknown extensions are read in that format.
    """

    dialect: Dialect | None = None
    record: Record = PLAIN_RECORD
    sheet: Sheet = FIRST_SHEET
    layout: Layout | None = None

    @property
    def csv(self) -> Dialect:
        return self.dialect or RFC_4180

    def format_of(self, path: Path) -> Format:
        """The format of a file. Raises FeedError when its name does not show it."""
        name = path.name.lower().removesuffix(".gz")
        if name.endswith(".parquet"):
            return "parquet"
        if name.endswith(".jsonl"):
            return "jsonl"
        if name.endswith(WORKBOOKS):
            return "excel"
        if name.endswith(".csv") or self.dialect:
            return "csv"
        if self.layout:
            return "fixed_width"
        if self.record.is_declared:
            return "jsonl"
        raise FeedError(
            f"{path.name}: supported are files that end in {', '.join(ENDINGS)}; correct the pattern under files, or "
            "declare the format with csv = { … }, fixed_width = { … } or record = { … }."
        )


PLAIN = ReadOptions()
