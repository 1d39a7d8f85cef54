"""What a store must be able to do. A further kind of store is one file with one class that does this."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from contextlib import AbstractContextManager
from typing import TYPE_CHECKING, Any, Literal, Protocol

if TYPE_CHECKING:
    import pyarrow as pa

IfBusy = Literal["wait", "skip", "fail"]


class Engine(Protocol):
    """The engine that holds the tables.

    Statements are handed over in the flavour of the core (PostgreSQL's, values as ``:name``) unless said otherwise, and
    compiled by the engine with ``core.sql.compile_for``. An implementation must

    * run everything between the beginning and the end of ``transaction`` at once or not at all, tables made and columns
      added included, and show it to others only when it ended;
    * keep temporary tables until ``discard`` or ``close``, whatever becomes of later transactions;
    * hand out ``hold`` for one table to one holder at a time, also across processes, and free it when its holder dies;
    * compare text by its code points, byte for byte, and NaN as equal to NaN;
    * give instants in UTC.
    """

    dialect: str
    """The name sqlglot has for its language."""
    locator: str
    """The pseudo column by which a row is found again within one transaction."""
    address: str
    """What to call the store in messages; never holds a secret."""

    def run(self, text: str, values: Mapping[str, Any] | None = None, *, work: str = ...) -> int:
        """Runs one statement; returns how many rows it inserted, updated or deleted (for other statements: anything)."""
        ...

    def ask(self, text: str, values: Mapping[str, Any] | None = None, *, work: str = ...) -> pa.Table:
        """The answer to one question."""
        ...

    def stage(self, rows: pa.RecordBatchReader, screen: str, values: Mapping[str, Any], *, work: str) -> None:
        """Runs ``screen`` (one statement of the stage of that name, in DuckDB's flavour) over a stream of rows.

        The stream must be read as it comes, never wholly in memory. Afterwards the working table ``screened`` is there.
        """
        ...

    def has_table(self, name: str) -> bool: ...

    def make_schema(self, name: str) -> None:
        """Makes a schema unless it is there."""
        ...

    def transaction(self) -> AbstractContextManager[None]: ...

    def hold(self, table: str, *, wait_s: float) -> AbstractContextManager[None]:
        """Holds one table for loading, its name compared without case.

        Raises Busy with who holds it when that is still so after ``wait_s`` seconds.
        """
        ...

    def on_discard(self, work: str) -> Callable[[], None]:
        """A function that may be called any time, from any thread: the working tables of that prefix can go."""
        ...

    def close(self) -> None: ...
