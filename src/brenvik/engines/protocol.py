"""What a store must be able to do. A new kind of store is one package with one class."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from datetime import timedelta
from typing import TYPE_CHECKING, Any, Literal, Protocol

from brenvik.engines.turns import Turn
from brenvik.ledger.versions import Upgrade
from brenvik.merge.table_changes import TableChange

if TYPE_CHECKING:
    import pyarrow as pa

    from brenvik.ledger.records import LedgerEntry
    from brenvik.merge.capabilities import Capabilities
    from brenvik.merge.row_changes import RowChange
    from brenvik.merge.schema import StoredColumn
    from brenvik.merge.stored_rows import StoredRows
    from brenvik.merge.validate import Staging
    from brenvik.model.rules import TableRules
    from brenvik.model.types import ColumnType

IfBusy = Literal["wait", "skip", "fail"]


@dataclass(frozen=True)
class Compacted:
    """What was put in order in one table of files, before and after."""

    table: str
    files: tuple[int, int]
    """Files of rows."""
    deleted: tuple[int, int]
    """Deleted rows that are still in files."""
    snapshots: tuple[int, int]
    swept: int
    """Files that were removed because nothing referred to them."""
    swept_bytes: int


@dataclass(frozen=True)
class Relocated:
    """A table of a folder that was copied or moved, as its metadata name its files now."""

    table: str
    before: str
    """The folder whose files they named."""
    files: int
    """The number of data files and of files of deleted positions in them."""


@dataclass(frozen=True)
class Written:
    """What a run wrote: files, their bytes, and the rows that it deleted by position in others."""

    files: int
    bytes: int
    deleted: int


class Engine(Protocol):
    """The engine that holds the tables.

    Statements arrive in the core's dialect (PostgreSQL's, with values as ``:name``) unless said otherwise; the engine turns them
    into what it runs, with ``merge.sql.in_place`` or ``merge.sql.translate``. An implementation must

    * make everything between the beginning and the end of ``transaction`` atomic, including new tables and columns, and visible
      to others only at its end;
    * keep working relations until they are discarded (``on_discard``) or ``close`` is called, whatever happens to later
      transactions;
    * let one holder at a time have the ``lock`` of a table, also across processes, and free it when its holder dies;
    * compare text by code point, byte for byte, and NaN as equal to NaN;
    * return instants in UTC.
    """

    dialect: str
    """The name sqlglot has for its language."""
    capabilities: Capabilities
    address: str
    """The name of the store in messages; never contains a secret."""

    @property
    def turn(self) -> Turn:
        """Whose turn it is among the threads that share the store."""
        ...

    def statement(self, text: str, *, pretty: bool = False) -> str:
        """A statement as the engine would run it, with the core's names of working relations; ``pretty`` is for people."""
        ...

    def ask(
        self,
        text: str,
        values: Mapping[str, Any] | None = None,
        *,
        work: str = ...,
        types: Mapping[str, ColumnType] | None = None,
    ) -> pa.Table:
        """The result of a query; ``types`` names the types of columns for an engine that does not know them."""
        ...

    def rows(
        self,
        text: str,
        values: Mapping[str, Any] | None = None,
        *,
        work: str = ...,
        types: Mapping[str, ColumnType] | None = None,
    ) -> list[dict[str, Any]]:
        """The result of a small query, row by row."""
        ...

    def stage(self, rows: pa.RecordBatchReader, staging: Staging, values: Mapping[str, Any], *, work: str) -> None:
        """Makes a working relation from a stream of rows, which must be read as it comes, never completely into memory."""
        ...

    def has_table(self, name: str) -> bool: ...

    def columns_of(self, name: str) -> list[StoredColumn]:
        """The columns of a table in order; none when there is no such table."""
        ...

    def view(self, query: str) -> str:
        """Names a query, written in the store's own dialect, for this connection."""
        ...

    def malformed(self, name: str, columns: Mapping[str, ColumnType]) -> dict[str, int]:
        """How many values of which columns are not in this store's own notation of their types; none where it has such types."""
        ...

    def make(
        self,
        relation: str,
        query: str,
        values: Mapping[str, Any],
        *,
        work: str,
        view: bool = False,
        compares: Sequence[str] = (),
    ) -> int:
        """Makes a working relation from a query; returns how many rows it has, anything for a view. ``compares``: the working
        relations, quoted, that the query compares with a table."""
        ...

    def index_work(self, relation: str, keys: Sequence[str], *, work: str) -> None:
        """Makes rows of a working relation findable by natural key and by number without a full scan each time."""
        ...

    def current(self, rows: StoredRows, values: Mapping[str, Any], *, work: str) -> str:
        """A relation, quoted, with at least these rows of a table."""
        ...

    def apply(self, change: RowChange, values: Mapping[str, Any], *, work: str) -> int:
        """Changes rows of a table, within a transaction; returns how many."""
        ...

    def change_table(self, change: TableChange) -> None:
        """Makes or alters a table, within a transaction."""
        ...

    def record(self, entry: LedgerEntry, values: Mapping[str, Any] | None = None, *, work: str = ...) -> int:
        """Writes an entry of the ledger, within a transaction; returns how many rows that are."""
        ...

    def make_ledger(self) -> None:
        """Makes the tables and views of the ledger, within a transaction."""
        ...

    def upgrade_ledger(self, upgrade: Upgrade, logs: Mapping[str, str]) -> None:
        """Upgrades an older ledger, within a transaction; ``logs`` maps old names of change logs to new ones."""
        ...

    def missing_rights(self, tables: Sequence[str], *, own_schema: str) -> list[str]:
        """What grants the missing rights that loads of some tables need, each a statement or a sentence; neither the tables nor
        ``own_schema``, the schema of Brenvik's own tables, need to exist."""
        ...

    def transaction(self, of: TableRules | None = None) -> AbstractContextManager[None]:
        """``of`` are the rules of the table that the run is about; None where it is about the ledger alone."""
        ...

    def lock(self, table: str, *, wait_s: float) -> AbstractContextManager[None]:
        """Locks one table for loading; its name is compared without case.

        Raises Busy, which names the holder, when the lock is still taken after ``wait_s`` seconds.
        """
        ...

    def compact(self, tables: Sequence[str], *, keep: timedelta) -> list[Compacted]:
        """Compacts the files of tables, and those of the ledger where none is named; snapshots younger than ``keep`` stay. The
        rows are the same before and after. Stores without files: see ``InPlace``."""
        ...

    def scrub(self, tables: Sequence[str]) -> None:
        """Rewrites what holds the rows of some tables, of their change logs and of the ledger, so that nothing of deleted rows is
        left in files of the store; outside of a transaction. Older snapshots go. Does nothing for tables in memory."""
        ...

    def relocate(self) -> list[Relocated]:
        """Makes the metadata of tables name the files where they are now, after they were copied or moved completely. Stores that
        record no paths: see ``InPlace``."""
        ...

    def at_run(self, table: str, run: int, columns: Iterable[str]) -> str | None:
        """A relation with the rows of a table after one of its runs, where the store still has them with these columns."""
        ...

    def written(self, table: str) -> dict[int, Written]:
        """What runs wrote for a table, as far as the store remembers."""
        ...

    def reserve(self) -> str:
        """A prefix for the working relations of a run, which no others have until they are discarded and dropped. It is often
        that of an earlier run: a statement that was run before need not be parsed again."""
        ...

    def on_discard(self, work: str) -> Callable[[], None]:
        """A function that may be called at any time, from any thread: the working relations with that prefix can go."""
        ...

    def close(self) -> None: ...
