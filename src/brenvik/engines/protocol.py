"""What a store must be able to do. A further kind of store is one file with one class that does this."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from datetime import timedelta
from functools import cached_property
from typing import TYPE_CHECKING, Any, Literal, Protocol

from brenvik.engines.turns import Turn

if TYPE_CHECKING:
    import pyarrow as pa

    from brenvik.merge.prune import CurrentRows
    from brenvik.merge.schema import Capabilities, StoredColumn
    from brenvik.merge.validate import Staging
    from brenvik.model.rules import TableRules
    from brenvik.model.types import ColumnType

IfBusy = Literal["wait", "skip", "fail"]


@dataclass(frozen=True)
class Tidied:
    """What was put in order in one table of files, before and after."""

    table: str
    files: tuple[int, int]
    """Files of rows."""
    gone: tuple[int, int]
    """Rows that are gone and stand in files all the same."""
    snapshots: tuple[int, int]
    swept: int
    """Files that were taken away, as nothing needs them."""
    swept_bytes: int


@dataclass(frozen=True)
class Relocated:
    """A table of a folder that was copied or moved, as its metadata name its files now."""

    table: str
    before: str
    """The folder whose files they named."""
    files: int
    """How many of rows and of deleted positions they tell of."""


@dataclass(frozen=True)
class Written:
    """What a run wrote: files, their bytes, and the rows that it marked as gone in others."""

    files: int
    bytes: int
    gone: int


class Shared:
    """What every store has: threads take turns."""

    @cached_property
    def turn(self) -> Turn:
        return Turn()


class Hashing(Shared):
    """What stores do that join working tables by hashing: they need no indexes of them."""

    def index_work(self, relation: str, keys: Sequence[str], *, work: str) -> None:
        pass


class InPlace(Hashing):
    """What stores do about files that change their tables in place: nothing. Rows are found again by where they stand."""

    def current_rows(self, near: CurrentRows, values: Mapping[str, Any], *, work: str) -> None:
        pass

    def tidy(self, tables: Sequence[str], *, keep: timedelta) -> list[Tidied]:
        return []

    def relocate(self) -> list[Relocated]:
        return []

    def at_run(self, table: str, run: int, columns: Iterable[str]) -> str | None:
        return None

    def written(self, table: str) -> dict[int, Written]:
        return {}


class Engine(Protocol):
    """The engine that holds the tables.

    Statements are handed over in the flavour of the core (PostgreSQL's, values as ``:name``) unless said otherwise; the
    engine makes of them what it runs, with ``merge.sql.in_place`` or ``merge.sql.translate``. An implementation must

    * run everything between the beginning and the end of ``transaction`` at once or not at all, tables made and columns
      added included, and show it to others only when it ended;
    * keep temporary tables until ``discard`` or ``close``, whatever becomes of later transactions;
    * hand out ``hold`` for one table to one holder at a time, also across processes, and free it when its holder dies;
    * compare text by its code points, byte for byte, and NaN as equal to NaN;
    * give instants in UTC.
    """

    dialect: str
    """The name sqlglot has for its language."""
    capabilities: Capabilities
    address: str
    """What to call the store in messages; never holds a secret."""

    @property
    def turn(self) -> Turn:
        """Whose turn it is among the threads that share the store."""
        ...

    def statement(self, text: str, *, pretty: bool = False) -> str:
        """A statement as the engine would run it, its working tables named as the core names them; ``pretty`` for people."""
        ...

    def run(self, text: str, values: Mapping[str, Any] | None = None, *, work: str = ...) -> int:
        """Runs one statement; returns how many rows it inserted, updated or deleted, or put into the table that it made (for
        other statements: anything)."""
        ...

    def ask(
        self,
        text: str,
        values: Mapping[str, Any] | None = None,
        *,
        work: str = ...,
        types: Mapping[str, ColumnType] | None = None,
    ) -> pa.Table:
        """The answer to one question; ``types`` says by names what columns hold, for an engine that does not know."""
        ...

    def rows(self, text: str, values: Mapping[str, Any] | None = None, *, work: str = ...) -> list[dict[str, Any]]:
        """The answer to a small question, row by row."""
        ...

    def stage(self, rows: pa.RecordBatchReader, staging: Staging, values: Mapping[str, Any], *, work: str) -> None:
        """Makes a working table of a stream of rows, which must be read as it comes, never wholly in memory."""
        ...

    def has_table(self, name: str) -> bool: ...

    def columns_of(self, name: str) -> list[StoredColumn]:
        """The columns of a table in their order; none when there is no such table."""
        ...

    def view(self, query: str) -> str:
        """Gives a query, written in the store's own language, a name under which this connection knows it."""
        ...

    def malformed(self, name: str, columns: Mapping[str, ColumnType]) -> dict[str, int]:
        """How many values of which columns are not written as this store keeps their types; none where it has types itself."""
        ...

    def make_schema(self, name: str) -> None:
        """Makes a schema unless it is there."""
        ...

    def index(self, table: str, columns: Sequence[str], *, apart: str | None = None) -> None:
        """Sees to it that rows of a table are found by these columns without reading all of it; and best also those in which the
        column ``apart`` is true without those in which it is not."""
        ...

    def index_work(self, relation: str, keys: Sequence[str], *, work: str) -> None:
        """Sees to it that rows of a working table are found by their natural key, and by the numbers that it holds, without
        reading all of it each time."""
        ...

    def current_rows(self, near: CurrentRows, values: Mapping[str, Any], *, work: str) -> None:
        """From here to the end of the transaction nothing is asked of a table, and nothing done to it, but for these rows; said
        again, for these as well. What is costly to find several times is best found now."""
        ...

    def missing_rights(self, tables: Sequence[str], *, own_schema: str) -> list[str]:
        """What gives the rights that loads of some tables need and that are not there, each a statement or a sentence; the tables
        need not be there, nor ``own_schema``, in which Brenvik's own stand."""
        ...

    def transaction(self, of: TableRules | None = None) -> AbstractContextManager[None]:
        """``of`` are the rules of the table whose run it is; None where it is about the ledger alone."""
        ...

    def hold(self, table: str, *, wait_s: float) -> AbstractContextManager[None]:
        """Holds one table for loading, its name compared without case.

        Raises Busy with who holds it when that is still so after ``wait_s`` seconds.
        """
        ...

    def tidy(self, tables: Sequence[str], *, keep: timedelta) -> list[Tidied]:
        """Puts files of tables in order, and those of the ledger where none is named; snapshots that are younger than ``keep``
        stay. The rows are the same before and after. Stores without files: see ``InPlace``."""
        ...

    def relocate(self) -> list[Relocated]:
        """Has the metadata of tables name the files where they lie now, after they were copied or moved with all that belongs
        to them. Stores that name no paths: see ``InPlace``."""
        ...

    def at_run(self, table: str, run: int, columns: Iterable[str]) -> str | None:
        """A relation with the rows that a table had after a run of it, where the store still has them with these columns."""
        ...

    def written(self, table: str) -> dict[int, Written]:
        """What runs wrote for a table, as far as the store remembers it."""
        ...

    def on_discard(self, work: str) -> Callable[[], None]:
        """A function that may be called any time, from any thread: the working tables of that prefix can go."""
        ...

    def close(self) -> None: ...
