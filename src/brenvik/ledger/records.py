"""Values of the ledger: runs, loaded files, watermarks, extracts, the state of a table; and entries.

A store writes an entry its own way: as a row of a table, or as a line of a log.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from brenvik.merge.schema import Column
from brenvik.model.positions import Position, PositionKind
from brenvik.model.types import ColumnType


@dataclass(frozen=True)
class LoadedFile:
    """A file as of its load; ``number`` is its position in the run, from 1. ``modified_ns`` is its modification time in
    nanoseconds since 1970: a file with the same size and time counts as unchanged, otherwise the digest decides."""

    file: str
    size: int
    digest: str
    modified_ns: int = 0
    number: int = 0
    run: int = 0


@dataclass(frozen=True)
class Watermark:
    """The position up to which a feed has loaded, and the run that moved it there."""

    kind: PositionKind
    mark: Position
    run: int
    advanced_at: datetime


@dataclass(frozen=True)
class Extract:
    """A loaded extract: its feed, its time (as text), the part of the table it covers (None: all), and the column set of its
    rows (None: several)."""

    feed: str
    time: str
    scope: str | None
    column_set: int | None


@dataclass(frozen=True)
class Trimmed:
    """How far the change log of a table was trimmed: changes of runs up to ``run`` that hold from before ``before`` (as text) can
    be base states."""

    run: int
    before: str


@dataclass(frozen=True)
class TableState:
    """What the ledger knows of a table: read and written only while the table is locked.

    ``row_count`` and ``current_keys`` (current keys) are as the last run left them: large tables are not counted for each load.
    ``column_sets``: which columns its changes have, by the number of the column set.
    """

    columns: tuple[Column, ...]
    effective_type: ColumnType
    rules: Mapping[str, Any]
    high_order: tuple[str, ...] | None
    high_effective: str | None
    last_key: int
    row_count: int
    current_keys: int
    column_sets: Mapping[int, tuple[str, ...]]
    numbered_by_store: bool = False

    @property
    def types(self) -> dict[str, ColumnType]:
        return {column.name: column.type for column in self.columns}


@dataclass(frozen=True)
class Attempt:
    """What a run and a preview have in common. ``number`` is above those of all runs before."""

    number: int
    table: str
    feed: str
    kind: str
    source: str
    started_at: datetime


@dataclass(frozen=True)
class Run(Attempt):
    """A run that is recorded in the ledger."""

    def about(self) -> dict[str, object]:
        """The fields of every log record of a run."""
        return {"run": self.number, "table": self.table, "feed": self.feed}


@dataclass(frozen=True)
class Preview(Attempt):
    """A run that writes nothing; ``number`` is the one that it would have."""


@dataclass(frozen=True)
class NewRows:
    """New rows of a table of the ledger, all with the same columns."""

    table: str
    rows: Sequence[Mapping[str, Any]]


@dataclass(frozen=True)
class NewRowsFrom:
    """New rows of a table of the ledger: a query for all of its columns in order, which may read working relations."""

    table: str
    query: str


@dataclass(frozen=True)
class ChangedRows:
    """Rows of a table of the ledger that get other ``values``: those with the values of ``where`` (None is null), and of these
    only the ones with a number in ``numbers``, which names a column, where it is given."""

    table: str
    values: Mapping[str, Any]
    where: Mapping[str, Any] = field(default_factory=dict)
    numbers: tuple[str, Sequence[int]] | None = None


LedgerEntry = NewRows | NewRowsFrom | ChangedRows
