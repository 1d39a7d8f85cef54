"""What a person declares about a feed: which files, or which table of which database, and how it is read."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from brenvik.errors import DeclarationError
from brenvik.model.positions import Span
from brenvik.model.value_formats import ValueFormats

if TYPE_CHECKING:
    from brenvik.model.rules import TableRules

Then = Literal["keep", "move", "delete"]
Rewritten = Literal["report", "load"]


@dataclass(frozen=True)
class Operations:
    """Which codes in which column mean insert, update or delete; case and surrounding blanks are ignored."""

    column: str
    insert: tuple[str, ...] = ("i", "insert")
    update: tuple[str, ...] = ("u", "update")
    delete: tuple[str, ...] = ("d", "delete")

    @property
    def keeping(self) -> tuple[str, ...]:
        return tuple(code.strip().lower() for code in (*self.insert, *self.update))

    @property
    def deleting(self) -> tuple[str, ...]:
        return tuple(code.strip().lower() for code in self.delete)


OBJECT_STORES = ("s3", "gs", "gcs", "abfs", "abfss")
"""The schemes of object stores."""


@dataclass(frozen=True)
class Connection:
    """Where a source is: the SQLAlchemy URL of a database, or the URL of an object store as Arrow reads it, with user and
    password in it or separate. Never shown in full."""

    name: str
    url: str = field(repr=False)
    user: str | None = field(default=None, repr=False)
    password: str | None = field(default=None, repr=False)
    folder: Path = Path()
    """The folder that the path of a SQLite file is relative to."""

    @property
    def has_files(self) -> bool:
        """Whether this is an object store, not a database."""
        return self.url.partition("://")[0].lower() in OBJECT_STORES


@dataclass(frozen=True)
class Origin:
    """The origin of a row, as the value of an added column.

    ``of`` is ``"file"`` (the name of the file, relative to the project), ``"line"`` (the number of the row's line in it) or
    ``"feed"`` (the name of the feed); ``file_name`` is a regular expression with one group: the part of the file's name (without
    folders) that it finds.
    """

    of: Literal["file", "line", "feed"] = "file"
    file_name: str | None = None

    def __post_init__(self) -> None:
        if self.of not in ("file", "line", "feed"):
            raise DeclarationError(f"expected 'file', 'line' or 'feed', got {self.of!r}")
        try:
            if self.file_name is None or re.compile(self.file_name).groups == 1:
                return
        except (TypeError, re.error):
            pass
        raise DeclarationError(f"expected a regular expression with one group, got {self.file_name!r}")


Added = str | int | float | bool | date | datetime | Origin


@dataclass(frozen=True)
class FeedColumns:
    """The mapping from the columns of a feed to those of the table.

    rename
        New names, by the feed's own names. All other declarations use the new names, except the watermark and the pointers of
        records, which refer to the source.
    add
        Columns that the feed lacks: constants, or the ``Origin`` of each row.
    values
        The formats of text values; None: the default formats.
    """

    rename: Mapping[str, str] = field(default_factory=dict)
    add: Mapping[str, Added] = field(default_factory=dict)
    values: ValueFormats | None = None

    def __post_init__(self) -> None:
        faults = [
            f"add.{name}: expected a string, a number, a boolean, a date, a datetime or an Origin, got {value!r}"
            for name, value in self.add.items()
            if not isinstance(value, (str, int, float, date, Origin))
        ]
        faults += [
            f"rename.{name}: expected a name, got {new!r}"
            for name, new in self.rename.items()
            if not (isinstance(new, str) and new)
        ]
        twice = sorted(name for name, times in Counter(self.rename.values()).items() if times > 1)
        faults += [f"rename: several columns would be named {', '.join(twice)}"] if twice else []
        if faults:
            raise DeclarationError("The columns of a feed are not valid:", faults)


AS_THEY_ARE = FeedColumns()


@dataclass(frozen=True)
class FileFeed:
    """A feed of files below the project folder, or in an object store where a connection is named.

    The fields are the keys of such a feed in ``brenvik.toml``, checked; besides, ``operations`` has the operation codes (None:
    all rows are upserts), ``then`` and ``move_to`` say what happens to loaded files, and ``unreadable_to`` where unreadable ones
    are moved ('': nowhere). ``extract_time`` maps ``file_name`` to a pattern, or ``column`` to the name of a column.
    ``columns`` has the keys ``rename``, ``add`` and ``values``.
    """

    name: str
    kind: str
    operations: Operations | None
    files: str
    file_order: str | None = None
    min_age: timedelta | None = None
    then: Then = "keep"
    move_to: str = ""
    csv: Mapping[str, Any] = field(default_factory=dict)
    """The fields of a ``feeds.reading.Dialect``."""
    record: Mapping[str, Any] = field(default_factory=dict)
    """Fields of a ``feeds.reading.Record``."""
    extract_time: Mapping[str, str] = field(default_factory=dict)
    extract_scope: str | None = None
    rewritten_files: Rewritten = "report"
    one_run_per_file: bool = False
    unreadable_to: str = ""
    excel: Mapping[str, Any] = field(default_factory=dict)
    """The fields of a ``feeds.reading.Sheet``."""
    fixed_width: Mapping[str, Any] = field(default_factory=dict)
    """The fields of a ``feeds.reading.Layout``."""
    columns: FeedColumns = AS_THEY_ARE
    connection: str | None = None

    @property
    def reads(self) -> str:
        return self.files


@dataclass(frozen=True)
class DatabaseFeed:
    """A feed that reads a table or query of a database, or of the store itself where no connection is named, by watermark
    or as a whole.

    The fields are the keys of such a feed in ``brenvik.toml``, checked; besides, ``operations`` has the operation codes (None:
    all rows are upserts), and ``columns`` has the keys ``rename``, ``add`` and ``values``. ``overlap``, ``lag`` and ``window``
    are times, or numbers for watermarks that are integers.
    """

    name: str
    kind: str
    operations: Operations | None
    connection: str | None
    watermark: str | None
    source_table: str | None = None
    query: str | None = None
    overlap: Span | None = None
    lag: Span | None = None
    start_at: str | None = None
    window: Span | None = None
    extract_time: Mapping[str, str] = field(default_factory=dict)
    extract_scope: str | None = None
    columns: FeedColumns = AS_THEY_ARE

    @property
    def reads(self) -> str:
        return f"{self.source_table or 'a query'} {f'by {self.watermark}' if self.watermark else 'whole'}"


FeedRules = FileFeed | DatabaseFeed


def faults_of_kind(feed: FeedRules, rules: TableRules) -> Iterator[str]:
    """Why a feed cannot be one of a table, by key of the feed: rows are appended to tables without a natural key, and only to
    those, each of them once."""
    if feed.kind != "append":
        if rules.appends:
            yield f'kind: is {feed.kind!r}, which needs a natural key; without one, rows are appended (kind = "append")'
        return
    if not rules.appends:
        yield "kind: is 'append', which is for tables without a natural key; use 'upserts' or 'changes'"
    if rules.exact_duplicates == "drop":
        return
    twice = 'would append rows again; remove it, or let the table drop them (exact_duplicates = "drop")'
    if isinstance(feed, DatabaseFeed) and feed.overlap:
        yield f"overlap: {twice}"
    if isinstance(feed, FileFeed) and feed.rewritten_files == "load":
        yield f"rewritten_files: {twice}"
