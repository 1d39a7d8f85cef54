"""How the files of a feed are read: what format they have, how their CSV is written, where the parts of a record stand."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from brenvik.errors import FeedError
from brenvik.merge.explain import KeyPlaces
from brenvik.merge.sql import member
from brenvik.model.feeds import Operations

Format = Literal["csv", "jsonl", "parquet"]
ENDINGS = (".csv", ".csv.gz", ".jsonl", ".jsonl.gz", ".parquet")


@dataclass(frozen=True)
class Dialect:
    """How a CSV file differs from RFC 4180.

    ``columns`` names them where the file has no header; ``null`` are texts that stand for null when they are not quoted;
    ``encoding`` is a name that Python knows.
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
    """Where in a record the parts of a change stand, as JSON pointers (RFC 6901); the empty one is the record itself.

    new_row, old_row
        The row as it is now, and as it was; a delete may have the old one only. None: records have no old rows.
    columns
        Columns that stand elsewhere in the record, by their pointers.
    keys
        The natural key of the table; a record whose rows differ in it is also a delete of the old key.
    operations
        The codes that tell a delete; None where all rows are upserts.
    expected
        The columns of a file without any record.
    """

    new_row: str = ""
    old_row: str | None = None
    columns: tuple[tuple[str, str], ...] = ()
    keys: tuple[str, ...] = ()
    operations: Operations | None = None
    expected: tuple[str, ...] = ()

    @property
    def is_declared(self) -> bool:
        """Whether someone said that parts stand elsewhere than in plain rows."""
        return bool(self.new_row or self.old_row is not None or self.columns)

    @property
    def key_places(self) -> KeyPlaces:
        """Where each column of the natural key stands in a record."""
        rows = [row for row in (self.new_row, self.old_row) if row is not None]
        elsewhere = dict(self.columns)
        return tuple(
            (name, (elsewhere[name],) if name in elsewhere else tuple(row + member(name) for row in rows))
            for name in self.keys
        )

    @property
    def derives(self) -> bool:
        """Whether a record can be two changes."""
        return self.old_row is not None and bool(self.operations and self.operations.deleting)


PLAIN_RECORD = Record()


@dataclass(frozen=True)
class Reading:
    """How files are read: CSV by a dialect, JSON Lines by where the parts of a record stand.

    Where one of them is declared, files whose names end otherwise are of that format.
    """

    dialect: Dialect | None = None
    record: Record = PLAIN_RECORD

    @property
    def csv(self) -> Dialect:
        return self.dialect or RFC_4180

    def format_of(self, path: Path) -> Format:
        """Raises FeedError when the name does not tell."""
        name = path.name.lower().removesuffix(".gz")
        if name.endswith(".parquet"):
            return "parquet"
        if name.endswith(".jsonl"):
            return "jsonl"
        if name.endswith(".csv") or self.dialect:
            return "csv"
        if self.record.is_declared:
            return "jsonl"
        raise FeedError(
            f"{path.name}: known are files that end in {', '.join(ENDINGS)}; mend the pattern under files, or say what "
            "they are with csv = { … } or record = { … }."
        )


PLAIN = Reading()
